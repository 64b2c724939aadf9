"""A file of footprints as a source: searched through its index."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from zoompick.catalog.criteria import Criteria
from zoompick.catalog.footprints import items_of
from zoompick.catalog.index import FootprintIndex, build, file_for
from zoompick.catalog.sources import Source
from zoompick.errors import FormatError, UnknownNameError
from zoompick.events import Noted, Report, ignore
from zoompick.geo.bounds import Bounds


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
