"""From what a person gives to an area: a file, a pasted text, a name, a point with a radius, another raster."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from urllib.parse import urlsplit

from zoompick.addresses import is_remote
from zoompick.area import coordinates, kept, places, read, sheets, wkt
from zoompick.area.model import Area
from zoompick.errors import AreaError, UnknownNameError, UsageError
from zoompick.files import write_json
from zoompick.geo import geodesy
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import Shape, checked_polygon, outline_of
from zoompick.geo.sizes import area_km2, share
from zoompick.given import length_m
from zoompick.journal import act
from zoompick.later import shapely
from zoompick.scenes.opening import open_raster
from zoompick.study.folder import Study
from zoompick.study.session import session_of

_ENDINGS = (".geojson", ".json", ".kml", ".kmz", ".gpx", ".wkt", ".txt", ".shp", ".zip", ".gpkg", ".csv", ".tsv")
_RASTERS = (".tif", ".tiff", ".jp2", ".nc", ".h5", ".hdf5", ".hdf")


_HEAD_BYTES = 512
"""No raster begins with so much plain text."""


@dataclass(frozen=True, slots=True)
class AreaRequest:
    """What a person gave; what is empty was not given.

    Attributes
    ----------
    text : str
        A file, a kept area, a place, a sheet or tile, coordinates, WKT, or ``-``.
    piped : str
        Standard input, when ``text`` is ``-``.
    around : str
        Radius about a point: ``5km``.
    only : str
        One polygon of a file, by name or ``attribute=value``.
    like : Path or None
        A raster whose bounds are the area.
    """

    text: str = ""
    piped: str = ""
    box: tuple[float, float, float, float] | None = None
    around: str = ""
    only: str = ""
    like: Path | None = None


def resolve(request: AreaRequest, near: Sequence[Bounds] = ()) -> Area | None:
    """The area that is meant, or None when nothing was given.

    Parameters
    ----------
    near : sequence of Bounds
        Where the person works: an unlikely point is questioned.

    Raises
    ------
    AreaError, UnknownNameError
    """
    given = [bool(request.text), request.box is not None, request.like is not None]
    if sum(given) > 1:
        raise AreaError("An area was given in more than one way.", "Give one of a name or file, `box`, or `like`.")
    if request.box is not None:
        return _questioned(Area.from_box(*request.box), near, "The box")
    if request.like is not None:
        return _like(request.like)
    if not request.text:
        if request.around:
            raise AreaError("`around` needs a point.", "Give one: `area` '38.61S 12.02W' `around` 5km.")
        return None
    if request.text == "-":
        return read.read_text(request.piped, request.only, likely=near)
    return _named(request, [*near, *places.extents(places.known())])


def _named(request: AreaRequest, near: Sequence[Bounds]) -> Area:
    text, path = request.text, Path(request.text)
    if is_remote(text) and (_is_file(text) or not coordinates.looks_like_coordinates(text)):
        return _far(request)
    if path.suffix.lower() in _RASTERS and path.is_file() and b"\0" in path.open("rb").read(_HEAD_BYTES):
        return _about(_like(path), request)
    is_file = _exists(path) or (path.suffix.lower() in _ENDINGS and not wkt.looks_like_wkt(text))
    if is_file and request.around:
        return _questioned(read.around_file(path, request.around, request.only), near, path.name)
    if is_file:
        return _questioned(read.read_area(path, request.only), near, path.name)
    if wkt.looks_like_wkt(text):
        return read.read_text(text, request.only, "The text", near)
    if request.only:
        raise AreaError(
            f"'{text}' is one area; `named` has nothing to choose from.", "Leave `named` out, or give a file."
        )
    found = sheets.every_named(text)
    if text in kept.names():
        area = kept.load(text)
        other = found[0].scheme if found else "place" if places.is_known(text) else ""
        note = f"{text} is an area that you kept; the {other} of this name is not meant." if other else ""
        return replace(area, notes=(*area.notes, note)) if note else area
    if found:
        more = "".join(f" {one.scheme} {one.name} is not meant." for one in found[1:])
        return Area(found[0].name, found[0].polygon, notes=(f"{found[0].name} is a {found[0].scheme}.{more}",))
    if coordinates.looks_like_coordinates(text):
        return _of_numbers(request, near)
    scheme = sheets.scheme_of(text)
    if scheme is not None and not any(place.name.lower() == text.lower() for place in places.known()):
        raise AreaError(f"There is no {scheme.name} {text} here.", "'zoompick area where' lists them.")
    return _place(request)


def _questioned(area: Area, near: Sequence[Bounds], what: str) -> Area:
    """An area with a note where it lies far from all the work, and would lie near it turned around."""
    lon, lat = area.centre
    if not coordinates.is_unlikely(lon, lat, [*near, *places.extents(places.known())]):
        return area
    note = (
        f"{what} lies at latitude {lat:.4g}, longitude {lon:.4g}, far from all you work with; with both turned "
        "around it would lie near it. Longitude comes first here."
    )
    return replace(area, notes=(*area.notes, note))


def _about(area: Area, request: AreaRequest) -> Area:
    """An area of a raster, which has neither points nor names."""
    given = "around" if request.around else "named" if request.only else ""
    if given:
        raise AreaError(f"`{given}` is not for a raster, whose bounds are the area.", "Leave it out.")
    return area


def _is_file(address: str) -> bool:
    """True for a web address whose path ends as files of areas do."""
    return Path(urlsplit(address).path).suffix.lower() in _ENDINGS


def _far(request: AreaRequest) -> Area:
    """An area out of a file at a web address."""
    content, _ = session_of(None).document(request.text)
    name = Path(urlsplit(request.text).path).name or "area"
    with TemporaryDirectory(prefix="zoompick-") as folder:
        path = Path(folder) / name
        path.write_bytes(content)
        if request.around:
            return read.around_file(path, request.around, request.only)
        return read.read_area(path, request.only)


def _exists(path: Path) -> bool:
    try:
        return path.exists()
    except (OSError, ValueError):
        # A text too long for a name, or with signs that no name has.
        return False


def _of_numbers(request: AreaRequest, near: Sequence[Bounds]) -> Area:
    text = request.text
    box = coordinates.parse_box(text)
    if box is not None:
        return Area.from_box(*box)
    if four := coordinates.four_numbers(text):
        raise AreaError(
            f"'{text.strip()}' are four numbers, and nothing tells which is what.",
            f"A box is `box` WEST SOUTH EAST NORTH: `box` {' '.join(four)}, if that is their order.",
        )
    if ";" in text or "\n" in text or text.count(",") > 2 or coordinates.is_list(text):
        return read.read_text(text, "", "The text", near)
    if not request.around:
        point = coordinates.parse_point(text, near)
        raise AreaError(
            f"'{text}' is a point ({_shown(point.lon, point.lat)}); it has no size.",
            f"{point.note} Say how far around it: `around` 5km.".strip(),
        )
    return read.around(text, request.around, near)


def _place(request: AreaRequest) -> Area:
    try:
        place = places.named(request.text)
    except UnknownNameError as error:
        raise AreaError(
            f"'{request.text}' is no file, coordinates, kept area, sheet, tile or place known here.", error.todo
        ) from error
    where = f", {place.within}" if place.within else ""
    if request.around:
        point = coordinates.Point(place.lon, place.lat)
        area = read.around_point(point, request.around, place.name)
        note = f"{place.name}{where} ({place.kind}) gave its point, {_shown(place.lon, place.lat)}."
        return Area(area.name, area.polygon, notes=(note, *_namesakes(place)))
    if place.ground is None:
        shown = _shown(place.lon, place.lat)
        raise AreaError(
            f"{place.name}{where} is a {place.kind}, known as a point ({shown}); it has no size.",
            "Say how far around it: `around` 3km.",
        )
    note = f"The outline of {place.name}{where} ({place.kind})."
    return Area(place.name, place.ground, notes=(note, *_namesakes(place)))


def _namesakes(place: places.Place) -> list[str]:
    """A sentence where other gazetteers have the name too."""
    others = places.namesakes(place)
    if not others:
        return []
    first = others[0]
    more = f" and {len(others) - 1} more" if len(others) > 1 else ""
    return [(f"{first.name}, {first.within or first.gazetteer} ({first.kind}, "
            f"{_shown(first.lon, first.lat)}){more} of this name is not meant.")]  # fmt: skip


def _shown(lon: float, lat: float) -> str:
    return f"{abs(lat):.4f}{'N' if lat >= 0 else 'S'} {abs(lon):.4f}{'E' if lon >= 0 else 'W'}"


def _like(path: Path) -> Area:
    grid = open_raster(path).grid
    outline = outline_of(grid.bounds, grid.crs, max(grid.bounds.width, grid.bounds.height) / 20)
    return Area(path.stem, checked_polygon(outline), notes=(f"The bounds of {path.name}.",))


def as_area(name: str, value: object) -> Area:
    """An area out of what Python users give for one: an Area, a polygon, a file, a place, coordinates.

    Parameters
    ----------
    name : str
        Of the argument, for the error.

    Raises
    ------
    UsageError, AreaError
    """
    if isinstance(value, Area):
        return value
    if hasattr(value, "geom_type"):
        return Area("area", value)  # type: ignore[arg-type]
    if not isinstance(value, str | os.PathLike):
        raise UsageError(
            f"`{name}` is an area, and {type(value).__name__} was given.", "An Area, a file, a place, coordinates."
        )
    found = resolve(AreaRequest(os.fspath(value)))
    assert found is not None
    return found


def changed(area: Area, buffer: str, simplify: str, add: Sequence[Area], cut: Sequence[Area]) -> Area:
    """The area joined with others, with others cut out of it, grown and simplified, in this order.

    Raises
    ------
    AreaError
        Nothing is left.
    """
    polygon = area.polygon
    if add:
        polygon = shapely.union_all([polygon, *(entry.polygon for entry in add)])
    for entry in cut:
        polygon = _polygons(shapely.difference(polygon, entry.polygon), entry.name)
    if buffer:
        polygon = geodesy.buffered(polygon, length_m(buffer))
    if simplify:
        polygon = geodesy.simplified(polygon, length_m(simplify))
    return Area(area.name, checked_polygon(polygon), area.description)


def set_area(study: Study, area: Area) -> None:
    """Make an area the study's."""
    with study.locked(), act(study.journal_file, "area", area=area.name, size_km2=round(area.size_km2, 4)):
        write_json(study.area_file, area.to_feature())


