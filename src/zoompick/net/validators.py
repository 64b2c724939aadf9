"""By what one state of a file at a source is told from another (RFC 9110, section 8.8)."""

from __future__ import annotations

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
    """The strong entity tag, else the date; a weak tag may stand for other bytes and counts for none."""
    return (modified if not etag or etag.startswith("W/") else etag) or ""
