"""What a web server's refusal means: errors by status, and the sentence in whatever body it sent."""

from __future__ import annotations

import re
from collections.abc import Mapping

from zoompick.addresses import host_of, origin_of
from zoompick.errors import SourceError
from zoompick.files import parse_json
from zoompick.net.retry import TRANSIENT

WANTS_LOGIN, FORBIDDEN, NOT_FOUND, GONE, RANGE_PAST_END = 401, 403, 404, 410, 416
TOO_MANY, UNAVAILABLE = 429, 503
_HINTS = {
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


class UnreachableError(SourceError):
    """No connection could be made, and trying again will not change that."""


class AnsweredError(SourceError):
    """The source answered with a status that trying again will not change."""

    def __init__(self, what: str, todo: str, status: int) -> None:
        super().__init__(what, todo)
        self.status = status


class RefusedError(AnsweredError):
    """The source did not take the request as it was put (status 400, 405, 422 or 501)."""


def refusal(url: str, status: int, headers: Mapping[str, str], body: bytes) -> SourceError:
    """The error for an answer of status 400 or above."""
    host, said = host_of(url), _said(body)
    what = f"{host} answered {status}{said} to {url}."
    if status in (TOO_MANY, UNAVAILABLE):
        after = headers.get("Retry-After")
        return TransientError(
            f"{host} is too busy: it answered {status}{said} to {url}.", "Try again later.", after, status
        )
    if status in TRANSIENT:
        return TransientError(what, "Try again later.", headers.get("Retry-After"), status)
    if status == WANTS_LOGIN:
        return AnsweredError(
            what,
            f"{host} wants a log-in: 'zoompick source login NAME', with `host` {origin_of(url)} where the source is "
            "another host.",
            status,
        )
    kind = RefusedError if status in (400, 405, 422, 501) else AnsweredError
    return kind(what, _HINTS.get(status, "Check the request."), status)


def is_refused(error: SourceError) -> bool:
    """True when an error proves that the source did not take the request.

    No connection, or an answer that says so. A gateway that gave up (500, 502, 504) does not know, nor does anybody
    after a connection that broke.
    """
    if isinstance(error, TransientError):
        return error.status in (TOO_MANY, UNAVAILABLE)
    return isinstance(error, AnsweredError | UnreachableError)


def _said(body: bytes) -> str:
    """What an error body says, of whatever shape, in a few words."""
    try:
        value = parse_json(body.decode("utf-8", "replace"))
    except ValueError:
        return ""
    for key in ("description", "detail", "message", "title", "error_description", "error"):
        if isinstance(value, dict) and isinstance(value.get(key), str):
            text = re.sub(r"[\x00-\x1f]+", " ", value[key])
            return f" ({text[:160]})"
    return ""
