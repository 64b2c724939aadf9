"""A local index of footprints: SQLite with an R*Tree over place and time, built once, searched in milliseconds.

Boxes are rounded outwards to float32; candidates are tested exactly afterwards. Rows lie along a Z-shaped curve,
which keeps neighbours on one page and in one node.
Source: SQLite R*Tree module documentation; G. M. Morton (1966) for the curve.
"""

from __future__ import annotations

import hashlib
import json
import math
import os
import struct
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick import cache, foreign
from zoompick.arrays import Numbers
from zoompick.errors import DataError
from zoompick.files import database_errors, take_name, temporary_beside
from zoompick.jsontypes import JsonObject
from zoompick.later import np, sqlite3
from zoompick.scenes.fields import Told
from zoompick.scenes.packed import fill
from zoompick.settings import cache_folder

if TYPE_CHECKING:
    from zoompick.geo.bounds import Bounds

VERSION = 3
_SCHEMA = """
PRAGMA page_size = 8192; PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF;
CREATE TABLE scene (row INTEGER PRIMARY KEY, id TEXT NOT NULL, collection INTEGER, moment INTEGER, until INTEGER,
  cloud REAL, ground BLOB NOT NULL, rest TEXT);
CREATE TABLE collection (number INTEGER PRIMARY KEY, id TEXT UNIQUE);
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT);
CREATE VIRTUAL TABLE place USING rtree(row, west, east, south, north, begins, ends);
"""
_SCALE = 10_000_000
_COLUMNS = frozenset({"eo:cloud_cover"})


def file_for(path: Path) -> Path:
    """Where the index of a footprint file lies: its name holds the file's path, size and time of change."""
    status = path.stat()
    key = f"{VERSION} {path.resolve()} {status.st_size} {status.st_mtime_ns}"
    return cache_folder() / "footprints" / f"{hashlib.sha256(key.encode()).hexdigest()[:24]}.sqlite"


def build(target: Path, items: Iterable[JsonObject]) -> int:
    """Write an index of items under its name once it is whole; returns how many are in it.

    Items without a usable footprint are left out, since no search by place can find them.

    Raises
    ------
    DiskError
    """
    handle, part = temporary_beside(target)
    os.close(handle)
    try:
        with database_errors(target), closing(sqlite3.connect(part, isolation_level=None)) as database:
            database.executescript(_SCHEMA)
            rows = _rows(items)
            numbers = {name: number for number, name in enumerate(dict.fromkeys(row[1] for row in rows))}
            database.execute("BEGIN")
            fill(database, "place", _edges(rows))
            database.executemany(
                "INSERT INTO scene VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                ((n, r[0], numbers[r[1]], *r[2:7]) for n, r in enumerate(rows)),
            )
            database.executemany("INSERT INTO collection VALUES (?, ?)", ((n, name) for name, n in numbers.items()))
            database.execute("INSERT INTO meta VALUES ('count', ?)", (str(len(rows)),))
            database.execute("COMMIT")
        take_name(part, target)
        cache.trim()
        return len(rows)
    finally:
        part.unlink(missing_ok=True)


def _edges(rows: list[Any]) -> Numbers:
    """West, east, south, north, begin and end of each row, shape (rows, 6)."""
    spans = np.array([(row[2] or 0, row[3] or 0) for row in rows], float).reshape(-1, 2)
    boxes = np.array([row[7:] for row in rows], float).reshape(-1, 4)
    return np.hstack([boxes, spans])


def _rows(items: Iterable[JsonObject]) -> list[Any]:
    """(id, collection, moment, until, cloud, ground, rest, and its box) of each item, along the curve."""
    rows = []
    for item in items:
        packed = _ground(item.get("geometry"))
        if packed is None:
            continue
        ground, (west, south, east, north) = packed
        properties = item.get("properties")
        properties = properties if isinstance(properties, dict) else {}
        moment, until = _span(properties)
        cloud = Told(properties).number("cloud")
        cloud = float(cloud) if cloud is not None and 0 <= cloud <= 100 else None
        name, collection = str(item.get("id")), str(item.get("collection") or "")
        rest = _rest(item, properties, moment)
        rows.append((name, collection, moment, until, cloud, ground, rest, west, east, south, north))
    return [rows[place] for place in along_curve([row[7:] for row in rows])]


def _span(properties: JsonObject) -> tuple[int | None, int | None]:
    """First and last second of the acquisition; of one that tells a moment alone the same twice."""
    moment = foreign.moment(properties.get("datetime") or properties.get("start_datetime"))
    end = None if properties.get("datetime") else foreign.moment(properties.get("end_datetime"))
    if moment is None:
        return None, None
    begin = math.floor(moment.timestamp())
    return begin, begin if end is None else max(begin, math.ceil(end.timestamp()))


def along_curve(boxes: Sequence[Sequence[float]]) -> list[int]:
    """Order of boxes, each west, east, south, north, along a Z-shaped curve over their middles, 16 bits a side."""
    edges = np.array(boxes, float).reshape(-1, 4)
    if not len(edges):
        return []
    middles = (edges[:, 0::2] + edges[:, 1::2]) / 2
    low, high = middles.min(axis=0), middles.max(axis=0)
    x, y = ((middles - low) / np.maximum(high - low, 1e-9) * 65535).astype(np.uint64).T
    order: list[int] = np.argsort(_spread(x) | _spread(y) << np.uint64(1), kind="stable").tolist()
    return order


def _spread(value: Numbers) -> Numbers:
    """Each bit of 16 followed by an empty one."""
    for shift, mask in ((8, 0x00FF00FF), (4, 0x0F0F0F0F), (2, 0x33333333), (1, 0x55555555)):
        value = (value | value << np.uint64(shift)) & np.uint64(mask)
    return value