def change_area(study: Study, buffer: str, simplify: str, add: Sequence[Area], cut: Sequence[Area]) -> Area:
    """Change the study's area and return it; see :func:`changed`."""
    after = changed(study.area(), buffer, simplify, add, cut)
    with study.locked(), act(study.journal_file, "area change", size_km2=round(after.size_km2, 4)):
        write_json(study.area_file, after.to_feature())
    return after


def _polygons(shape: Shape, name: str) -> Shape:
    parts = [part for part in shapely.get_parts(shape) if part.geom_type == "Polygon" and area_km2(part) > 1e-9]
    if not parts:
        raise AreaError(f"Nothing is left of the area without {name}.", "Cut out something smaller.")
    return shapely.union_all(parts)


@dataclass(frozen=True, slots=True)
class Under:
    """What lies under an area: its kind, its name, the larger ground it is in, percent of the area it covers."""

    kind: str
    name: str
    within: str
    percent: float


def where(area: Area) -> list[Under]:
    """Sheets, tiles, track/frames, districts and places under an area, by kind, the largest share first."""
    found = [
        Under(scheme.name, sheet.name, "", percent)
        for scheme in sheets.schemes()
        for sheet, percent in scheme.under(area.polygon)
    ]
    for place in places.known():
        if place.gazetteer == "towns":
            continue
        if place.ground is not None:
            percent = 100 * share(area.polygon, place.ground)
            if percent > 0:
                found.append(Under(place.kind, place.name, place.within, percent))
        elif shapely.contains_xy(area.polygon, place.lon, place.lat):
            found.append(Under(place.kind, place.name, place.within, 0.0))
    order = {kind: number for number, kind in enumerate(("region", "district"))}
    return sorted(found, key=lambda entry: (order.get(entry.kind, 2), entry.kind, -entry.percent, entry.name))
