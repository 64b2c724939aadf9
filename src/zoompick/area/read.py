"""Read an area from a file or a text, whatever form it has; every form that was tried is named when none fits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from zoompick.area import coordinates, guard, kml, shapefile, tables, wkt
from zoompick.area.geojson import read_geojson
from zoompick.area.geopackage import read_geopackage
from zoompick.area.gpx import read_gpx
from zoompick.area.kml import read_kml
from zoompick.area.marks import Mark, marks_of
from zoompick.area.model import Area, Feature, only_named
from zoompick.area.shapefile import read_shapefile
from zoompick.errors import AreaError, UnknownNameError
from zoompick.geo.bounds import Bounds
from zoompick.geo.geodesy import buffered, circle
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.given import length_m
from zoompick.later import shapely

FORMATS = "GeoJSON, KML, KMZ, GPX, WKT, shapefile (.shp or .zip), GeoPackage, a table or a list of corners"
_TIFF_MAGIC = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
Read = tuple[list[Feature], list[str]]


def read_area(path: Path, wanted: str = "") -> Area:
    """Read an area from a file, by what it holds; its name's ending only breaks ties.

    Parameters
    ----------
    wanted : str
        Name of one polygon, or ``attribute=value``; all polygons as one area when empty.

    Raises
    ------
    AreaError
        Missing, of no form that is read, or its polygon is empty, crossing itself or off the globe.
    """
    if path.is_dir():
        raise AreaError(f"{path} is a folder.", f"Give a file: {FORMATS}.")
    if not path.is_file():
        raise AreaError(f"There is no area file {path}.", f"Give a path ({FORMATS}), a box or coordinates.")
    features, notes = _by_content(path)
    return area_of(features, notes, wanted, path.name, path.stem)


class Each(NamedTuple):
    """A polygon of a file as an area of its own, and what keeps it from being one."""

    area: Area
    problem: AreaError | None = None


def read_each(path: Path, column: str = "") -> list[Each]:
    """Every polygon of a file as an area of its own.

    One without a name, one whose name another has before it, and one whose geometry is none, has a problem; without a
    name it is told by its place.

    Parameters
    ----------
    column : str
        Attribute that names them; the names that the format knows when empty.

    Raises
    ------
    AreaError
        As :func:`read_area`; or most polygons have no name of their own.
    UnknownNameError
        No polygon has the attribute.
    """
    if not path.is_file():
        raise AreaError(f"There is no area file {path}.", f"Give a layer of areas: {FORMATS}.")
    features, _ = _by_content(path)
    known = list(dict.fromkeys(key for feature in features for key in feature.attributes))
    if column and column not in known:
        raise UnknownNameError.of(f"column of {path.name}", column, known)
    names = [str(entry.attributes.get(column) or "") if column else entry.name for entry in features]
    others = [name for name in known if name != column][:12]
    todo = f"Other columns: {', '.join(others)}." if column and others else (
        f"Name them by a column, `column` NAME: {', '.join(others)}." if others else "Give each a name of its own."
    )  # fmt: skip
    found = [_named(path, place, names, feature, todo) for place, feature in enumerate(features)]
    problems = [one.problem for one in found if one.problem is not None]
    if 2 * len(problems) > len(found):
        raise problems[0]
    return found


def _named(path: Path, place: int, names: Sequence[str], feature: Feature, todo: str) -> Each:
    name, first = names[place], names.index(names[place])
    if feature.problem is not None:
        return Each(Area(name.strip() or f"polygon {place + 1}", feature.polygon), feature.problem)
    if name.strip() and first == place:
        return Each(Area(name, feature.polygon))
    if not name.strip():
        what = f"Polygon {place + 1} of {path.name} has no name."
    else:
        what = f"Polygons {first + 1} and {place + 1} of {path.name} are both {name}."
    return Each(Area(f"polygon {place + 1}", feature.polygon), AreaError(what, todo))


def read_text(text: str, wanted: str = "", label: str = "standard input", likely: Sequence[Bounds] = ()) -> Area:
    """Read an area from a text that was pasted or piped in.

    Raises
    ------
    AreaError
    """
    if label == "standard input" and text.lstrip().startswith(("{", "<")):
        features, notes = _of_text(text.encode(), label)
    elif wkt.looks_like_wkt(text):
        features, notes = wkt.read_wkt(text, label)
    else:
        features, notes = _corners(text, label, likely)
    return area_of(features, notes, wanted, label, "area")


def around(text: str, radius: str, likely: Sequence[Bounds] = ()) -> Area:
    """The circle of a radius (``5km``) around a point.

    Raises
    ------
    AreaError
    """
    point = coordinates.parse_point(text, likely)
    return around_point(point, radius, text.strip())


def around_point(point: coordinates.Point, radius: str, name: str) -> Area:
    """The circle around a point that is known already."""
    polygon = circle(point.lon, point.lat, length_m(radius))
    return Area(f"{radius} around {name}", polygon, notes=(point.note,) if point.note else ())


def area_of(features: list[Feature], notes: Sequence[str], wanted: str, where: str, fallback: str) -> Area:
    """One area of the features that are wanted: of one its name, of several all of their ground."""
    chosen = only_named(features, wanted, where)
    for feature in chosen:
        if feature.problem is not None:
            raise feature.problem
    said = list(notes)
    if len(chosen) > 1:
        names = ", ".join(entry.name for entry in chosen[:6] if entry.name)
        one = " Name one with `named` to take it alone." if names and not wanted else ""
        said.append(
            f"{where} holds {len(chosen)} polygons; all of them are the area{f' ({names})' if names else ''}.{one}"
        )
    name = chosen[0].name if len(chosen) == 1 else ""
    description = str(chosen[0].attributes.get("description") or "") if len(chosen) == 1 else ""
    return replace(Area(name or fallback, _joined(chosen, where)), description=description, notes=tuple(said))


def around_file(path: Path, radius: str, wanted: str = "") -> Area:
    """Circles and strips of a radius around the points and lines in a file, of whatever form.

    Raises
    ------
    AreaError
        It holds none, or none of the name that is wanted.
    """
    if not path.is_file():
        raise AreaError(f"There is no file {path}.", f"Give a path ({FORMATS}), a place or coordinates.")
    every = marks_of(path)
    found = [mark for mark in every if wanted in ("", mark.name)]
    if not found:
        names = ", ".join(list(dict.fromkeys(mark.name for mark in every if mark.name))[:12])
        what = f"no point or line called {wanted}" if wanted and every else "no point and no line"
        todo = f"There is {names}." if wanted and names else "`around` is for points and lines; an area has a size."
        raise AreaError(f"{path.name} holds {what}.", todo)
    name = found[0].name if len({mark.name for mark in found}) == 1 and found[0].name else path.stem
    grounds = [_about(mark, radius) for mark in found]
    ground = grounds[0] if len(grounds) == 1 else shapely.union_all(grounds)
    points = sum(mark.is_point for mark in found)
    lines = len(found) - points
    counts = [
        f"{count} {word}{'s' if count > 1 else ''}" for count, word in ((points, "point"), (lines, "line")) if count
    ]
    one = " Name one with `named` to take it alone." if len(found) > 1 and any(mark.name for mark in found) else ""
    said = (
        [f"The ground within {radius} of {' and '.join(counts)} in {path.name}.{one}"]
        if len(found) > 1 or lines
        else []
    )
    return Area(
        f"{radius} around {name}", checked_polygon(ground, f"The ground about {path.name}"), notes=tuple(said)
    )


def _about(mark: Mark, radius: str) -> Shape:
    if mark.is_point:
        lon, lat = map(float, shapely.get_coordinates(mark.shape)[0])
        return circle(lon, lat, length_m(radius))
    return buffered(mark.shape, length_m(radius))


def _joined(features: Sequence[Feature], where: str) -> Shape:
    if len(features) == 1:
        return features[0].polygon
    return checked_polygon(
        shapely.disjoint_subset_union_all([entry.polygon for entry in features]), f"The area in {where}"
    )


def _by_content(path: Path) -> Read:
    head = path.open("rb").read(512)
    suffix = path.suffix.lower()
    if head.startswith(b"PK"):
        is_kmz = suffix == ".kmz" or any(name.lower().endswith(".kml") for name in guard.members(path))
        return kml.read_kmz(path) if is_kmz else shapefile.read_shapefile(path)
    if head.startswith(b"SQLite format 3"):
        return read_geopackage(path)
    if head.startswith(b"\x00\x00\x27\x0a") or suffix == ".shp":
        return read_shapefile(path)
    if head.startswith(_TIFF_MAGIC):
        raise AreaError(f"{path.name} is a raster.", "Give it as `like` FILE: its bounds become the area.")
    return _of_text(guard.as_utf8(guard.read_bytes(path)), path.name)


def _of_text(data: bytes, label: str) -> Read:
    text = data[:4000].decode("utf-8-sig", "replace").lstrip()
    if text.startswith(("{", "[")):
        return read_geojson(data, label)
    if text.startswith("<"):
        return _of_xml(data, text, label)
    whole = data.decode("utf-8-sig", "replace")
    if wkt.looks_like_wkt(text):
        return wkt.read_wkt(whole, label)
    if tables.is_table(whole):
        return tables.polygons(whole, label), []
    try:
        return _corners(whole, label, ())
    except AreaError as error:
        raise AreaError(
            f"{label} is not GeoJSON, nor any other form of an area.", f"Tried were {FORMATS}."
        ) from error


def _of_xml(data: bytes, text: str, label: str) -> Read:
    if "<gpx" in text[:2000].lower():
        return read_gpx(data, label)

    return read_kml(data, label)


def _corners(text: str, label: str, likely: Sequence[Bounds]) -> Read:
    points = coordinates.parse_corners(text, likely)
    polygon = shapely.Polygon([(point.lon, point.lat) for point in points])
    notes = list(dict.fromkeys(point.note for point in points if point.note))
    return [Feature("", checked_polygon(polygon, f"The outline in {label}"))], notes