def _rest(item: JsonObject, properties: JsonObject, moment: int | None) -> str | None:
    """What has no column of its own, as JSON; None when there is nothing."""
    rest = {key: value for key, value in properties.items() if key not in _COLUMNS}
    if moment is not None and rest.get("datetime") == _told(moment):
        del rest["datetime"]
    kept = {"properties": rest} if rest else {}
    kept |= {key: item[key] for key in ("assets", "links") if item.get(key)}
    return json.dumps(kept, separators=(",", ":")) if kept else None


def _told(moment: int) -> str:
    """A moment as items without one of their own tell it."""
    return datetime.fromtimestamp(moment, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _ground(geometry: object) -> tuple[bytes, tuple[float, float, float, float]] | None:
    """A footprint in few bytes: a single ring as 32-bit steps of 1e-7 degrees (a centimetre), else GeoJSON text."""
    if not isinstance(geometry, dict) or geometry.get("type") not in ("Polygon", "MultiPolygon"):
        return None
    try:
        polygons = geometry["coordinates"] if geometry["type"] == "MultiPolygon" else [geometry["coordinates"]]
        lons = [corner[0] for rings in polygons for corner in rings[0]]
        lats = [corner[1] for rings in polygons for corner in rings[0]]
        box = min(lons), min(lats), max(lons), max(lats)
        if not (-180 <= box[0] <= box[2] <= 180 and -90 <= box[1] <= box[3] <= 90):
            return None
        if len(polygons) == 1 and len(polygons[0]) == 1:
            numbers = [round(value * _SCALE) for corner in zip(lons, lats, strict=True) for value in corner]
            return b"R" + struct.pack(f"<{len(numbers)}i", *numbers), box
        return b"J" + json.dumps(geometry, separators=(",", ":")).encode(), box
    except (TypeError, ValueError, IndexError, KeyError):
        return None


def _geometry(ground: bytes) -> JsonObject:
    if ground[:1] == b"J":
        found: JsonObject = json.loads(ground[1:])
        return found
    numbers = struct.unpack(f"<{(len(ground) - 1) // 4}i", ground[1:])
    ring = [[numbers[n] / _SCALE, numbers[n + 1] / _SCALE] for n in range(0, len(numbers), 2)]
    return {"type": "Polygon", "coordinates": [ring]}


class FootprintIndex:
    """An index file, opened for reading."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            cache.use(path)
            self._database = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)
            self._names = dict(self._database.execute("SELECT number, id FROM collection"))
        except sqlite3.Error as error:
            raise DataError(f"The index {path} cannot be read: {error}.", "Remove it; it is made anew.") from error

    def count(self) -> int:
        """Footprints in it."""
        return int(self._database.execute("SELECT value FROM meta WHERE key = 'count'").fetchone()[0])

    def collections(self) -> list[str]:
        """Names of all collections in it."""
        return sorted(self._names.values())

    def extent(self) -> tuple[float, float, float, float] | None:
        """West, south, east, north of all footprints; None when there is none."""
        row = self._database.execute("SELECT min(west), min(south), max(east), max(north) FROM place").fetchone()
        return row if row[0] is not None else None

    def items(
        self,
        boxes: Iterable[Bounds],
        begins: int | None,
        ends: int | None,
        cloud_max: float | None,
        keeps_unknown: bool = False,
    ) -> Iterator[JsonObject]:
        """Items whose box meets one of ``boxes``, in time (seconds since 1970) and with at most this cloud.

        Those that tell no cloud are left out where it is limited, unless they are to be kept.

        The caller tests footprints exactly.
        """
        where = ["p.west <= ? AND p.east >= ? AND p.south <= ? AND p.north >= ?"]
        limits: list[Any] = []
        for clause, limit in (("p.ends >= ?", begins), ("p.begins <= ?", ends)):
            if limit is not None:
                # The tree holds 32-bit floats: a margin of 128 s at today's dates; exact times are tested below.
                where.append(clause)
                limits.append(limit - 256 if ">" in clause else limit + 256)
        cloudy = "(s.cloud <= ? OR s.cloud IS NULL)" if keeps_unknown else "s.cloud <= ?"
        for clause, exact in (("s.until >= ?", begins), ("s.moment <= ?", ends), (cloudy, cloud_max)):
            if exact is not None:
                where.append(clause)
                limits.append(exact)
        sql = (
            "SELECT s.id, s.collection, s.moment, s.until, s.cloud, s.ground, s.rest "
            f"FROM place p JOIN scene s ON s.row = p.row WHERE {' AND '.join(where)}"
        )
        for box in boxes:
            for row in self._database.execute(sql, (box.east, box.west, box.north, box.south, *limits)):
                yield self._item(*row)

    def _item(
        self,
        name: str,
        collection: int,
        moment: int | None,
        until: int | None,
        cloud: float | None,
        ground: bytes,
        rest: str | None,
    ) -> JsonObject:
        kept = json.loads(rest) if rest else {}
        properties = kept.get("properties", {})
        if moment is not None and moment == until and not properties.get("datetime"):
            properties["datetime"] = _told(moment)
        if cloud is not None:
            properties["eo:cloud_cover"] = cloud
        return {
            "type": "Feature",
            "stac_version": "1.1.0",
            "id": name,
            "collection": self._names.get(collection, ""),
            "geometry": _geometry(ground),
            "properties": properties,
            "assets": kept.get("assets", {}),
            "links": kept.get("links", []),
        }
