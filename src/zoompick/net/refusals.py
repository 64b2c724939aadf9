"""What a web server's refusal means: errors by status, and the sentence in whatever body it sent."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from urllib.parse import urlsplit

from zoompick.errors import SourceError
from zoompick.net.retry import TRANSIENT

WANTS_LOGIN, FORBIDDEN, NOT_FOUND, GONE, RANGE_PAST_END = 401, 403, 404, 410, 416
_HINTS = {
    WANTS_LOGIN: "The source wants a log-in: 'zoompick source login NAME'.",
    FORBIDDEN: "The source does not allow this: a log-in or an order may.",
    NOT_FOUND: "Check the address.",
    GONE: "The source was closed or has moved: look for its new address.",
}


class TransientError(SourceError):
    """A request failed in a way that may pass: worth trying again.

    ``status`` is that of the answer; 0 when none came, so that nobody knows whether the request was taken.
    """

    def __init__(self, what: str, todo: str = "", retry_after: str | None = None, status: int = 0) -> None:
        super().__init__(what, todo)
        self.retry_after, self.status = retry_after, status


class AnsweredError(SourceError):
    """The source answered with a status that trying again will not change."""

    def __init__(self, what: str, todo: str, status: int) -> None:
        super().__init__(what, todo)
        self.status = status


class RefusedError(AnsweredError):
    """The source did not take the request as it was put (status 400, 405, 422 or 501)."""


def refusal(url: str, status: int, headers: Mapping[str, str], body: bytes) -> SourceError:
    """The error for an answer of status 400 or above."""
    what = f"{host_of(url)} answered {status}{_said(body)} to {without_secrets(url)}."
    if status in TRANSIENT:
        return TransientError(what, "Try again later.", headers.get("Retry-After"), status)
    kind = RefusedError if status in (400, 405, 422, 501) else AnsweredError
    return kind(what, _HINTS.get(status, "Check the request."), status)


def host_of(url: str) -> str:
    """Host and port, or the text itself where there is none."""
    return urlsplit(url).netloc.rpartition("@")[2] or url


def without_secrets(url: str) -> str:
    """An address for people: no user, no query, which may hold a signature."""
    parts = urlsplit(url)
    return parts._replace(netloc=host_of(url), query="…" if parts.query else "", fragment="").geturl()


def _said(body: bytes) -> str:
    """What an error body says, of whatever shape, in a few words."""
    try:
        value = json.loads(body.decode("utf-8", "replace"))
    except ValueError:
        return ""
    for key in ("description", "detail", "message", "title", "error_description", "error"):
        if isinstance(value, dict) and isinstance(value.get(key), str):
            text = re.sub(r"[\x00-\x1f]+", " ", value[key])
            return f" ({text[:160]})"
    return ""
