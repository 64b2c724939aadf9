"""A polygon cut into pieces of equal true size."""

from __future__ import annotations

import math
from collections.abc import Callable

from zoompick.geo.shapes import Shape, intersection
from zoompick.geo.sizes import area_km2
from zoompick.later import shapely

_GRID_DEG = 1e-7
_STEPS, _CLOSE = 50, 1e-9
"""Of the search for a cut: how often it guesses at most, and the share of the size by which it may be off."""


def equal_pieces(polygon: Shape, count: int) -> list[Shape]:
    """Cut a polygon by straight lines into pieces of equal size, in km2 on the ellipsoid.

    Parameters
    ----------
    polygon : polygon
        Longitude/latitude.
    count : int
        Number of pieces, at least 1.

    Returns
    -------
    list of polygon
        South to north, or west to east, across the longer side; a piece of a winding area may have several parts.
    """
    if count <= 1:
        return [polygon]
    first = count // 2
    low, high = _parted(polygon, first / count)
    return [*equal_pieces(low, first), *equal_pieces(high, count - first)]


def _parted(polygon: Shape, share: float) -> tuple[Shape, Shape]:
    """The part before a line across the longer side, which holds ``share`` of the size, and the part after it."""
    west, south, east, north = shapely.bounds(polygon)
    along_parallel = (east - west) * math.cos(math.radians((south + north) / 2)) >= north - south

    def before(place: float) -> Shape:
        return shapely.box(west, south, place, north) if along_parallel else shapely.box(west, south, east, place)

    size = area_km2(polygon)
    low, high = (west, east) if along_parallel else (south, north)
    line = _root(lambda place: area_km2(intersection(polygon, before(place))) / size - share, (low, high), share)
    return _ground(intersection(polygon, before(line))), _ground(shapely.difference(polygon, before(line)))


def _root(over: Callable[[float], float], ends: tuple[float, float], share: float) -> float:
    """Where a rising function is 0, which is ``-share`` at the first end and ``1 - share`` at the second.

    By false position, the end that stays weighing half as much each time (the Illinois rule: Dowell and Jarratt, A
    modified regula falsi method, 1971): some eight steps.
    """
    (low, high), below, above = ends, -share, 1 - share
    side = 0
    middle = high
    for _ in range(_STEPS):
        middle = (low * above - high * below) / (above - below)
        value = over(middle)
        if abs(value) <= _CLOSE:
            break
        if value < 0:
            low, below = middle, value
            above = above / 2 if side < 0 else above
        else:
            high, above = middle, value
            below = below / 2 if side > 0 else below
        side = -1 if value < 0 else 1
    return middle


def _ground(cut: Shape) -> Shape:
    """What has a size, its corners rounded as they are written: a cut along an edge can leave lines."""
    parts = [part for part in shapely.get_parts(cut) if isinstance(part, shapely.Polygon)]
    return shapely.set_precision(shapely.union_all(parts), _GRID_DEG)
