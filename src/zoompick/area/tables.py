"""Tables of places: names and coordinates in columns, or well-known text in one."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping

from zoompick.area import coordinates, wkt
from zoompick.area.model import Feature
from zoompick.errors import AreaError
from zoompick.geo.shapes import Shape
from zoompick.later import shapely

_LAT = ("lat", "latitude", "lat_dd", "y")
_LON = ("lon", "lng", "long", "longitude", "lon_dd", "x")
_NAME = ("name", "id", "site", "title", "code", "plot", "station", "label")
_SHAPE = ("wkt", "geometry", "geom", "the_geom", "shape")
_MOST_ROWS = 100_000


def is_table(text: str) -> bool:
    """True when the first line names columns of coordinates, or one of well-known text."""
    names = _columns(text)
    return any(one in names for one in _SHAPE) or (
        _first(names, _LAT) is not None and _first(names, _LON) is not None
    )


def marks(text: str, label: str) -> Iterator[tuple[str, Shape]]:
    """Points (and lines, of well-known text) of a table, with their names; nothing of another text.

    Raises
    ------
    AreaError
        A row that holds no coordinates.
    """
    if not is_table(text):
        return
    columns = _columns(text)
    lat, lon, name, shape = (_first(columns, words) for words in (_LAT, _LON, _NAME, _SHAPE))
    for number, row in _rows(text):
        own = row.get(name, "").strip() if name else ""
        where = f"{label}, line {number}"
        if shape:
            yield from ((own, part) for part in wkt.parts_of(row[shape], where) if "Polygon" not in part.geom_type)
        elif lat and lon:
            words = row[lat].strip(), row[lon].strip()
            try:
                y, x = (_degrees(word, letters) for word, letters in zip(words, ("NS", "EW"), strict=True))
            except AreaError as error:
                raise AreaError(f"{where} holds no coordinates: {', '.join(words)}.", error.todo) from error
            yield own, shapely.Point(x, y)


def _degrees(word: str, letters: str) -> float:
    """A latitude or a longitude, with or without its letter, its fraction behind a point or a comma."""
    plain = word.replace(",", ".") if word.count(",") == 1 and "." not in word else word
    try:
        return float(plain)
    except ValueError:
        other = "0E" if letters == "NS" else "0N"
        point = coordinates.parse_point(f"{word} {other}" if letters == "NS" else f"{other} {word}")
        return point.lat if letters == "NS" else point.lon


def polygons(text: str, label: str) -> list[Feature]:
    """Polygons of a column of well-known text, with the other columns as attributes.

    Raises
    ------
    AreaError
        A row whose text cannot be read.
    """
    columns = _columns(text)
    name, shape = _first(columns, _NAME), _first(columns, _SHAPE)
    if shape is None:
        raise AreaError(
            f"{label} is a table of points, which have no size.", "Say how far around them: `around` 500m."
        )
    found = []
    for number, row in _rows(text):
        own = row.get(name, "").strip() if name else ""
        told = {key: value for key, value in row.items() if key != shape}
        features, _ = wkt.read_wkt(row[shape], f"{label}, line {number}")
        found += [Feature(own, one.polygon, told, one.problem) for one in features]
    return found


def _dialect(text: str) -> str:
    head = text.lstrip("\ufeff").splitlines()[0] if text.strip() else ""
    return max(",;\t|", key=head.count)


def _columns(text: str) -> list[str]:
    head = text.lstrip("\ufeff \r\n").partition("\n")[0]
    return [one.strip().strip('"').lower() for one in head.split(_dialect(head))] if len(head) < 5000 else []


def _first(columns: list[str], words: tuple[str, ...]) -> str | None:
    return next((word for word in words if word in columns), None)


def _rows(text: str) -> Iterator[tuple[int, Mapping[str, str]]]:
    """Line and values by column, all columns there; empty lines are left out."""
    columns = _columns(text)
    csv.field_size_limit(1 << 24)
    reader = csv.reader(io.StringIO(text.lstrip("\ufeff \r\n")), delimiter=_dialect(text))
    next(reader)
    for row in reader:
        if reader.line_num > _MOST_ROWS:
            raise AreaError(f"The table has more than {_MOST_ROWS} lines.", "Give the rows that are meant.")
        if any(one.strip() for one in row):
            yield reader.line_num, dict(zip(columns, [*row, *[""] * len(columns)], strict=False))
