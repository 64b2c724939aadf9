"""GeoPackage: polygons of its feature tables.

Source: OGC GeoPackage 1.3 (12-128r18): geometry blob (2.1.3), contents (1.1.3), reference systems (1.1.2).
"""

from __future__ import annotations

import struct
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import TypeVar

from zoompick.area import guard, systems
from zoompick.area.model import Area, Feature
from zoompick.errors import AreaError
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.jsontypes import JsonObject
from zoompick.later import shapely, sqlite3

Kept = TypeVar("Kept")
_MOST_ROWS, _PATIENCE_S = 100_000, 20.0
"""Views may go on for ever."""
_ENVELOPE_BYTES = {0: 0, 1: 32, 2: 48, 3: 48, 4: 64}


def read_geopackage(path: Path) -> tuple[list[Feature], list[str]]:
    """Polygons of all feature tables.

    Raises
    ------
    AreaError
        No GeoPackage, no table with a geometry, or no polygon in any.
    """
    tables, features = _tables(path, lambda database, table: list(_rows(database, table, path.name)))
    if not features:
        names = ", ".join(tables)
        raise AreaError(f"{path.name} holds no polygon (tables: {names}).",
                        "Give a polygon layer; about points and lines `around` draws one.")  # fmt: skip
    return features, []


def marks(path: Path) -> list[tuple[str, Shape]]:
    """Points and lines of all feature tables, one by one, with their names.

    Raises
    ------
    AreaError
        No GeoPackage, or a geometry is damaged.
    """
    return _tables(path, lambda database, table: list(_marks(database, table, path.name)))[1]


def _tables(
    path: Path, read: Callable[[sqlite3.Connection, tuple[str, str, int]], list[Kept]]
) -> tuple[list[str], list[Kept]]:
    """Names of the feature tables, and what is read out of all of them."""
    try:
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)) as database:
            database.text_factory = lambda data: data.decode("utf-8", "replace")
            database.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, guard.MOST_BYTES)
            ends = time.monotonic() + _PATIENCE_S
            database.set_progress_handler(lambda: time.monotonic() > ends, 100_000)
            tables = database.execute(
                "SELECT table_name, column_name, srs_id FROM gpkg_geometry_columns ORDER BY table_name"
            ).fetchall()
            if not tables:
                raise AreaError(f"{path.name} has no table with a geometry.", "Give one with a polygon layer.")
            found = [one for table in tables for one in read(database, table)]
    except (sqlite3.Error, OverflowError, MemoryError, TypeError, UnicodeDecodeError) as error:
        raise AreaError(f"{path.name} is not a GeoPackage that can be read: {error}.", "Export it again.") from error
    return [str(table[0]) for table in tables], found


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _records(database: sqlite3.Connection, entry: tuple[str, str, int]) -> Iterator[tuple[object, JsonObject, str]]:
    """Geometry, the other columns, and a name (empty for none) of each row."""
    table, column, _ = entry
    cursor = database.execute(f"SELECT * FROM {_quoted(table)} LIMIT {_MOST_ROWS}")
    names = [entry[0] for entry in cursor.description]
    for row in cursor:
        record = dict(zip(names, row, strict=True))
        blob = record.pop(column)
        name = next((str(value) for key, value in record.items() if key.lower() == "name" and value), "")
        yield blob, {key: value for key, value in record.items() if not isinstance(value, bytes)}, name


def _rows(database: sqlite3.Connection, entry: tuple[str, str, int], label: str) -> Iterator[Feature]:
    wkt = _definition(database, entry[2])
    for blob, plain, name in _records(database, entry):
        polygon = _shape(blob, label, is_plain_polygon)
        if polygon is not None:
            polygon = systems.carried_from_wkt(polygon, wkt, label) if wkt else polygon
            make = partial(checked_polygon, polygon, f"A polygon in {label}")
            yield Feature.made_by(name, make, {"layer": entry[0], **plain})


def _marks(database: sqlite3.Connection, entry: tuple[str, str, int], label: str) -> Iterator[tuple[str, Shape]]:
    wkt = _definition(database, entry[2])
    for blob, _, name in _records(database, entry):
        shape = _shape(blob, label, is_plain_mark)
        if shape is not None:
            shape = systems.carried_from_wkt(shape, wkt, label) if wkt else shape
            yield from ((name, part) for part in shapely.get_parts(shape))


def _definition(database: sqlite3.Connection, srs: int) -> str:
    """WKT of a table's system; empty for degrees, WGS 84, and for the undefined ones (-1 and 0)."""
    if srs in (LONLAT.epsg, -1, 0):
        return ""
    row = database.execute("SELECT definition FROM gpkg_spatial_ref_sys WHERE srs_id = ?", (srs,)).fetchone()
    return str(row[0]) if row else ""


def _shape(blob: object, label: str, is_wanted: Callable[[bytes], bool]) -> Shape | None:
    """A geometry, if it is of a wanted kind; None for none, and for others."""
    if blob is None:
        return None
    try:
        if not isinstance(blob, bytes) or blob[:2] != b"GP":
            raise ValueError("no GeoPackage geometry")
        skip = 8 + _ENVELOPE_BYTES[blob[3] >> 1 & 7]
        if not is_wanted(blob[skip:]):
            return None
        shape = shapely.force_2d(shapely.from_wkb(blob[skip:]))
    except (ValueError, IndexError, KeyError, struct.error, shapely.errors.ShapelyError) as error:
        raise AreaError(f"A geometry in {label} is damaged: {error}.", "Export it again.") from error
    return None if shape.is_empty else shape


