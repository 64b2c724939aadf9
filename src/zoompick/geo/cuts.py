"""A polygon cut into pieces of equal true size."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from zoompick.geo.shapes import Shape, intersection
from zoompick.geo.sizes import area_km2
from zoompick.later import later

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

_GRID_DEG = 1e-7
_HALVINGS = 50
"""Of the search for a cut: far below a millimetre."""


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

    wanted = share * area_km2(polygon)
    low, high = (west, east) if along_parallel else (south, north)
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        if area_km2(intersection(polygon, before(middle))) < wanted:
            low = middle
        else:
            high = middle
    line = before(high)
    return _ground(intersection(polygon, line)), _ground(shapely.difference(polygon, line))


def _ground(cut: Shape) -> Shape:
    """What has a size, its corners rounded as they are written: a cut along an edge can leave lines."""
    parts = [part for part in shapely.get_parts(cut) if isinstance(part, shapely.Polygon)]
    return shapely.set_precision(shapely.union_all(parts), _GRID_DEG)
