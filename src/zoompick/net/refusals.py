"""What a web server's refusal means: errors by status, and the sentence in whatever body it sent."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import parse_qsl, unquote, urlsplit

from zoompick.addresses import WITHHELD, host_of, origin_of, split
from zoompick.errors import SourceError
from zoompick.files import parse_json
from zoompick.net import objects
from zoompick.net.authority import Authority
from zoompick.net.login import LEAST_HIDDEN, NOTHING, Carried
from zoompick.net.retry import TRANSIENT

WANTS_LOGIN, FORBIDDEN, NOT_FOUND, GONE, RANGE_PAST_END = 401, 403, 404, 410, 416
TOO_MANY, UNAVAILABLE = 429, 503
EXPIRED = (WANTS_LOGIN, FORBIDDEN, GONE)
"""Answers after which the address is asked for again: it may have been signed for a time."""
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


class ExpiredError(AnsweredError):
    """An address that was signed for a time, which is over."""


@dataclass(frozen=True, slots=True)
class Asked:
    """Who asked: what went with the request, and on whose behalf it was made; of object storage how, in words."""

    sent: Carried = NOTHING
    authority: Authority | None = None
    method: str = "GET"
    storage: str = ""

    @property
    def is_of_source(self) -> bool:
        """True where a source is named that a person can log in to."""
        return self.authority is not None and bool(self.authority.source)

    def command(self, url: str) -> str:
        """How a person logs in for an address."""
        if self.authority is None or not self.authority.source:
            return f"'zoompick source add NAME {origin_of(url)}', then 'zoompick source login NAME'"
        name = self.authority.source
        if self.authority.is_own(url):
            return f"'zoompick source login {name}'"
        return f"'zoompick source login {name} --host {origin_of(url)}', or --also where {name}'s own log-in is valid"


def refusal(
    url: str, status: int, headers: Mapping[str, str], body: bytes, asked: Asked | None = None
) -> SourceError:
    """The error for an answer of status 400 or above.

    Parameters
    ----------
    asked : Asked, optional
        Who asked; what a server echoes of a secret is not shown.
    """
    asked = asked or Asked()
    host, said = host_of(url), _without_echo(url, asked.sent.without_secrets(_said(body)))
    what = f"{host} answered {status}{said} to {url}."
    if asked.storage and status not in TRANSIENT:
        return AnsweredError(*objects.refused(url, status, said, asked.storage), status)
    if status in (TOO_MANY, UNAVAILABLE):
        after = headers.get("Retry-After")
        return TransientError(
            f"{host} is too busy: it answered {status}{said} to {url}.", "Try again later.", after, status
        )
    if status in TRANSIENT:
        return TransientError(what, "Try again later.", headers.get("Retry-After"), status)
    if status in (WANTS_LOGIN, FORBIDDEN, GONE) and _has_expired(url, body):
        return ExpiredError(
            f"{host} answered {status}{said}: the address was signed for a time that is over.",
            "Give the command again: the address is asked for anew; of a list in a file, search again.",
            status,
        )
    if status == WANTS_LOGIN:
        return AnsweredError(*_closed(url, what, headers, asked), status)
    kind = RefusedError if status in (400, 405, 422, 501) else AnsweredError
    return kind(what, _HINTS.get(status, "Check the request."), status)


def _without_echo(url: str, said: str) -> str:
    """What a server said, without the secrets of the address that it was asked at."""
    _, secret = split(url)
    values = [*secret.values, *secret.user.split(":")] if secret else []
    for value in sorted({form for one in values for form in (one, unquote(one))}, key=len, reverse=True):
        said = said.replace(value, WITHHELD) if len(value) >= LEAST_HIDDEN else said
    return said


def _closed(url: str, what: str, headers: Mapping[str, str], asked: Asked) -> tuple[str, str]:
    """What 401 means and what to do: no log-in was sent, one that has ended, or one that is not good."""
    host, login = host_of(url), asked.sent.login
    if login is None and asked.sent.is_withheld:
        of_whom = f"{asked.authority.source} may not use it there" if asked.is_of_source and asked.authority else (
            "this request is on no source's behalf"
        )  # fmt: skip
        return f"{what} A log-in is kept for it, and {of_whom}.", _allowing(url, asked)
    if login is None:
        return what, f"{host} wants a log-in: {asked.command(url)}."
    challenge = headers.get("WWW-Authenticate", "").lower()
    if "expired" in challenge or (login.ends and login.ends < time.time()):
        return f"{what} The log-in that was sent ({login.words}) has ended.", f"Log in anew: {asked.command(url)}."
    return (
        f"{what} It does not accept the log-in that was sent ({login.words}).",
        f"Log in anew: {asked.command(url)}.",
    )


def _allowing(url: str, asked: Asked) -> str:
    if asked.method not in ("GET", "HEAD") or (asked.authority and asked.authority.is_own(url)):
        return "A log-in goes with what its source itself asks for alone; tell the people who run the source."
    return f"To allow it: {_also(url, asked)}."


def _also(url: str, asked: Asked) -> str:
    if asked.authority is None or not asked.authority.source:
        return f"'zoompick source add NAME ADDRESS', then 'zoompick source login NAME --also {origin_of(url)}'"
    return f"'zoompick source login {asked.authority.source} --also {origin_of(url)}'"


def _has_expired(url: str, body: bytes) -> bool:
    """True when an answer to a signed address, or the address itself, tells that its time is over."""
    names = {name.lower(): value for name, value in parse_qsl(urlsplit(url).query)}
    is_signed = any("sig" in name or "token" in name or name in ("se", "exp", "expires", "policy") for name in names)
    ends = next((names[name] for name in ("expires", "exp", "se") if name in names), "")
    if re.fullmatch(r"\d{9,11}", ends) and int(ends) < time.time():
        return True
    return is_signed and bool(re.search(rb"(?i)\bexpired\b", body[:4000]))


def is_refused(error: SourceError) -> bool:
    """True when an error proves that the source did not take the request.

    No connection, or an answer that says so. A gateway that gave up (500, 502, 504) does not know, nor does anybody
    after a connection that broke.
    """
    if isinstance(error, TransientError):
        return error.status in (TOO_MANY, UNAVAILABLE)
    return isinstance(error, AnsweredError | UnreachableError)


def _of_xml(body: bytes) -> str:
    """Code and message of an error as object storage writes it."""
    found = [
        re.search(rf"<{name}>([^<]{{1,160}})</{name}>", body.decode("utf-8", "replace"))
        for name in ("Code", "Message")
    ]
    words = ": ".join(re.sub(r"[\x00-\x1f]+", " ", match[1]) for match in found if match)
    return f" ({words})" if words else ""


def _said(body: bytes) -> str:
    """What an error body says, of whatever shape, in a few words."""
    try:
        value = parse_json(body.decode("utf-8", "replace"))
    except ValueError:
        return _of_xml(body)
    for key in ("description", "detail", "message", "title", "error_description", "error"):
        if isinstance(value, dict) and isinstance(value.get(key), str):
            text = re.sub(r"[\x00-\x1f]+", " ", value[key])
            return f" ({text[:160]})"
    return ""