def is_plain_mark(wkb: bytes) -> bool:
    """True for points and lines, and several of them side by side; see :func:`is_plain_polygon`."""
    kind, order, at = _wkb_head(wkb, 0)
    if kind in (_POINT, _LINE):
        return True
    if kind not in (_POINT + 3, _LINE + 3):
        return False
    (count,) = struct.unpack_from(f"{order}I", wkb, at)
    at += 4
    for _ in range(count):
        own, order, at = _wkb_head(wkb, at)
        if own != kind - 3:
            return False
        size = 8 * _dimensions(wkb, at - 4, order)
        if own == _LINE:
            (corners,) = struct.unpack_from(f"{order}I", wkb, at)
            at, size = at + 4, corners * size
        at += size
        if at > len(wkb):
            raise ValueError("cut short")
    return True


def is_plain_polygon(wkb: bytes) -> bool:
    """True for a polygon, or polygons side by side; False for anything else, however deep it is nested.

    The geometry library follows nested collections down to the end of the stack, so they never reach it.
    Source: OGC 06-103r4, section 8.2 (well-known binary).

    Raises
    ------
    ValueError, struct.error
        Cut short.
    """
    kind, order, at = _wkb_head(wkb, 0)
    if kind == _POLYGON:
        return True
    if kind != _MULTIPOLYGON:
        return False
    (count,) = struct.unpack_from(f"{order}I", wkb, at)
    at += 4
    for _ in range(count):
        kind, order, at = _wkb_head(wkb, at)
        if kind != _POLYGON:
            return False
        size = 8 * _dimensions(wkb, at - 4, order)
        (rings,) = struct.unpack_from(f"{order}I", wkb, at)
        at += 4
        for _ in range(rings):
            (corners,) = struct.unpack_from(f"{order}I", wkb, at)
            at += 4 + corners * size
            if at > len(wkb):
                raise ValueError("cut short")
    return True


_POINT, _LINE, _POLYGON, _MULTIPOLYGON = 1, 2, 3, 6


def _wkb_head(wkb: bytes, at: int) -> tuple[int, str, int]:
    """Kind without its dimensions, byte order, and where the rest begins."""
    order = "<" if wkb[at] else ">"
    (code,) = struct.unpack_from(f"{order}I", wkb, at + 1)
    at += 5
    if code & 0x20000000:
        at += 4
    return (code & 0xFFFF) % 1000, order, at


def _dimensions(wkb: bytes, at: int, order: str) -> int:
    (code,) = struct.unpack_from(f"{order}I", wkb, at)
    iso = (code & 0xFFFF) // 1000
    has_z, has_m = bool(code & 0x80000000) or iso in (1, 3), bool(code & 0x40000000) or iso in (2, 3)
    return 2 + has_z + has_m


_SCHEMA = """
CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER PRIMARY KEY, organization TEXT NOT NULL,
  organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT);
CREATE TABLE gpkg_contents (table_name TEXT PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT UNIQUE,
  description TEXT DEFAULT '', last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')),
  min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE gpkg_geometry_columns (table_name TEXT PRIMARY KEY REFERENCES gpkg_contents(table_name),
  column_name TEXT NOT NULL, geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL, z TINYINT NOT NULL,
  m TINYINT NOT NULL);
CREATE TABLE areas (fid INTEGER PRIMARY KEY AUTOINCREMENT, geom MULTIPOLYGON, name TEXT, description TEXT,
  size_km2 DOUBLE);
"""
_APPLICATION_ID, _USER_VERSION = 0x47504B47, 10300


def write_geopackage(area: Area, path: Path) -> None:
    """Write one table, ``areas``, with one row."""
    wkb = shapely.to_wkb(shapely.multipolygons(shapely.get_parts(area.polygon)), byte_order=1)
    blob = b"GP" + struct.pack("<BBi", 0, 1, LONLAT.epsg) + wkb
    systems = [
        ("undefined cartesian", -1, "NONE", -1, "undefined"),
        ("undefined geographic", 0, "NONE", 0, "undefined"),
    ]
    systems.append((LONLAT.name, LONLAT.epsg, "EPSG", LONLAT.epsg, LONLAT.wkt))
    with closing(sqlite3.connect(path)) as database, database:
        database.executescript(_SCHEMA)
        database.execute(f"PRAGMA application_id = {_APPLICATION_ID}")
        database.execute(f"PRAGMA user_version = {_USER_VERSION}")
        database.executemany("INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, NULL)", systems)
        database.execute(
            "INSERT INTO gpkg_contents (table_name, data_type, identifier, min_x, min_y, max_x, max_y, srs_id) "
            "VALUES ('areas', 'features', 'areas', ?, ?, ?, ?, ?)",
            (*area.bounds.as_list(), LONLAT.epsg),
        )
        database.execute(
            "INSERT INTO gpkg_geometry_columns VALUES ('areas', 'geom', 'MULTIPOLYGON', ?, 0, 0)", (LONLAT.epsg,)
        )
        database.execute(
            "INSERT INTO areas (geom, name, description, size_km2) VALUES (?, ?, ?, ?)",
            (blob, area.name, area.description, area.size_km2),
        )
