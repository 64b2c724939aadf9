"""Addresses as text for people and records: what is secret in them is hidden here, and only here."""

from __future__ import annotations

import re
from typing import NamedTuple
from urllib.parse import SplitResult, urlsplit

_ADDRESS = re.compile(r"\b[A-Za-z][A-Za-z0-9+.-]{0,20}://[^\s'\"<>|\\^`{}]+")
_SECRET = re.compile(
    r"(?i)(^|[-_.])(sig|sign|signature|token|key|apikey|secret|password|passwd|pwd|pass|auth|authorization|credential"
    r"|credentials|session|code|jwt|sas|policy)($|[-_.])|^x-\w+-\w+|(api|access|subscription|auth|session)(key|token|id)"
)
_LONG = re.compile(
    r"(?=.*\d)(?=.*[A-Za-z])[\w%+/=.-]*[\w%+/=]{20,}[\w%+/=.-]*|[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}"
)
"""A value that looks drawn by lot, with a long run of signs or as a UUID: who knows what it opens."""
WITHHELD = "…"
"""Stands in a public address for each secret of it."""


def restored(path: object) -> str:
    """A path as text; of an address that was taken for a path, which loses one of its two slashes, the address."""
    return re.sub(r"^(https?|s3):/(?!/)", r"\1://", str(path))


def is_remote(path: object) -> bool:
    """True for an address on a web server or object storage, also one that was taken for a path."""
    return restored(path).startswith(("http://", "https://", "s3://"))


def redacted(text: str) -> str:
    """A text whose addresses show no secrets: no user, no password, no signature, no key."""
    return _ADDRESS.sub(lambda found: public(found[0]), text) if "://" in text else text


class Secret(NamedTuple):
    """What is secret in an address.

    Attributes
    ----------
    user : str
        User and password, as they stand before the host.
    values : tuple of str
        Values of the query, in the order of the signs that stand for them.
    """

    user: str = ""
    values: tuple[str, ...] = ()


def public(url: str) -> str:
    """An address without what is secret: user and password go, values of keys and signatures become ``…``.

    So does what follows a ``#``: it is of use here alone.
    """
    return split(url)[0].partition("#")[0]


def split(url: str) -> tuple[str, Secret | None]:
    """An address without its secrets, and these; None where it has none. :func:`whole` joins them again."""
    head, mark, rest = url.partition("://")
    end = min((place for place in map(rest.find, "/?#") if place >= 0), default=len(rest))
    user, at, place = rest[:end].rpartition("@")
    tail, hash_, fragment = rest[end:].partition("#")
    path, ask, query = tail.partition("?")
    values: list[str] = []
    shown = f"{head}{mark}{place}{path}{ask}{_query(query, values)}{hash_}{fragment}"
    return shown, Secret(user, tuple(values)) if at or values else None


def whole(public_url: str, secret: Secret) -> str:
    """The address that was split.

    Raises
    ------
    ValueError
        The secret is of another address.
    """
    parts = public_url.split(WITHHELD)
    if len(parts) != len(secret.values) + 1:
        raise ValueError("another address")
    url = "".join(part + value for part, value in zip(parts, (*secret.values, ""), strict=True))
    head, mark, rest = url.partition("://")
    return f"{head}{mark}{secret.user}@{rest}" if secret.user else url


def _query(query: str, values: list[str]) -> str:
    """A query as it is shown; secret values are added to ``values``."""
    shown = []
    for part in query.split("&") if query else ():
        name, equals, value = part.partition("=")
        if value == WITHHELD or name == WITHHELD:
            shown.append(part)
        elif equals and (_SECRET.search(name) or _LONG.fullmatch(value)):
            values.append(value)
            shown.append(f"{name}={WITHHELD}")
        elif not equals and _LONG.fullmatch(name):
            values.append(name)
            shown.append(WITHHELD)
        else:
            shown.append(part)
    return "&".join(shown)


def address_parts(url: str) -> SplitResult:
    """Parts of an address; all but the path are empty where it cannot be one (``http://[``)."""
    try:
        return urlsplit(url)
    except ValueError:
        return SplitResult("", "", url, "", "")


def without_query(url: str) -> str:
    """An address by which a file is known again: without user, query and fragment."""
    return public(url).partition("?")[0]


def host_of(url: str) -> str:
    """Host and port, or the text itself where there is none."""
    try:
        return urlsplit(url).netloc.rpartition("@")[2] or url
    except ValueError:
        return url


def origin_of(url: str) -> str:
    """Scheme, host and port of an address, the port always told; empty for what is none."""
    try:
        parts = urlsplit(url)
        port = parts.port or {"https": 443, "http": 80}.get(parts.scheme.lower(), 0)
        host = (parts.hostname or "").lower()
    except ValueError:
        return ""
    return f"{parts.scheme.lower()}://{f'[{host}]' if ':' in host else host}:{port}" if host else ""


def is_this_machine(url: str) -> bool:
    """True for a loopback address."""
    try:
        host = urlsplit(url).hostname or ""
    except ValueError:
        return False
    return host in ("localhost", "::1") or bool(re.fullmatch(r"127(\.\d{1,3}){3}", host))
