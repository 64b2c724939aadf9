"""Who may ask the archive for what it does not give to all: one account, by password or by token."""

from __future__ import annotations

import base64
import secrets
import threading
import time
from typing import Any
from urllib.parse import parse_qs

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, PlainTextResponse
from starlette.routing import Route

USER, PASSWORD = "visitor", "ostrell"
CLIENT_ID, CLIENT_SECRET = "visitor-tool", "ostrell-tool"


class Accounts:
    """Tokens that were given out, and how long they hold.

    Sources: RFC 6749, sections 4.3, 4.4, 5 and 6; RFC 6750, section 3; RFC 7617.
    """

    def __init__(self, token_s: float = 3600.0) -> None:
        self.token_s = token_s
        self._ends: dict[str, float] = {}
        self._refreshes: set[str] = set()
        self._lock = threading.Lock()

    def need(self, request: Request) -> None:
        """Refuse with 401 whoever is not known."""
        scheme, _, word = request.headers.get("authorization", "").partition(" ")
        with self._lock:
            known = scheme.lower() == "bearer" and self._ends.get(word, 0) > time.monotonic()
        if scheme.lower() == "basic":
            known = secrets.compare_digest(word.encode(), base64.b64encode(f"{USER}:{PASSWORD}".encode()))
        if not known:
            ways = {"WWW-Authenticate": 'Basic realm="ostrell", Bearer'}
            raise HTTPException(401, "an account is needed: see the log-in link of the landing page", ways)

    async def token(self, request: Request) -> JSONResponse:
        """The token endpoint."""
        form = {key: values[0] for key, values in parse_qs((await request.body()).decode("utf-8", "replace")).items()}
        grants: dict[str, bool] = {
            "password": (form.get("username"), form.get("password")) == (USER, PASSWORD),
            "client_credentials": (form.get("client_id"), form.get("client_secret")) == (CLIENT_ID, CLIENT_SECRET),
            "refresh_token": form.get("refresh_token") in self._refreshes,
        }
        if not grants.get(form.get("grant_type", ""), False):
            return JSONResponse({"error": "invalid_grant", "error_description": "these are not known here"}, 400)
        return JSONResponse(self._given())

    def _given(self) -> dict[str, Any]:
        token, refresh = secrets.token_urlsafe(18), secrets.token_urlsafe(18)
        with self._lock:
            self._ends[token] = time.monotonic() + self.token_s
            self._refreshes.add(refresh)
        return {
            "access_token": token, "token_type": "Bearer", "expires_in": int(self.token_s), "refresh_token": refresh,
        }  # fmt: skip

    def routes(self) -> list[Route]:
        """Where tokens are had."""
        return [
            Route("/account", _about),
            Route("/account/form", _form),
            Route("/account/token", self.token, methods=["POST"]),
        ]


async def _about(request: Request) -> PlainTextResponse:
    """There is one account, for everybody."""
    return PlainTextResponse(
        f"User {USER}, password {PASSWORD}. OAuth 2.0: client {CLIENT_ID}, secret {CLIENT_SECRET}, "
        f"tokens from {str(request.base_url).rstrip('/')}/account/token.\n"
    )


async def _form(request: Request) -> HTMLResponse:
    """The page that people are led to who ask for a file without an account."""
    return HTMLResponse("<!DOCTYPE html><title>Log in</title><h1>Please log in</h1><p><a href='/account'>Account</a>")
