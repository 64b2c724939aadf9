"""A file of footprints as a source: GeoParquet with bounding boxes as it lies, anything else through an index."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from zoompick.addresses import is_remote
from zoompick.bytesource import ByteSource
from zoompick.discovery import geoparquet
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.footprints import item_of_row, items_of
from zoompick.discovery.geoparquet import Covered
from zoompick.discovery.index import FootprintIndex, build, file_for
from zoompick.errors import FormatError, UnknownNameError, UsageError
from zoompick.events import Noted, Report, ignore
from zoompick.geo.bounds import Bounds
from zoompick.jsontypes import JsonObject
from zoompick.scenes.source import Source

Opens = Callable[[str], ByteSource]


class FootprintFile:
    """A footprint file, searched through its index, which is built when it is missing or the file has changed.

    GeoParquet that tells bounding boxes needs none, and may lie on a web server or on object storage.

    Parameters
    ----------
    opens : callable
        The bytes behind an address.
    """

    def __init__(self, source: Source, opens: Opens, report: Report = ignore) -> None:
        self._source = source
        self._covered = _covered(source, opens)
        self._index = None if self._covered else _indexed(source, report)

    def collections(self) -> list[JsonObject]:
        """One Collection for each collection named in the file."""
        box: Sequence[float] | None
        if self._covered:
            extent = self._covered.extent()
            box = None if extent is None else (extent.west, extent.south, extent.east, extent.north)
            count = self._covered.count
        else:
            assert self._index is not None
            box, count = self._index.extent(), self._index.count()
        spatial = {"spatial": {"bbox": [list(box)]}} if box else {}
        about = f"{count} footprints of {Path(self._source.url).name}"
        return [{"id": name, "title": about, "extent": spatial} for name in self._names()]

    def _names(self) -> list[str]:
        if self._covered:
            return self._covered.collections() or [self._source.name]
        assert self._index is not None
        return self._index.collections()

    def search(self, criteria: Criteria) -> Iterator[JsonObject]:
        """Items whose boxes meet the area's, in time and clear enough."""
        known = self._names() if criteria.collections else []
        for name in criteria.collections:
            if name not in known:
                raise UnknownNameError.of("collection", name, known)
        span = criteria.span()
        boxes = [Bounds(*part.bounds) for part in getattr(criteria.ground, "geoms", [criteria.ground])]
        keeps = criteria.unknown_cloud == "keep"
        cloud_max = None if keeps and self._covered else criteria.cloud_max
        if self._covered:
            found = self._covered.features(boxes, span, cloud_max)
            for number, feature in enumerate(found):
                yield item_of_row(feature, number, self._source.name, self._source.day)
            return
        assert self._index is not None
        begins = int(span.start.timestamp()) if span and span.start else None
        ends = int(span.end.timestamp()) if span and span.end else None
        yield from self._index.items(boxes, begins, ends, cloud_max, keeps)


def _covered(source: Source, opens: Opens) -> Covered | None:
    """The file as GeoParquet with boxes; None for what has to be indexed."""
    if not source.url.lower().split("?")[0].endswith(geoparquet.ENDINGS):
        return None
    if not is_remote(source.url) and not Path(source.url).is_file():
        return None
    found = Covered.of(source.url, opens)
    if found is None and is_remote(source.url):
        raise UsageError(
            f"{source.url} tells no bounding boxes, so all of it would have to be read.",
            "Download it, and add the file.",
        )
    return found


def _indexed(source: Source, report: Report) -> FootprintIndex:
    path = Path(source.url)
    if not path.is_file():
        raise FormatError(f"The footprint file {path} of the source {source.name} is gone.",
                          f"Give its new place: 'zoompick source add {source.name} FILE'.")  # fmt: skip
    target = file_for(path)
    if not target.exists():
        report(Noted(f"Indexing {path.name}; this is done once."))
        count = build(target, items_of(path, source.name, source.day))
        report(Noted(f"{count} footprints of {path.name} are indexed."))
    return FootprintIndex(target)
