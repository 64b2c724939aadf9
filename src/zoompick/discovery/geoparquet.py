"""Footprints as GeoParquet, the only door to pyarrow: written along a curve, searched by statistics of row groups.

A file with a bounding-box column that its metadata name (GeoParquet 1.1, "covering") is searched as it lies, here, on
a web server or on object storage: only row groups whose boxes meet the area's are read, and of these first the
columns that decide. Files without one are indexed once (:mod:`zoompick.discovery.index`).
Source: OGC GeoParquet 1.1, sections "Bounding Box Columns" and "covering".
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from zoompick import foreign
from zoompick.area.model import Feature
from zoompick.bytesource import ByteSource, SourceStream
from zoompick.discovery.index import along_curve
from zoompick.discovery.probing import refuse_deadly
from zoompick.errors import AreaError, FormatError, UsageError
from zoompick.files import parse_json
from zoompick.geo.bounds import Bounds
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import compute, parquet, pyarrow, shapely
from zoompick.scenes.fields import Told
from zoompick.scenes.period import Period

ENDINGS = (".parquet", ".geoparquet")
ROWS_A_GROUP = 8192
_EDGES = ("xmin", "ymin", "xmax", "ymax")
_FAR_EAST = 170.0
"""Beyond it boxes may run across the antimeridian, their west end above the east one: no group is passed by there."""


@contextmanager
def _arrow(label: str) -> Iterator[None]:
    """Turn the library's errors, and its absence, into ours."""
    try:
        yield
    except ImportError as error:
        raise UsageError(
            "GeoParquet needs the optional package pyarrow.", "Install it: pip install 'zoompick[parquet]'."
        ) from error
    except (pyarrow.ArrowException, ValueError, KeyError, OSError, shapely.errors.ShapelyError) as error:
        raise FormatError(f"{label} is not GeoParquet that can be read: {error}.", "Make it again.") from error


def features_of(path: Path) -> Iterator[Feature]:
    """All rows of a file (primary column, WKB encoding)."""
    with _arrow(path.name):
        refuse_deadly(path)
        table = parquet.ParquetFile(path)
        column = _about(table).get("primary_column", "geometry")
        for batch in table.iter_batches(ROWS_A_GROUP):
            yield from _features(batch.to_pylist(), column)


def _features(rows: Iterable[JsonObject], column: str) -> Iterator[Feature]:
    for row in rows:
        wkb: bytes | None = row.pop(column, None)
        if wkb is None:
            continue
        shape = shapely.from_wkb(wkb)
        if shape.geom_type in ("Polygon", "MultiPolygon"):
            yield Feature(str(row.get("name") or ""), shape, row)


def _about(table: Any) -> JsonObject:
    told = parse_json((table.schema_arrow.metadata or {}).get(b"geo", b"{}"))
    return told if isinstance(told, dict) else {}


class _Group(NamedTuple):
    """A row group: its number, and the box that holds all of its boxes; None where statistics lack."""

    number: int
    box: Bounds | None


