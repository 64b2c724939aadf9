"""One whole file: fetched over as many connections as it takes, checked, then given its name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from zoompick.addresses import without_query
from zoompick.errors import ChecksumError, FormatError, SourceError
from zoompick.events import Finished, Report, Started, ignore
from zoompick.fetch.partial import Partial, under_way
from zoompick.files import multihash
from zoompick.geo.shapes import as_text
from zoompick.net import contents as kinds
from zoompick.net.client import Client
from zoompick.net.refusals import EXPIRED, RANGE_PAST_END, WANTS_LOGIN, AnsweredError, TransientError
from zoompick.scenes import fetched as record
from zoompick.scenes.fetchplan import Fetch

Renew = Callable[[Fetch], str | None]
"""Asks the catalogue again for the address of a file."""
IsWhole = Callable[[Path, str], bool]
"""Tells whether the file at a path, of this name, is whole by its format: all blocks decode, or its end is there."""
Opens = Callable[[Path, str], None]
"""Raises FormatError when the header of the file at a path, of this name, does not decode."""


@dataclass(frozen=True, slots=True)
class Tools:
    """What a download needs from other rooms.

    Attributes
    ----------
    renew : callable
        Gives a file's address of today, when the one in the plan has expired.
    opens : callable
        Decodes a file's header.
    is_whole : callable
        Whether a file's own end proves that nothing of it is missing.
    """

    renew: Renew = lambda entry: None
    opens: Opens = lambda path, name: None
    is_whole: IsWhole = lambda path, name: False


def fetch_whole(entry: Fetch, client: Client, tools: Tools | None = None, report: Report = ignore) -> int:
    """Fetch one file; returns the bytes received.

    What an earlier run left of it is taken up where it ended. A file that does not fit its digest is fetched once
    more from the beginning, when a part of it was old.

    Raises
    ------
    ChecksumError, FormatError
        The bytes are not what was published; no file takes the name.
    SourceError
        The source gave up, or we did; what came is kept.
    """
    tools = tools or Tools()
    task = f"{entry.scene}/{entry.path.name}"
    report(Started(task, entry.size or 0, "B"))
    with under_way(entry.path, entry.url, client.stop, task, report) as partial:
        partial.most = None if entry.is_estimate else entry.size
        _complete(entry, partial, client, tools)
        try:
            checked_by = _check(entry, partial)
        except ChecksumError:
            if not partial.resumed:
                partial.keep = False
                raise
            partial.start_anew()
            _complete(entry, partial, client, tools)
            checked_by = _check(entry, partial)
        _check_kind(entry, partial, tools)
        _check_end(entry, partial, checked_by, tools)
        partial.finish()
    report(Finished(task))
    region = "" if entry.region is None else as_text(entry.region.shape)
    fetched = record.Fetched(
        entry.band, without_query(partial.url), partial.size, multihash(partial.digest()), checked_by, region,
        version=partial.note.version, cut=entry.cut,
    )  # fmt: skip
    record.add(entry.path, fetched)
    return partial.received


def _complete(entry: Fetch, partial: Partial, client: Client, tools: Tools) -> None:
    """Ask until all is here; an expired address is renewed once."""

    def attempt() -> None:
        with client.open(partial.url, partial.headers()) as answer:
            partial.take(answer)

    def at_any_address() -> None:
        try:
            attempt()
        except (AnsweredError, FormatError) as error:
            status = error.status if isinstance(error, AnsweredError) else WANTS_LOGIN
            if status == RANGE_PAST_END:
                partial.restart()
                raise TransientError(
                    f"{entry.path.name} is shorter at the source than it was.", "Try again."
                ) from error
            url = tools.renew(entry) if status in EXPIRED else None
            if not url or url == partial.url:
                raise
            partial.url = url
            attempt()

    if not partial.is_whole:
        client.again(entry.path.name, at_any_address, lambda: partial.size)


def _check(entry: Fetch, partial: Partial) -> str:
    """Hold size and digest against the item's, else the header's; tells which."""
    if entry.size is not None and not entry.is_estimate and partial.size != entry.size:
        raise ChecksumError(
            f"{entry.path.name} has {partial.size} bytes, its catalogue entry says {entry.size}.",
            "It was not kept. The source may have changed it: search again.",
        )
    sha256 = partial.digest()
    expected, by = (entry.sha256, "item") if entry.sha256 else (partial.note.sha256, "header")
    if expected is None:
        return ""
    if sha256 != expected:
        raise ChecksumError(
            f"{entry.path.name} has the SHA-256 {sha256[:12]}…, published is {expected[:12]}….",
            "It was not kept: the file at the source is damaged, or its published digest is wrong.",
        )
    return by


def _check_end(entry: Fetch, partial: Partial, checked_by: str, tools: Tools) -> None:
    """An answer that just stops is whole only where something else proves it.

    Raises
    ------
    ChecksumError
        Nothing does; the file is not kept.
    """
    is_told = partial.has_end or bool(checked_by) or (entry.size is not None and not entry.is_estimate)
    if is_told:
        return
    if not partial.is_whole and not tools.is_whole(partial.part, entry.path.name):
        partial.keep = False
        raise ChecksumError(
            f"{entry.path.name} came without a length, and neither its catalogue entry nor the file itself proves "
            f"that its {partial.size} bytes are all.",
            "It was not kept, and does not count as fetched. Tell the people who run the source.",
        )


def _check_kind(entry: Fetch, partial: Partial, tools: Tools) -> None:
    try:
        kinds.refuse_other(entry.path.name, partial.head())
        tools.opens(partial.part, entry.path.name)
    except (FormatError, SourceError):
        partial.keep = False
        raise
