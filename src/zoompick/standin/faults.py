"""Troubles that can be switched on for tests: latency, cut connections, too many requests, server errors."""

from __future__ import annotations

import asyncio
import random
import threading
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from starlette.responses import JSONResponse

NAMES = {
    "latency": "wait this many seconds before each answer (latency:0.2)",
    "cut": "end this share of file transfers half-way (cut:0.3)",
    "busy": "answer this share of requests with 429 and Retry-After (busy:0.2)",
    "error": "answer this share of requests with 500 (error:0.1)",
    "jobs": "let this share of orders fail (jobs:0.3)",
    "queue": "let an order wait this many seconds before it is worked on (queue:30)",
    "expire": "keep what was ordered only this many seconds (expire:60)",
    "token": "let tokens end after this many seconds (token:5)",
}


@dataclass(frozen=True)
class Faults:
    """How much of each trouble."""

    latency: float = 0.0
    cut: float = 0.0
    busy: float = 0.0
    error: float = 0.0
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
            values[name] = float(amount or 0.2)
        return cls(**values)


class FaultyApp:
    """An ASGI application with troubles in front of it; the same sequence of requests meets the same ones."""

    def __init__(self, app: Any, faults: Faults, seed: int = 1) -> None:
        self.app = app
        self.faults = faults
        self._random = random.Random(seed)
        self._lock = threading.Lock()

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
        elif scope["path"].startswith("/files/") and self._roll() < self.faults.cut:
            await self.app(scope, receive, _cutting(send))
        else:
            await self.app(scope, receive, send)


def _cutting(send: Any) -> Any:
    """Let half of the announced bytes through, then break the connection."""
    left: list[int] = []

    async def cut(message: Any) -> None:
        if message["type"] == "http.response.start":
            length = next((int(value) for key, value in message["headers"] if key == b"content-length"), 0)
            left.append(length // 2)
            await send(message)
            return
        body = message.get("body", b"")
        if left and len(body) > left[0]:
            await send({"type": "http.response.body", "body": body[: left[0]], "more_body": True})
            raise ConnectionResetError("cut on request")
        if left:
            left[0] -= len(body)
        await send(message)

    return cut