class Covered:
    """A file with bounding boxes beside its geometries.

    Attributes
    ----------
    count : int
        Rows.
    """

    def __init__(self, address: str, covering: Mapping[str, Sequence[str]], table: Any, column: str) -> None:
        self._address, self._table, self._column = address, table, column
        self._paths = {edge: ".".join(covering[edge]) for edge in _EDGES}
        self.count = int(table.metadata.num_rows)

    @classmethod
    def of(cls, address: str, opens: Callable[[str], ByteSource]) -> Covered | None:
        """The file at a path or an address, which ``opens`` gives the bytes of; None where it tells no boxes.

        Raises
        ------
        FormatError
        """
        with _arrow(address):
            is_here = Path(address).is_file()
            refuse_deadly(Path(address) if is_here else opens(address))
            table = parquet.ParquetFile(address if is_here else SourceStream(opens(address)), memory_map=is_here)
            about = _about(table)
            column = str(about.get("primary_column", "geometry"))
            told = about.get("columns", {}).get(column, {}).get("covering", {}).get("bbox")
            is_whole = isinstance(told, dict) and all(isinstance(told.get(edge), list) for edge in _EDGES)
            return cls(address, told, table, column) if is_whole else None

    def _groups(self) -> Iterator[_Group]:
        metadata = self._table.metadata
        names = [metadata.schema.column(place).path for place in range(metadata.num_columns)]
        places = [names.index(self._paths[edge]) for edge in _EDGES]
        for number in range(metadata.num_row_groups):
            group = metadata.row_group(number)
            told = [group.column(place).statistics for place in places]
            if not all(one is not None and one.has_min_max for one in told):
                yield _Group(number, None)
                continue
            yield _Group(number, Bounds(told[0].min, told[1].min, told[2].max, told[3].max))

    def extent(self) -> Bounds | None:
        """West, south, east and north of all; None where statistics lack."""
        with _arrow(self._address):
            boxes = [group.box for group in self._groups()]
        known = [box for box in boxes if box is not None]
        if len(known) < len(boxes) or not known:
            return None
        return Bounds(
            min(b.west for b in known), min(b.south for b in known), max(b.east for b in known),
            max(b.north for b in known),
        )  # fmt: skip

    def collections(self) -> list[str]:
        """Names in the column of collections; none where there is no such column.

        A group whose least name is also its greatest holds one, and is not read.
        """
        with _arrow(self._address):
            metadata = self._table.metadata
            names = [metadata.schema.column(place).path for place in range(metadata.num_columns)]
            if "collection" not in names:
                return []
            found: set[str] = set()
            for number in range(metadata.num_row_groups):
                told = metadata.row_group(number).column(names.index("collection")).statistics
                if told is not None and told.has_min_max and told.min == told.max:
                    found.add(str(told.min))
                else:
                    column = self._table.read_row_group(number, ["collection"])["collection"]
                    found |= {str(name) for name in compute.unique(column).to_pylist() if name is not None}
            return sorted(found)

    def features(self, boxes: Sequence[Bounds], span: Period | None, cloud_max: float | None) -> Iterator[Feature]:
        """Rows whose box meets one of ``boxes``, in time and with at most this cloud, as far as columns tell that.

        The caller tests them exactly.
        """
        with _arrow(self._address):
            for group in self._groups():
                if group.box is not None and not any(_may_meet(group.box, box) for box in boxes):
                    continue
                rows = self._hits(group.number, boxes, span, cloud_max)
                if len(rows):
                    whole = self._table.read_row_group(group.number).take(rows)
                    yield from _features(whole.to_pylist(), self._column)

    def _hits(self, number: int, boxes: Sequence[Bounds], span: Period | None, cloud_max: float | None) -> Any:
        """Places in a group of the rows that may fit."""
        schema = self._table.schema_arrow
        roots = {path.split(".")[0] for path in self._paths.values()}
        times = [
            name for name in _TIMES if name in schema.names and pyarrow.types.is_timestamp(schema.field(name).type)
        ]
        wanted = [*roots, *(times if span else [])]
        clouds = "eo:cloud_cover" in schema.names and cloud_max is not None
        wanted += ["eo:cloud_cover"] if clouds else []
        table = self._table.read_row_group(number, wanted).flatten()
        west, south, east, north = (table[self._paths[edge]] for edge in _EDGES)
        keep = None
        for box in boxes:
            along = compute.and_(compute.less_equal(west, box.east), compute.greater_equal(east, box.west))
            along = compute.or_(along, compute.greater(west, east))
            across = compute.and_(compute.less_equal(south, box.north), compute.greater_equal(north, box.south))
            own = compute.and_(along, across)
            keep = own if keep is None else compute.or_(keep, own)
        assert keep is not None
        for is_first, edge in ((True, span.end if span else None), (False, span.start if span else None)):
            moment = self._moment(table, times, is_first) if edge is not None else None
            if moment is not None:
                test = compute.less_equal if is_first else compute.greater_equal
                limit = pyarrow.scalar(edge, moment.type)
                keep = compute.and_(keep, compute.fill_null(test(moment, limit), True))
        if clouds:
            told = compute.less_equal(table["eo:cloud_cover"], cloud_max)
            keep = compute.and_(keep, compute.fill_null(told, True))
        return compute.indices_nonzero(keep)

    @staticmethod
    def _moment(table: Any, times: Sequence[str], is_first: bool) -> Any:
        """First or last moment of each row; None where columns do not tell it.

        A file with a moment alone may mean the first of a span by it: the last is told by none of its columns.
        """
        end = "start_datetime" if is_first else "end_datetime"
        if end not in times and not is_first:
            return None
        own = [table[name] for name in ("datetime", end) if name in times]
        return compute.coalesce(*own) if own else None


