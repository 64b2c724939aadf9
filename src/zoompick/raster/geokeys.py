"""GeoTIFF keys to and from a grid's place on the globe.

Source: OGC GeoTIFF 1.1 (OGC 19-008r4), sections 7.1 to 7.4 and annexes; tag and key numbers as there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.errors import FormatError, PlacelessError
from zoompick.geo.crs import Crs
from zoompick.raster import geoprojection
from zoompick.raster.geoprojection import USER_DEFINED
from zoompick.raster.grid import Grid
from zoompick.raster.placement import Affine, Placed

PIXEL_SCALE_TAG = 33550
TIEPOINT_TAG = 33922
TRANSFORMATION_TAG = 34264
DIRECTORY_TAG, DOUBLES_TAG, TEXTS_TAG = 34735, 34736, 34737

_MODEL_TYPE, _RASTER_TYPE, _GEODETIC_CRS, _PROJECTED_CRS = 1024, 1025, 2048, 3072
_PROJECTED, _GEOGRAPHIC = 1, 2
_PIXEL_IS_AREA, _PIXEL_IS_POINT = 1, 2


@dataclass(frozen=True, slots=True)
class GeoTags:
    """The georeferencing tags of one image, as stored; empty where a tag is missing."""

    pixel_scale: Sequence[float] = ()
    tiepoint: Sequence[float] = ()
    transformation: Sequence[float] = ()
    directory: Sequence[int] = ()
    doubles: Sequence[float] = ()
    texts: str = ""


def _stored(crs: Crs) -> tuple[tuple[int, ...], tuple[float, ...], str]:
    """Key directory (tag 34735) of a CRS, and the numbers and texts that it points to; pixels are areas.

    Raises
    ------
    UsageError
        The keys have no room for it.
    """
    entries: Sequence[tuple[int, int | float | str]]
    if crs.epsg:
        model, key = (_GEOGRAPHIC, _GEODETIC_CRS) if crs.is_geographic else (_PROJECTED, _PROJECTED_CRS)
        entries = ((_MODEL_TYPE, model), (_RASTER_TYPE, _PIXEL_IS_AREA), (key, crs.epsg))
    else:
        entries = geoprojection.keys_of(crs)
    flat, doubles, texts = [1, 1, 1, len(entries)], list[float](), ""
    for number, value in entries:
        if isinstance(value, int):
            flat += [number, 0, 1, value]
        elif isinstance(value, float):
            flat += [number, DOUBLES_TAG, 1, len(doubles)]
            doubles.append(value)
        else:
            text = value.encode("ascii", "replace").decode().replace("|", "/") + "|"
            flat += [number, TEXTS_TAG, len(text), len(texts)]
            texts += text
    return tuple(flat), tuple(doubles), texts


def tags_for(grid: Grid) -> GeoTags:
    """Tags that put a north-up grid on the globe."""
    directory, doubles, texts = _stored(grid.crs)
    return GeoTags(
        pixel_scale=(grid.pixel_x, grid.pixel_y, 0.0),
        tiepoint=(0.0, 0.0, 0.0, grid.west, grid.north, 0.0),
        directory=directory,
        doubles=doubles,
        texts=texts,
    )


def placed_by(tags: GeoTags, width: int, height: int, address: str) -> Placed:
    """Place of an image from its tags.

    Raises
    ------
    PlacelessError
        The image has no georeference.
    FormatError
        It has a CRS that its keys do not tell.
    """
    if not (tags.pixel_scale or tags.tiepoint or tags.transformation or tags.directory):
        raise PlacelessError(
            f"{address} is a TIFF without a georeference.",
            "Give a GeoTIFF, with the position of its pixels inside.",
        )
    keys = _keys(tags)
    crs = _crs(keys, address)
    at = _affine(tags, address)
    # The tie point names the centre of the pixel, not its corner (section 7.1.2.2.2).
    at = at.by_centres() if keys.get(_RASTER_TYPE) == _PIXEL_IS_POINT else at
    return Placed.of(crs, at, width, height, address)


def _keys(tags: GeoTags) -> dict[int, int | float | str]:
    """Keys and their values: in the directory itself, or where it points to."""
    if len(tags.directory) < 4:
        return {}
    found: dict[int, int | float | str] = {}
    for number, location, count, value in zip(*(tags.directory[start::4] for start in range(4, 8)), strict=False):
        if location == 0:
            found[number] = int(value)
        elif location == DOUBLES_TAG and value < len(tags.doubles):
            found[number] = float(tags.doubles[value])
        elif location == TEXTS_TAG:
            found[number] = tags.texts[value : value + count]
    return found


def _crs(keys: dict[int, int | float | str], address: str) -> Crs:
    number = keys.get(_GEODETIC_CRS) if keys.get(_MODEL_TYPE) == _GEOGRAPHIC else keys.get(_PROJECTED_CRS)
    if number in (None, 0, USER_DEFINED):
        return geoprojection.crs_of(keys, address)
    return Crs.parse(str(number))


def _affine(tags: GeoTags, address: str) -> Affine:
    if len(tags.pixel_scale) >= 2 and len(tags.tiepoint) >= 6:
        col, row, _, x, y = tags.tiepoint[:5]
        pixel_x, pixel_y = tags.pixel_scale[:2]
        return Affine(pixel_x, 0, x - col * pixel_x, 0, -pixel_y, y + row * pixel_y)
    if len(tags.transformation) >= 8:
        a, b, _, x, d, e, _, y = tags.transformation[:8]
        return Affine(a, b, x, d, e, y)
    raise FormatError(
        f"{address} names its reference system, and not where its pixels lie in it.",
        "Write it again with the program that made it.",
    )
