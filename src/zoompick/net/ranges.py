"""A remote file as bytes by position: few requests, a head that is read once, and a count of what it cost.

Source: RFC 9110, section 14 (range requests).
"""

from __future__ import annotations

import re
import threading
from dataclasses import dataclass

from zoompick.errors import SourceError
from zoompick.net.client import Client

HEAD_BYTES = 16 << 10
_AHEAD_BYTES = 8 << 10


@dataclass
class Cost:
    """Requests made and bytes received; safe to add to from several threads."""

    requests: int = 0
    received: int = 0

    def __post_init__(self) -> None:
        self._lock = threading.Lock()

    def add(self, received: int) -> None:
        """Count one request."""
        with self._lock:
            self.requests += 1
            self.received += received


class RemoteFile:
    """A file on a web server as a byte source; pieces that were fetched are kept while it lives.

    Raises
    ------
    SourceError
        At the first read: not reachable, or the server sends no ranges.
    """

    def __init__(self, url: str, client: Client, cost: Cost | None = None) -> None:
        self.url = url
        self.cost = cost or Cost()
        self._client = client
        self._pieces: list[tuple[int, bytes]] = []
        self._size: int | None = None
        self._lock = threading.Lock()

    @property
    def address(self) -> str:
        """The URL."""
        return self.url

    @property
    def size(self) -> int:
        """Length in bytes; asked for with the head."""
        if self._size is None:
            self.read(0, 1)
        return self._size or 0

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes, fewer only at the end; from memory where they were fetched before."""
        with self._lock:
            if self._size is None:
                self._fetch(0, max(HEAD_BYTES, length if offset == 0 else 0))
            length = max(0, min(length, (self._size or 0) - offset))
            for start, data in self._pieces:
                if start <= offset and offset + length <= start + len(data):
                    return data[offset - start : offset - start + length]
            self._fetch(offset, max(length, _AHEAD_BYTES))
            start, data = self._pieces[-1]
            return data[offset - start : offset - start + length]

    def _fetch(self, offset: int, length: int) -> None:
        last = offset + length - 1
        if self._size is not None:
            last = min(last, self._size - 1)

        def once() -> tuple[bytes, int]:
            with self._client.open(self.url, {"Range": f"bytes={offset}-{last}"}) as answer:
                if answer.status != 206:
                    raise SourceError(f"{self.url} is only sent whole.", "Download it: 'zoompick download'.")
                match = re.fullmatch(r"bytes (\d+)-(\d+)/(\d+)", answer.headers.get("Content-Range", ""))
                if not match or int(match[1]) != offset:
                    raise SourceError(f"{self.url} answered with another range than was asked for.", "Try again.")
                data = b"".join(answer.chunks())
                self.cost.add(len(data))
                return data, int(match[3])

        data, self._size = self._client.again(self.url, once)
        self._pieces.append((offset, data))
