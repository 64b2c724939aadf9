"""The kinds of sources: how an address of each looks, and what reads it. A new kind is a file and an entry here."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from zoompick.addresses import is_remote
from zoompick.net.authority import Purpose

if TYPE_CHECKING:
    from zoompick.bytesource import ByteSource
    from zoompick.catalog.criteria import Criteria
    from zoompick.catalog.source import Source
    from zoompick.events import Report
    from zoompick.net.client import Client


class Reader(Protocol):
    """A source that can be asked."""

    def collections(self) -> list[dict[str, Any]]:
        """Its collections, as STAC Collections."""

    def search(self, criteria: Criteria) -> Iterator[dict[str, Any]]:
        """Items that may fit; the caller checks them again."""


class SourceKind(NamedTuple):
    """A kind of source.

    Attributes
    ----------
    about : str
        What it is and who searches, for people.
    fits : callable
        Whether an address looks like one of this kind.
    opens : callable
        Its reader, loaded when a source of the kind is asked.
    """

    about: str
    fits: Callable[[str], bool]
    opens: Callable[[Source, Client, Report], Reader]


def _is_web(address: str) -> bool:
    return is_remote(address)


def _path(address: str) -> str:
    return address.split("?")[0].lower()


def _looks_like_tiles(address: str) -> bool:
    has_tiles = "{z}" in address or "wmts" in address.lower()
    return _is_web(address) and (has_tiles or _path(address).endswith(("tilejson.json", "/tiles.json")))


def _tiles(source: Source, client: Client, report: Report) -> Reader:
    from zoompick.catalog.tileservice import TileService

    return TileService(source.name, source.url, client)


def _catalog(source: Source, client: Client, report: Report) -> Reader:
    from zoompick.catalog.static import StaticCatalog

    return StaticCatalog(source.url, client, report)


def _api(source: Source, client: Client, report: Report) -> Reader:
    from zoompick.catalog.stac import StacApi

    return StacApi(source.url, client)


def _footprints(source: Source, client: Client, report: Report) -> Reader:
    from zoompick.catalog.footprintfile import FootprintFile

    return FootprintFile(source, _bytes_of, report)


def _bytes_of(address: str) -> ByteSource:
    """The bytes of a footprint file on a web server or on object storage."""
    from zoompick.net.ranges import remote_file

    return remote_file(address)


def _is_parquet(address: str) -> bool:
    return _path(address).endswith((".parquet", ".geoparquet"))


KINDS: dict[str, SourceKind] = {
    "tiles": SourceKind(
        "a service of picture tiles: WMTS, TileJSON or an address with {z}, {x} and {y}; no scenes",
        _looks_like_tiles, _tiles,
    ),
    "stac-catalog": SourceKind(
        "a static STAC catalog: crawled, checked here",
        lambda address: _is_web(address) and _path(address).endswith(".json"), _catalog,
    ),
    "stac-api": SourceKind(
        "a STAC API: searched by the server, checked here",
        lambda address: _is_web(address) and not _is_parquet(address), _api,
    ),
    "footprints": SourceKind(
        "a file of footprints, searched here: GeoParquet with boxes as it lies, others through an index",
        lambda address: True, _footprints,
    ),
}  # fmt: skip
"""By name, in the order in which an address is tried."""


def kind_of(address: str) -> str:
    """The likely kind of what lies at an address."""
    return next(name for name, kind in KINDS.items() if kind.fits(address))


def reader_of(source: Source, client: Client, report: Report) -> Reader:
    """Open a source; what its reader asks it asks on the source's behalf, to search.

    Raises
    ------
    SourceError, DataError
    """
    source = replace(source, url=source.whole_url)
    return KINDS[source.kind].opens(source, client.acting(source.authority(Purpose.SEARCH)), report)
