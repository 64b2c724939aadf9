"""What reads each kind of source. A new kind is a file, a line here, and one in the table of kinds."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Protocol

from zoompick.discovery.criteria import Criteria
from zoompick.discovery.footprintfile import FootprintFile
from zoompick.discovery.stac import StacApi
from zoompick.discovery.static import StaticCatalog
from zoompick.events import Report
from zoompick.jsontypes import JsonObject
from zoompick.net.authority import Purpose
from zoompick.net.client import Client
from zoompick.net.ranges import remote_file
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileService


class Reader(Protocol):
    """A source that can be asked."""

    def collections(self) -> list[JsonObject]:
        """Its collections, as STAC Collections."""

    def search(self, criteria: Criteria) -> Iterator[JsonObject]:
        """Items that may fit; the caller checks them again."""


READERS: dict[str, Callable[[Source, Client, Report], Reader]] = {
    "tiles": lambda source, client, report: TileService(source.name, source.url, client),
    "stac-catalog": lambda source, client, report: StaticCatalog(source.url, client, report),
    "stac-api": lambda source, client, report: StacApi(source.url, client),
    "footprints": lambda source, client, report: FootprintFile(source, remote_file, report),
}
"""By kind; the kinds stand in :data:`zoompick.scenes.sourcekinds.KINDS`."""


def reader_of(source: Source, client: Client, report: Report) -> Reader:
    """Open a source; what its reader asks it asks on the source's behalf, to search.

    Raises
    ------
    SourceError, DataError
    """
    source = replace(source, url=source.whole_url)
    return READERS[source.kind](source, client.acting(source.authority(Purpose.SEARCH)), report)
