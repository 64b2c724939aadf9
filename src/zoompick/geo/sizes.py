"""How much ground a polygon holds, and what part of one lies in another; many polygons at a time.

Edges are straight in degrees, as RFC 7946 (section 3.1.1) reads them, and the ellipsoid is WGS 84. The area between
an edge and the equator is the integral of the authalic function over longitude.

Source: J. P. Snyder, Map Projections: A Working Manual, USGS Professional Paper 1395 (1987), equation 3-12.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

from zoompick.arrays import Floats
from zoompick.geo.crs import ellipsoid
from zoompick.geo.shapes import Shape
from zoompick.later import np, npt, shapely

if TYPE_CHECKING:
    Shapes = npt.NDArray[np.object_]

_MANY_PARTS = 100
"""From so many on, parts are told apart before any is cut: one polygon of all would be walked for each footprint."""
_LONGEST_EDGE_DEG = 1.0
"""Longer edges are cut first, so that Simpson's rule is exact to a billionth."""


def sizes_km2(polygons: Sequence[Shape] | Shapes) -> Floats:
    """True sizes in square kilometres, shape (n,); lines and points in a collection, and empty ones, count 0."""
    parts, owners = shapely.get_parts(np.asarray(polygons, object), return_index=True)
    is_ground = shapely.get_type_id(parts) == shapely.GeometryType.POLYGON
    parts, owners = shapely.orient_polygons(parts[is_ground]), owners[is_ground]
    corners = shapely.bounds(parts)
    if (corners[:, 2:] - corners[:, :2] > _LONGEST_EDGE_DEG).any():
        parts = shapely.segmentize(parts, _LONGEST_EDGE_DEG)
    rings, of_part = shapely.get_rings(parts, return_index=True)
    points, of_ring = shapely.get_coordinates(rings, return_index=True)
    same = of_ring[1:] == of_ring[:-1]
    radians = np.radians(points)
    lon, lat = radians[:, 0], radians[:, 1]
    edges = _authalic(lat[:-1]) + 4 * _authalic((lat[:-1] + lat[1:]) / 2) + _authalic(lat[1:])
    # A ring that keeps its ground on the left runs from east to west above it.
    swept = (lon[:-1] - lon[1:]) * edges / 6 * same
    total = np.zeros(len(polygons))
    if len(swept):
        np.add.at(total, owners[of_part[of_ring[:-1]]], swept)
    return np.abs(total) * ellipsoid().a ** 2 / 2 / 1e6


def _authalic(lat: Floats) -> Floats:
    """Snyder's q: the area from the equator to a parallel, in units of half the squared equatorial radius."""
    e = np.sqrt(ellipsoid().es)
    sine = np.sin(lat)
    return (1 - e * e) * (sine / (1 - (e * sine) ** 2) - np.log((1 - e * sine) / (1 + e * sine)) / (2 * e))


def area_km2(polygon: Shape) -> float:
    """True size of one polygon in longitude/latitude, in square kilometres; 0 when empty."""
    return float(sizes_km2([polygon])[0])


@lru_cache(maxsize=8)
def _size_of(area: Shape) -> float:
    return area_km2(area)


def shares(area: Shape, footprints: Sequence[Shape]) -> Floats:
    """Part of ``area`` that each footprint covers, 0 to 1, shape (n,), all in longitude/latitude."""
    found = np.zeros(len(footprints))
    whole = _size_of(area)
    if not whole or not len(footprints):
        return found
    ground = np.asarray(footprints, object)
    if shapely.get_num_geometries(area) > _MANY_PARTS:
        return np.minimum(1.0, _by_parts(shapely.get_parts(area), ground) / whole)
    shapely.prepare(area)
    touching = np.flatnonzero(shapely.intersects(area, ground))
    around = shapely.covers(ground[touching], area)
    found[touching[around]] = 1.0
    rest = touching[~around]
    if not len(rest):
        return found
    cut = rest[~shapely.covers(area, ground[rest])]
    pieces = ground.copy()
    pieces[cut] = shapely.intersection(area, ground[cut])
    found[rest] = np.minimum(1.0, sizes_km2(list(pieces[rest])) / whole)
    return found


def _by_parts(parts: Shapes, ground: Shapes) -> Floats:
    """Square kilometres of an area of many parts under each footprint: only parts that an edge crosses are cut."""
    shapely.prepare(ground)
    above, below = shapely.STRtree(parts).query(ground, predicate="intersects")
    is_whole = shapely.covers(ground[above], parts[below])
    found = np.zeros(len(ground))
    np.add.at(found, above[is_whole], sizes_km2(parts)[below[is_whole]])
    cut = shapely.intersection(ground[above[~is_whole]], parts[below[~is_whole]])
    np.add.at(found, above[~is_whole], sizes_km2(cut))
    return found


def share(area: Shape, footprint: Shape) -> float:
    """Part of ``area`` that ``footprint`` covers, 0 to 1, both in longitude/latitude."""
    return float(shares(area, [footprint])[0])
