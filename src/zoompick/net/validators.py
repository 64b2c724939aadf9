"""By what one state of a file at a source is told from another (RFC 9110, section 8.8)."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from email.utils import parsedate_to_datetime
from typing import NamedTuple


class RemoteState(NamedTuple):
    """A file as its source tells it now; None and empty for what it does not tell.

    Attributes
    ----------
    size : int or None
        Bytes.
    version : str
        See :func:`version_of`.
    """

    size: int | None
    version: str


def version_of(etag: str | None, modified: str | None) -> str:
    """By what one look at a file is held against another: its entity tag, weak ones too, else its date."""
    return etag or modified or ""


def strong_of(etag: str | None, modified: str | None, date: str | None) -> str:
    """By what the rest of a file may be asked for: only the very same bytes have it (RFC 9110, section 8.8.1).

    A weak tag may stand for other bytes. A date does that until a minute after it (section 8.8.2.2).
    """
    if etag and not etag.startswith("W/"):
        return etag
    if not modified:
        return ""
    changed, now = _moment(modified), _moment(date or "")
    is_fresh = changed is not None and now is not None and now - changed < _FRESH
    return "" if is_fresh else modified


_FRESH = timedelta(seconds=60)


def _moment(text: str) -> datetime | None:
    try:
        moment = parsedate_to_datetime(text)
    except (TypeError, ValueError, OverflowError):
        return None
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)
