"""Sessions with web servers that may speak for sources: made here alone, so that requests are on someone's behalf."""

from __future__ import annotations

from collections.abc import Iterable

from zoompick.events import Report, ignore
from zoompick.net.client import Client
from zoompick.net.pace import Pace
from zoompick.scenes import sources
from zoompick.scenes.source import Source


def session(report: Report = ignore, known: Iterable[Source] | None = None, pace: Pace | None = None) -> Client:
    """A session that knows sources; it asks on nobody's behalf until :meth:`Client.on_behalf` says on whose.

    Parameters
    ----------
    known : iterable of Source, optional
        Those that scenes may come from; by default those that a person keeps for all studies.
    """
    own = sources.known(None)
    table = own if known is None else {source.name: source for source in known}
    return Client(report, pace=pace, sources=_addresses(table.values()), own=_addresses(own.values()))


def _addresses(known: Iterable[Source]) -> dict[str, str]:
    return {source.name: source.url for source in known if source.is_web}
