"""A made-up collection of any size for load tests: items only, spread over ten years and the inhabited latitudes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from zoompick.standin import stac
from zoompick.standin.instrument import Instrument
from zoompick.standin.search import Query, holds
from zoompick.standin.store import Store

_BEGIN = datetime(2016, 1, 1, tzinfo=UTC)
_SECONDS = 10 * 365 * 86400
_HALF_DEG, _LEAN_DEG = 0.45, 0.12


@dataclass(frozen=True, slots=True)
class Granule:
    """One made-up scene."""

    id: str
    when: datetime
    lon: float
    lat: float
    cloud_percent: float

    @property
    def until(self) -> datetime:
        """A scene is of one moment."""
        return self.when

    @property
    def footprint(self) -> Any:
        """A leaning square."""
        return shapely.Polygon(_corners(self.lon, self.lat))


def _corners(lon: float, lat: float) -> list[tuple[float, float]]:
    half, lean = _HALF_DEG, _LEAN_DEG
    return [
        (round(lon + x * half + y * lean, 6), round(lat + y * half - x * lean, 6))
        for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1))
    ]


class Synthetic(Instrument):
    """``count`` scenes; the same for the same number."""

    name = "synthetic"

    def __init__(self, count: int) -> None:
        rng = np.random.default_rng(count)
        self.count = count
        self._seconds = np.sort(rng.integers(0, _SECONDS, count))[::-1]
        self._lon, self._lat = rng.uniform(-178, 178, count), rng.uniform(-58, 68, count)
        self._cloud = np.round(100 * rng.beta(0.6, 0.6, count), 1)
        self._found = lru_cache(maxsize=16)(self._find)

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        table = {
            "id": self.name, "title": f"{self.count} made-up scenes", "description": "For load tests.",
            "license": "CC0-1.0", "keywords": ["invented"], "constellation": "synthetic", "instrument": "none",
            "level": "L0", "terms": {"access": "open"},
        }  # fmt: skip
        about = stac.collection(table, base, [self._granule(self.count - 1), self._granule(0)], {}, {})
        about["extent"]["spatial"]["bbox"] = [[-180, -60, 180, 70]]
        return about

    def scenes(self) -> Sequence[Granule]:
        """None: it is searched by itself, and only when it is asked for alone."""
        return ()

    def by_id(self, scene_id: str) -> Granule | None:
        """The scene of this id, or None."""
        number = scene_id.removeprefix("made-")
        return self._granule(int(number)) if number.isdecimal() and int(number) < self.count else None

    def _granule(self, index: int) -> Granule:
        when = _BEGIN + timedelta(seconds=int(self._seconds[index]))
        place = float(self._lon[index]), float(self._lat[index])
        return Granule(f"made-{index:07d}", when, *place, float(self._cloud[index]))

    def item(self, scene: Granule, base: str, store: Store) -> dict[str, Any]:
        """A scene as a STAC Item without files."""
        home, when = f"{base}/collections/{self.name}", stac.moment(scene.when)
        ring = _corners(scene.lon, scene.lat)
        xs, ys = [x for x, _ in ring], [y for _, y in ring]
        return {
            "type": "Feature", "stac_version": "1.1.0", "stac_extensions": [], "id": scene.id,
            "collection": self.name,
            "geometry": {"type": "Polygon", "coordinates": [ring]},
            "bbox": [min(xs), min(ys), max(xs), max(ys)],
            "properties": {
                "datetime": when, "created": when, "platform": f"made-{int(scene.cloud_percent) % 3}", "gsd": 10,
                "eo:cloud_cover": scene.cloud_percent, "view:sun_elevation": round(abs(scene.lat) / 2 + 20, 2),
            },
            "assets": {},
            "links": [{"rel": "self", "href": f"{home}/items/{scene.id}"}],
        }  # fmt: skip

    def make(self, scene: Granule, group: str, folder: Path, cache: Path) -> None:
        """Write nothing: there are items only."""

    def page(self, query: Query, base: str, store: Store) -> tuple[int, list[dict[str, Any]]]:
        """Matches by arrays, items of the page only."""
        found = self._found(_hashable(query))
        page = found[query.offset : query.offset + query.limit]
        return len(found), [self.item(self._granule(index), base, store) for index in page]

    def _find(self, asked: _Asked) -> list[int]:
        query = asked.query
        fits = np.ones(self.count, bool)
        begin, end = (None if t is None else (t - _BEGIN).total_seconds() for t in (query.start, query.end))
        if begin is not None:
            fits &= self._seconds >= begin
        if end is not None:
            fits &= self._seconds <= end
        area = query.ground
        if area is not None:
            west, south, east, north = area.bounds
            reach = _HALF_DEG + _LEAN_DEG
            fits &= (self._lon >= west - reach) & (self._lon <= east + reach)
            fits &= (self._lat >= south - reach) & (self._lat <= north + reach)
        found: list[int] = np.flatnonzero(fits).tolist()
        if area is not None:
            shapely.prepare(area)
            found = [index for index in found if area.intersects(self._granule(index).footprint)]
        if query.filter:
            found = [i for i in found if holds(query.filter, self._told(i)) is True]
        if query.ids:
            found = [i for i in found if self._granule(i).id in query.ids]
        return found

    def _told(self, index: int) -> dict[str, Any]:
        return {"properties": {"eo:cloud_cover": float(self._cloud[index]), "gsd": 10}}


@dataclass(frozen=True)
class _Asked:
    """A query that can be a key: what a page's place does not change."""

    key: str
    query: Query

    def __hash__(self) -> int:
        return hash(self.key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Asked) and other.key == self.key


def _hashable(query: Query) -> _Asked:
    area = query.intersects.wkt if query.intersects is not None else ""
    return _Asked(repr((query.ids, query.bbox, area, query.start, query.end, query.filter)), query)
