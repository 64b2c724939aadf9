"""Troubles that can be switched on for tests: slow, busy, broken, changed, redirected and spoiled answers."""

from __future__ import annotations

import asyncio
import itertools
import random
import threading
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from starlette.responses import JSONResponse, RedirectResponse

NAMES = {
    "latency": "wait this many seconds before each answer (latency:0.2)",
    "busy": "answer this share of requests with 429 and Retry-After (busy:0.2)",
    "error": "answer this share of requests with 500 (error:0.1)",
    "cut": "end this share of file transfers at a random place (cut:0.3)",
    "trickle": "let this share of files come byte by byte (trickle:0.1)",
    "length": "send this share of files too short, as if that were all (length:0.2)",
    "checksum": "turn a bit in this share of files (checksum:0.2)",
    "whole": "answer this share of requests for a part with the whole file (whole:0.5)",
    "edited": "give this share of answers an ETag of its own, as if the file had changed (edited:0.5)",
    "login": "lead this share of requests for files to a log-in page (login:0.2)",
    "elsewhere": "lead this share of requests for files to another host (elsewhere:1)",
    "jobs": "let this share of orders fail (jobs:0.3)",
    "queue": "let an order wait this many seconds before it is worked on (queue:30)",
    "expire": "keep what was ordered only this many seconds (expire:60)",
    "token": "let tokens end after this many seconds (token:5)",
}
OTHER_HOST = "localhost"
"""Another name of the same machine: to a client it is another host."""
_SPOILING = ("cut", "trickle", "length", "checksum", "whole", "edited", "login", "elsewhere")


@dataclass(frozen=True)
class Faults:
    """How much of each trouble."""

    latency: float = 0.0
    busy: float = 0.0
    error: float = 0.0
    cut: float = 0.0
    trickle: float = 0.0
    length: float = 0.0
    checksum: float = 0.0
    whole: float = 0.0
    edited: float = 0.0
    login: float = 0.0
    elsewhere: float = 0.0
    jobs: float = 0.0
    queue: float = 1.0
    expire: float = 3600.0
    token: float = 3600.0

    @classmethod
    def parse(cls, texts: Iterable[str]) -> Faults:
        """Read ``name:amount`` words; ValueError for what is not understood."""
        values: dict[str, float] = {}
        for text in texts:
            name, _, amount = text.partition(":")
            if name not in NAMES:
                raise ValueError(f"'{text}' is no known trouble")
            try:
                values[name] = float(amount or 0.2)
            except ValueError:
                raise ValueError(f"'{amount}' in '{text}' is no number") from None
            if not values[name] >= 0:
                raise ValueError(f"'{text}' is below nothing")
        return cls(**values)


class FaultyApp:
    """An ASGI application with troubles in front of it; the same sequence of requests meets the same ones."""

    def __init__(self, app: Any, faults: Faults, seed: int = 1) -> None:
        self.app = app
        self.faults = faults
        self._random = random.Random(seed)
        self._lock = threading.Lock()
        self._versions = itertools.count(1)

    def _roll(self) -> float:
        with self._lock:
            return self._random.random()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Serve one request, or spoil it."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        if self.faults.latency:
            await asyncio.sleep(self.faults.latency)
        roll = self._roll()
        if roll < self.faults.busy:
            answer = JSONResponse({"code": "TooManyRequests"}, 429, headers={"Retry-After": "1"})
            await answer(scope, receive, send)
        elif roll < self.faults.busy + self.faults.error:
            await JSONResponse({"code": "InternalServerError"}, 500)(scope, receive, send)
        elif scope["path"].startswith("/files/"):
            await self._file(scope, receive, send)
        else:
            await self.app(scope, receive, send)

    async def _file(self, scope: Any, receive: Any, send: Any) -> None:
        """Send a file; each of the troubles of files strikes on its own."""
        struck = {name for name in _SPOILING if self._roll() < getattr(self.faults, name)}
        headers = {key: value.decode("latin-1") for key, value in scope["headers"]}
        host, _, port = headers.get(b"host", "").partition(":")
        if host == OTHER_HOST:
            if b"authorization" in headers:
                await JSONResponse({"description": "a log-in of another host came here"}, 400)(scope, receive, send)
                return
        elif "elsewhere" in struck:
            await RedirectResponse(f"http://{OTHER_HOST}:{port}{scope['path']}", 302)(scope, receive, send)
            return
        if "login" in struck:
            await RedirectResponse("/account/form", 302)(scope, receive, send)
            return
        if "whole" in struck:
            scope = scope | {"headers": [pair for pair in scope["headers"] if pair[0] != b"range"]}
        await self.app(scope, receive, self._spoiled(send, struck) if scope["method"] == "GET" else send)

    def _spoiled(self, send: Any, struck: set[str]) -> Any:
        if "edited" in struck:
            send = _with_head(send, lambda told: told | {b"etag": b'"version-%d"' % next(self._versions)})
        if "checksum" in struck:
            send = _turning_a_bit(send)
        if "trickle" in struck:
            send = _trickling(send)
        if "length" in struck:
            send = _ending_early(send, lambda length: int(length * self._roll()), announced=True)
        elif "cut" in struck:
            send = _ending_early(send, lambda length: int(length * self._roll()), announced=False)
        return send


def _with_head(send: Any, changed: Callable[[dict[bytes, bytes]], Mapping[bytes, bytes]]) -> Any:
    """Let an answer through with other headers."""

    async def sent(message: Any) -> None:
        if message["type"] == "http.response.start":
            message = message | {"headers": list(changed(dict(message["headers"])).items())}
        await send(message)

    return sent


def _turning_a_bit(send: Any) -> Any:
    """Spoil the last byte of the first piece: the file's head still looks well."""
    is_done = False

    async def sent(message: Any) -> None:
        nonlocal is_done
        if body := message.get("body", b""):
            if not is_done:
                message = message | {"body": body[:-1] + bytes([body[-1] ^ 1])}
            is_done = True
        await send(message)

    return sent


def _trickling(send: Any) -> Any:
    async def sent(message: Any) -> None:
        body = message.get("body", b"")
        for place in range(len(body)):
            await send({"type": "http.response.body", "body": body[place : place + 1], "more_body": True})
            await asyncio.sleep(0.05)
        await send(message | {"body": b""} if body else message)

    return sent


def _ending_early(send: Any, most: Callable[[int], int], announced: bool) -> Any:
    """Let some of the bytes through; ``announced`` as if that were all, else the connection breaks there."""
    left = -1

    async def sent(message: Any) -> None:
        nonlocal left
        if message["type"] == "http.response.start":
            headers = dict(message["headers"])
            length = int(headers.get(b"content-length", b"0"))
            left = most(length)
            if announced:
                message = message | {"headers": list((headers | {b"content-length": str(left).encode()}).items())}
            await send(message)
            return
        body = message.get("body", b"")[: max(left, 0)]
        is_end = len(message.get("body", b"")) > left
        left -= len(body)
        if is_end and not announced:
            await send({"type": "http.response.body", "body": body, "more_body": True})
            raise ConnectionResetError("cut on request")
        await send(message | {"body": body})

    return sent
