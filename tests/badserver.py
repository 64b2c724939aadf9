"""A server that misbehaves as the first word of its paths says."""

from __future__ import annotations

import base64
import contextlib
import http.server
import json
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import ClassVar

BODY = b"II*\0" + bytes(range(256)) * 4000
MODIFIED = "Wed, 01 Jan 2025 00:00:00 GMT"


class Handler(http.server.BaseHTTPRequestHandler):
    """It counts requests and remembers their ranges, and what they said of who asks."""

    protocol_version = "HTTP/1.1"
    seen: ClassVar[list[tuple[str, str | None]]] = []
    keys: ClassVar[list[tuple[str, str]]] = []
    tokens: ClassVar[list[str]] = []
    files: ClassVar[dict[str, bytes]] = {}

    def do_HEAD(self):
        self.do_GET()

    def do_POST(self):
        form = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.seen.append((self.path, form))
        token = f"token-{len(self.tokens) + 1}"
        self.tokens.append(token)
        told = {"access_token": token, "expires_in": 3600, "refresh_token": f"again-{token}"}
        self.send(200, json.dumps(told).encode())

    def do_GET(self):
        word, *rest = self.path.partition("?")[0].strip("/").split("/")
        asked = self.headers.get("Range")
        self.keys.append((self.path, self.headers.get("Authorization", "")))
        count = sum(path == self.path for path, _ in self.seen)
        self.seen.append((self.path, asked))
        etag = '"two"' if word in ("changed", "edited", "stubborn") and count else '"one"'
        if word in ("silent", "headless"):
            self.slowly([b"HTTP/1.1 200 OK\r\nX-Long: ", *[b"a"] * 99] if word == "headless" else [])
            with contextlib.suppress(OSError):
                self.connection.settimeout(60)
                self.connection.recv(1)
        elif word == "overlong":
            self.send(206, BODY * 60, start=int(asked.removeprefix("bytes=").split("-")[0]), length=len(BODY) * 60)
        elif word == "status":
            self.send(int(rest[0]), b'{"description": "no\\nway"}')
        elif word == "html":
            self.send(200, b"<!DOCTYPE html><p>Please log in</p>", kind="application/octet-stream")
        elif word == "page":
            self.send(200, b"<p>Please log in</p>", kind="text/html; charset=utf-8")
        elif word == "to":
            self.send(302, b"", location=f"http://{'/'.join(rest)}")
        elif word == "flaky" and count < 2:
            self.send(503, b"")
        elif word == "signed" and "sign=new" not in self.path:
            self.send(403, b'{"message": "expired"}')
        elif word == "locked" and not self.may_pass():
            self.send(401, b"")
        elif word == "only" and self.path not in self.files:
            self.send(404, b"")
        elif word == "nohead" and self.command == "HEAD":
            self.send(405, b"")
        else:
            self.file(word, asked, etag, count)

    def may_pass(self) -> bool:
        """The newest token, or the one user there is."""
        basic = "Basic " + base64.b64encode(b"ann:secret").decode()
        return self.headers.get("Authorization") in (basic, f"Bearer {self.tokens[-1] if self.tokens else 'given'}")

    def file(self, word: str, asked: str | None, etag: str, count: int) -> None:
        whole = self.files.get(self.path, BODY)
        start, stop = 0, len(whole)
        validator = MODIFIED if word == "dates" else etag
        fits = word == "stubborn" or self.headers.get("If-Range", validator) == validator
        wants_part = asked and fits and word not in ("norange", "whole")
        if wants_part:
            first, last = asked.removeprefix("bytes=").split("-")
            start, stop = int(first), min(int(last) + 1, len(whole)) if last else len(whole)
        if word == "otherrange" and start and count == 1:
            start -= 10
        part = whole[start:stop]
        cuts = {"cut": 1, "norange": 1, "changed": 1, "otherrange": 1, "dates": 1, "tworounds": 5, "stubborn": 1}
        sent = len(part) // 2 if count < cuts.get(word, 0) else len(part)
        headers = {"Last-Modified": MODIFIED} if word == "dates" else {"ETag": etag}
        self.send(
            206 if wants_part else 200,
            part,
            start=start,
            stop=sent,
            more=headers,
            length=len(whole),
            slow=word == "trickle",
        )

    def send(self, status, body, start=0, stop=None, kind="image/tiff", location="", more=None, slow=False, length=0):
        self.send_response(status)
        told = {"Content-Length": str(len(body)), "Content-Type": kind, "Location": location} | (more or {})
        if status == 206:
            told["Content-Range"] = f"bytes {start}-{start + len(body) - 1}/{length}"
        for key, value in told.items():
            if value:
                self.send_header(key, value)
        self.end_headers()
        if self.command == "HEAD":
            return
        if slow:
            self.slowly([body[place : place + 1] for place in range(40)])
            return
        self.wfile.write(body[:stop])
        if stop is not None and stop < len(body):
            self.close_connection = True

    def slowly(self, parts):
        self.close_connection = True
        with contextlib.suppress(OSError):
            for part in parts:
                self.wfile.write(part)
                time.sleep(0.05)

    def log_message(self, *args):
        pass


class Patient(http.server.ThreadingHTTPServer):
    """A server that says nothing of clients that leave."""

    def handle_error(self, request, client_address):
        if not isinstance(sys.exception(), ConnectionError):
            super().handle_error(request, client_address)


@contextmanager
def serving() -> Iterator[str]:
    """Serve on a free port; gives the address."""
    Handler.seen, Handler.keys, Handler.tokens, Handler.files = [], [], [], {}
    server = Patient(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
