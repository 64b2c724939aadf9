"""Connections whose answers must begin in good time: a server that lets headers trickle is given up.

A socket's time-out starts anew with each byte, so that it alone lets a header last for days.
"""

from __future__ import annotations

import http.client
import io
import time
from typing import Any

from urllib3 import HTTPConnectionPool, HTTPSConnectionPool
from urllib3.connection import HTTPConnection, HTTPSConnection

_TIMES = 2
"""Time-outs that a whole head may take, from the end of the request."""


class _Raw(io.RawIOBase):
    """A raw stream that gives up once its deadline is past; without one it only passes on."""

    def __init__(self, raw: Any) -> None:
        self._raw = raw
        self.deadline: float | None = None

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int | None:
        if self.deadline is not None and time.monotonic() > self.deadline:
            raise TimeoutError("timed out")
        got: int | None = self._raw.readinto(buffer)
        return got

    def close(self) -> None:
        self._raw.close()
        super().close()


class _Response(http.client.HTTPResponse):
    """An answer whose status line and headers must be here within twice the time-out of its socket."""

    def __init__(self, sock: Any, debuglevel: int = 0, method: str | None = None, url: str | None = None) -> None:
        super().__init__(sock, debuglevel, method, url)
        self._timeout_s = sock.gettimeout()
        self._raw = _Raw(self.fp.detach())
        self.fp = io.BufferedReader(self._raw)

    def begin(self) -> None:
        if self._timeout_s:
            self._raw.deadline = time.monotonic() + _TIMES * self._timeout_s
        super().begin()
        self._raw.deadline = None


class _Plain(HTTPConnection):
    response_class = _Response


class _Secure(HTTPSConnection):
    response_class = _Response


class _PlainPool(HTTPConnectionPool):
    ConnectionCls = _Plain


class _SecurePool(HTTPSConnectionPool):
    ConnectionCls = _Secure


POOLS = {"http": _PlainPool, "https": _SecurePool}
"""Kinds of connections for a pool manager."""
