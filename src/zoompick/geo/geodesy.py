"""Lengths and distances in metres on the WGS 84 ellipsoid; polygons widened, simplified and drawn in metres.

Source: C. F. F. Karney, Algorithms for geodesics, J. Geodesy 87 (2013).
"""

from __future__ import annotations

from collections.abc import Callable

from zoompick.errors import AreaError
from zoompick.geo import antimeridian
from zoompick.geo.crs import LocalPlane, ellipsoid
from zoompick.geo.shapes import Shape, checked_polygon
from zoompick.later import np, shapely

_CIRCLE_CORNERS = 72
_LONGEST_EDGE_M = 2000.0


def perimeter_km(polygon: Shape) -> float:
    """Length of all rings, holes included, in kilometres; cuts along the antimeridian are no edges."""
    corners, of_ring = shapely.get_coordinates(shapely.get_rings(shapely.get_parts(polygon)), return_index=True)
    is_cut = np.abs(corners[:, 0]) >= 180
    edges = ~(is_cut[:-1] & is_cut[1:]) & (of_ring[:-1] == of_ring[1:])
    starts, ends = corners[:-1][edges], corners[1:][edges]
    lengths_m = ellipsoid().inv(starts[:, 0], starts[:, 1], ends[:, 0], ends[:, 1])[2]
    return float(np.sum(lengths_m)) / 1000


def distance_m(lon_a: float, lat_a: float, lon_b: float, lat_b: float) -> float:
    """Shortest way between two points."""
    return float(ellipsoid().inv(lon_a, lat_a, lon_b, lat_b)[2])


def circle(lon: float, lat: float, radius_m: float) -> Shape:
    """Geodesic circle of 72 corners around a point; right across the antimeridian and at the poles.

    Raises
    ------
    AreaError
        The radius is not above 0, or so large that half the globe lies inside.
    """
    if not 0 < radius_m < 9_000_000:
        raise AreaError(f"The radius {radius_m:g} m is not between 0 and 9000 km.", "Give `around` 5km, say.")
    azimuths = -np.linspace(0, 360, _CIRCLE_CORNERS, endpoint=False)
    count = np.full(_CIRCLE_CORNERS, 1.0)
    xs, ys, _ = ellipsoid().fwd(lon * count, lat * count, azimuths, radius_m * count)
    ring = np.column_stack([xs, ys])
    return checked_polygon(antimeridian.cut(np.vstack([ring, ring[:1]])))


def buffered(polygon: Shape, distance_m: float) -> Shape:
    """The polygon grown (or, below zero, shrunk) by a distance in metres.

    Raises
    ------
    AreaError
        Nothing is left of it.
    """
    grown = _in_metres(polygon, lambda flat: flat.buffer(distance_m))
    if grown.is_empty:
        raise AreaError(
            f"Nothing is left of the area when it shrinks by {-distance_m:g} m.", "Give a smaller distance."
        )
    return grown


def simplified(polygon: Shape, tolerance_m: float) -> Shape:
    """Fewer corners; no point of the outline moves further than ``tolerance_m`` (Douglas and Peucker, 1973)."""
    return _in_metres(polygon, lambda flat: flat.simplify(tolerance_m), cut_edges=False)


def _in_metres(polygon: Shape, action: Callable[[Shape], Shape], cut_edges: bool = True) -> Shape:
    """Do something to a polygon in a flat plane about its middle; good to a metre over some hundred kilometres."""
    joined = _joined(polygon)
    centre = joined.centroid
    plane = LocalPlane(((centre.x + 180) % 360) - 180, centre.y)
    flat = shapely.transform(joined, lambda xy: np.column_stack(plane.forward(xy[:, 0], xy[:, 1])))
    done = action(shapely.segmentize(flat, _LONGEST_EDGE_M) if cut_edges else flat)
    if done.is_empty:
        return done
    if cut_edges:
        done = done.simplify(0.05)
    back = shapely.transform(done, lambda xy: np.column_stack(plane.inverse(xy[:, 0], xy[:, 1])))
    parts = [antimeridian.cut(p.exterior.coords, [r.coords for r in p.interiors]) for p in shapely.get_parts(back)]
    return checked_polygon(shapely.union_all(parts))


def _joined(polygon: Shape) -> Shape:
    """Parts on both sides of the antimeridian put side by side, western longitudes going on beyond 180."""
    west, _, east, _ = polygon.bounds
    if east - west < 180:
        return polygon
    parts = [
        shapely.transform(part, lambda xy: np.add(xy, (360, 0))) if part.bounds[2] <= 0 else part
        for part in shapely.get_parts(polygon)
    ]
    return shapely.union_all(parts)
