"""Files of a folder some milliseconds away: as little work a request as Python allows, so that clients are measured.

Source: RFC 9110, section 14 (ranges), RFC 9112 (HTTP/1.1 with connections that stay open).
"""

from __future__ import annotations

import asyncio
import contextlib
import re
import threading
from collections.abc import Iterator
from pathlib import Path

_RANGE = re.compile(rb"\r\nrange: bytes=(\d+)-(\d+)", re.IGNORECASE)


class _Far(asyncio.Protocol):
    """One connection; requests on it are answered one after the other, each after the delay."""

    def __init__(self, folder: Path, delay_s: float) -> None:
        self.folder, self.delay_s = folder, delay_s
        self.waiting = b""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self.transport = transport

    def data_received(self, data: bytes) -> None:
        self.waiting += data
        while b"\r\n\r\n" in self.waiting:
            head, _, self.waiting = self.waiting.partition(b"\r\n\r\n")
            asyncio.get_running_loop().call_later(self.delay_s, self.answer, head)

    def answer(self, head: bytes) -> None:
        method, target, _ = head.split(b" ", 2)
        name = target.decode().lstrip("/")
        path = self.folder / ("tile.jpg" if name.startswith("t-") else name)
        size = path.stat().st_size
        asked = _RANGE.search(head)
        first, last = (int(asked[1]), min(int(asked[2]), size - 1)) if asked else (0, size - 1)
        lines = [
            "HTTP/1.1 206 Partial Content" if asked else "HTTP/1.1 200 OK",
            f"Content-Length: {last + 1 - first}",
        ]
        lines += ['ETag: "one"', "Accept-Ranges: bytes"]
        lines += [f"Content-Range: bytes {first}-{last}/{size}"] if asked else []
        body = b""
        if method == b"GET":
            with path.open("rb") as file:
                file.seek(first)
                body = file.read(last + 1 - first)
        self.transport.write("\r\n".join([*lines, "", ""]).encode() + body)
        if b"connection: close" in head.lower():
            self.transport.close()


@contextlib.contextmanager
def far_server(folder: Path, delay_s: float) -> Iterator[str]:
    """Serve a folder from a thread; gives the address."""
    loop = asyncio.new_event_loop()
    server = loop.run_until_complete(loop.create_server(lambda: _Far(folder, delay_s), "127.0.0.1", 0))
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(5)
