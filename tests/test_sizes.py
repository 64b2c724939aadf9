"""Sizes and shares of many polygons, against the geodesic library and against one polygon at a time."""

from __future__ import annotations

import random
import sqlite3

import numpy as np
import pytest
import shapely
from pyproj import Geod

from zoompick.errors import AreaError
from zoompick.geo.shapes import polygon_of, polygons_of
from zoompick.geo.sizes import area_km2, shares, sizes_km2
from zoompick.scenes.packed import fill

GEOD = Geod(ellps="WGS84")


def along_straight_edges_km2(polygon):
    """The geodesic library's size of the polygon with edges cut so short that they are straight in degrees."""
    fine = shapely.segmentize(polygon, 0.01)
    return abs(GEOD.geometry_area_perimeter(shapely.orient_polygons(fine))[0]) / 1e6


@pytest.mark.parametrize(
    "polygon",
    [
        shapely.box(-12.1, -38.7, -12.0, -38.6),
        shapely.Polygon([(0, 60), (9, 61), (7, 66), (-2, 63)]),
        shapely.box(10, 10, 13, 13).difference(shapely.box(11, 11, 12, 12)),
        shapely.union_all([shapely.box(170, -5, 180, 5), shapely.box(-180, -5, -175, 5)]),
        shapely.box(30, 80, 60, 90),
    ],
)
def test_a_size_is_the_one_on_the_ellipsoid(polygon):
    assert area_km2(polygon) == pytest.approx(along_straight_edges_km2(polygon), rel=2e-7)


def test_the_whole_globe_has_its_known_size():
    # Surface of the WGS 84 ellipsoid: NIMA TR8350.2, table 3.3.
    assert area_km2(shapely.box(-180, -90, 180, 90)) == pytest.approx(510_065_621.724, rel=1e-9)


def test_sizes_of_many_at_once_and_of_nothing():
    mixed = shapely.GeometryCollection(
        [shapely.Point(1, 1), shapely.box(0, 0, 1, 1), shapely.LineString([(0, 0), (9, 9)])]
    )
    many = [shapely.box(0, 0, 1, 1), shapely.Polygon(), mixed, shapely.box(5, 50, 6, 51)]
    found = sizes_km2(many)
    assert found[1] == 0
    assert found[0] == pytest.approx(found[2])
    assert [area_km2(one) for one in many] == pytest.approx(found.tolist())
    assert len(sizes_km2([])) == 0


def test_shares_are_those_of_the_overlaps():
    rng = random.Random(4)
    area = shapely.Polygon([(0, 0), (4, 0.5), (3, 3), (1, 2.5)])
    grounds = [shapely.box(x, y, x + rng.uniform(0.1, 3), y + rng.uniform(0.1, 3))
               for x, y in ((rng.uniform(-2, 5), rng.uniform(-2, 4)) for _ in range(200))]  # fmt: skip
    grounds += [shapely.box(-1, -1, 6, 6), shapely.box(20, 20, 21, 21)]
    found = shares(area, grounds)
    exact = [along_straight_edges_km2(area.intersection(g)) / along_straight_edges_km2(area)
             if area.intersection(g).area else 0.0 for g in grounds]  # fmt: skip
    assert found == pytest.approx(np.array(exact), abs=1e-6)
    assert (found[-2], found[-1]) == (1.0, 0.0)


def ring(west, south, side=1.0):
    return [[west, south], [west + side, south], [west + side, south + side], [west, south + side], [west, south]]


def test_polygons_made_together_are_those_made_one_by_one():
    triangle = [[0, 0], [1, 0], [0, 1], [0, 0]]
    geometries = [
        {"type": "Polygon", "coordinates": [ring(3, 4)]},
        {"type": "Polygon", "coordinates": [triangle]},
        {"type": "Polygon", "coordinates": [ring(0, 0, 4), ring(1, 1)]},
        {"type": "MultiPolygon", "coordinates": [[ring(0, 0)], [ring(5, 5)]]},
        {"type": "Polygon", "coordinates": [[[179, 0], [-179, 0], [-179, 1], [179, 1], [179, 0]]]},
        {"type": "Polygon", "coordinates": [[[*point, 7.0] for point in ring(1, 1)]]},
        {"type": "Polygon", "coordinates": [ring(10, 80)[:-1]]},
        {"type": "Polygon", "coordinates": [[[0, 0], [1, 1], [1, 0], [0, 1], [0, 0]]]},
        {"type": "Polygon", "coordinates": [ring(200, 10)]},
        {"type": "Polygon", "coordinates": [ring(float("nan"), 10)]},
        {"type": "Polygon", "coordinates": [ring(0, 0, 0)]},
        {"type": "Polygon", "coordinates": [["a", "b", "c", "d"]]},
        {"type": "Point", "coordinates": [0, 0]},
        None,
        "Polygon",
    ]
    for geometry, together in zip(geometries, polygons_of(geometries), strict=True):
        try:
            alone = polygon_of(geometry)
        except AreaError:
            alone = None
        assert (alone is None) == (together is None), geometry
        assert alone is None or shapely.equals(alone, together), geometry
    assert sum(polygon is not None for polygon in polygons_of(geometries)) == 8
    assert polygons_of([]) == []


@pytest.mark.parametrize("count", [0, 1, 51, 52, 51 * 51 + 1, 7000])
def test_a_tree_written_whole_is_sound_and_answers_as_a_scan(count):
    rng = np.random.default_rng(count)
    low = rng.uniform(-170, 170, (count, 3))
    edges = np.empty((count, 6))
    edges[:, 0::2], edges[:, 1::2] = low, low + rng.uniform(0, 3, (count, 3))
    edges = edges[np.argsort(edges[:, 0])]
    database = sqlite3.connect(":memory:")
    database.execute("CREATE VIRTUAL TABLE place USING rtree(row, a, b, c, d, e, f)")
    fill(database, "place", edges)
    assert database.execute("SELECT rtreecheck('place')").fetchone() == ("ok",)
    assert database.execute("SELECT count(*) FROM place").fetchone() == (count,)
    for west in (-100.0, 0.0, 60.5):
        box = (west + 30, west, 20.0, -20.0)
        found = {row for (row,) in database.execute(
            "SELECT row FROM place WHERE a <= ? AND b >= ? AND c <= ? AND d >= ?", box)}  # fmt: skip
        exact = (edges[:, 0] <= box[0]) & (edges[:, 1] >= box[1]) & (edges[:, 2] <= box[2]) & (edges[:, 3] >= box[3])
        # Boxes are rounded outwards: nothing is missed, and what is too much lies at the edge.
        assert set(np.flatnonzero(exact).tolist()) <= found
        assert len(found) <= exact.sum() + 2


def test_an_area_of_many_parts_is_shared_out_as_one_of_few():
    rng = np.random.default_rng(8)
    corners = rng.integers(0, 40, (300, 2)) / 10
    parts = [shapely.box(x, y, x + 0.07, y + 0.06) for x, y in {tuple(c) for c in corners.tolist()}]
    area = shapely.MultiPolygon(parts)
    prints = [shapely.Polygon([(x, y), (x + 2, y + 0.3), (x + 1.5, y + 2.1)]) for x, y in rng.uniform(-1, 4, (25, 2))]
    prints += [shapely.box(-1, -1, 5, 5), shapely.box(20, 20, 21, 21)]
    assert len(parts) > 100
    expected = [area_km2(shapely.intersection(area, one)) / area_km2(area) for one in prints]
    assert shares(area, prints) == pytest.approx(expected, abs=1e-9)