_TIMES = ("datetime", "start_datetime", "end_datetime")


def _may_meet(group: Bounds, box: Bounds) -> bool:
    is_far = box.west < -_FAR_EAST or box.east > _FAR_EAST
    along = is_far or (group.west <= box.east and group.east >= box.west)
    return along and group.south <= box.north and group.north >= box.south


def write(items: Iterable[JsonMap], path: Path) -> None:
    """Write items as GeoParquet 1.1: id, collection, geometry and its box, main properties apart, all as JSON text.

    Rows lie along a curve, so that a group holds neighbours and a search reads few.

    Raises
    ------
    UsageError
        The optional package pyarrow is not installed.
    AreaError
        An item without a geometry.
    """
    with _arrow(path.name):
        rows = [_row(item) for item in items]
        if any(row["geometry"] is None for row in rows):
            raise AreaError("A scene without a footprint cannot be written as GeoParquet.", "Drop it first.")
        order = along_curve([[row["bbox"][edge] for edge in ("xmin", "xmax", "ymin", "ymax")] for row in rows])
        table = pyarrow.Table.from_pylist([rows[place] for place in order], schema())
        parquet.write_table(table, path, row_group_size=ROWS_A_GROUP, compression="zstd")


def schema() -> Any:
    """Columns of the files written here, with their geographic metadata."""
    with _arrow("the schema"):
        text, number, moment = pyarrow.string(), pyarrow.float64(), pyarrow.timestamp("us", "UTC")
        fields = [
            ("id", text), ("collection", text), ("datetime", moment), ("start_datetime", moment),
            ("end_datetime", moment), ("platform", text),
            ("eo:cloud_cover", number), ("properties", text), ("assets", text),
            ("bbox", pyarrow.struct([(edge, number) for edge in _EDGES])), ("geometry", pyarrow.binary()),
        ]  # fmt: skip
        geo = {
            "version": "1.1.0", "primary_column": "geometry",
            "columns": {"geometry": {
                "encoding": "WKB", "geometry_types": ["Polygon", "MultiPolygon"],
                "covering": {"bbox": {edge: ["bbox", edge] for edge in _EDGES}},
            }},
        }  # fmt: skip
        return pyarrow.schema(fields, {"geo": json.dumps(geo)})


def _row(item: JsonMap) -> JsonObject:
    properties = item.get("properties") or {}
    geometry = item.get("geometry")
    shape = shapely.geometry.shape(geometry) if geometry else None
    return {
        "id": item.get("id"),
        "collection": item.get("collection"),
        **{key: foreign.moment(properties.get(key)) for key in ("datetime", "start_datetime", "end_datetime")},
        "platform": properties.get("platform"),
        "eo:cloud_cover": Told(properties).number("cloud"),
        "properties": json.dumps(properties),
        "assets": json.dumps(item.get("assets") or {}),
        "bbox": dict(zip(_EDGES, shape.bounds, strict=True)) if shape is not None else None,
        "geometry": shapely.to_wkb(shape) if shape is not None else None,
    }
