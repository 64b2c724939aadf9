"""The right reader for each kind of source, all with the same two verbs: ``collections`` and ``search``."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any, Protocol

from zoompick.catalog.criteria import Criteria
from zoompick.catalog.footprints import items_of
from zoompick.catalog.index import FootprintIndex, build, file_for
from zoompick.catalog.sources import Source
from zoompick.catalog.stac import StacApi
from zoompick.catalog.static import StaticCatalog
from zoompick.catalog.tileservice import TileService
from zoompick.errors import FormatError, UnknownNameError
from zoompick.events import Noted, Report, ignore
from zoompick.geo.bounds import Bounds
from zoompick.net.client import Client


class Reader(Protocol):
    """A source that can be asked."""

    def collections(self) -> list[dict[str, Any]]:
        """Its collections, as STAC Collections."""

    def search(self, criteria: Criteria) -> Iterator[dict[str, Any]]:
        """Items that may fit; the caller checks them again."""


class FootprintFile:
    """A footprint file, searched through its index, which is built when it is missing or the file has changed."""

    def __init__(self, source: Source, report: Report = ignore) -> None:
        self.path = Path(source.url)
        if not self.path.is_file():
            raise FormatError(f"The footprint file {self.path} of the source {source.name} is gone.",
                              f"Give its new place: 'zoompick source add {source.name} FILE'.")  # fmt: skip
        target = file_for(self.path)
        if not target.exists():
            report(Noted(f"Indexing {self.path.name}; this is done once."))
            count = build(target, items_of(self.path, source.name, source.day))
            report(Noted(f"{count} footprints of {self.path.name} are indexed."))
        self._index = FootprintIndex(target)

    def collections(self) -> list[dict[str, Any]]:
        """One Collection for each collection named in the file."""
        extent = self._index.extent()
        spatial = {"spatial": {"bbox": [list(extent)]}} if extent else {}
        about = f"{self._index.count()} footprints of {self.path.name}"
        return [{"id": name, "title": about, "extent": spatial} for name in self._index.collections()]

    def search(self, criteria: Criteria) -> Iterator[dict[str, Any]]:
        """Items whose boxes meet the area's, in time and clear enough."""
        known = self._index.collections()
        for name in criteria.collections:
            if name not in known:
                raise UnknownNameError.of("collection", name, known)
        span = criteria.span()
        begins = int(span.start.timestamp()) if span and span.start else None
        ends = int(span.end.timestamp()) if span and span.end else None
        boxes = [Bounds(*part.bounds) for part in getattr(criteria.ground, "geoms", [criteria.ground])]
        yield from self._index.items(boxes, begins, ends, criteria.cloud_max)


def reader_of(source: Source, client: Client, report: Report = ignore) -> Reader:
    """Open a source.

    Raises
    ------
    SourceError, DataError
    """
    if source.kind == "footprints":
        return FootprintFile(source, report)
    if source.kind == "stac-catalog":
        return StaticCatalog(source.url, client, report)
    if source.kind == "tiles":
        return TileService(source.name, source.url, client)
    return StacApi(source.url, client)
