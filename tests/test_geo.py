"""Coordinates, shapes, areas."""

from __future__ import annotations

import json
import math

import numpy as np
import pytest
import shapely

from helpers import FEN, UTM
from zoompick.area.model import Area
from zoompick.area.read import read_area
from zoompick.errors import AreaError, UsageError
from zoompick.geo import shapes, sizes
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs, transform, utm_for


def test_transverse_mercator_against_the_series():
    """Snyder, Map Projections, a Working Manual (1987), formulas 8-9 to 8-13, to the millimetre near the centre."""
    lon, lat = -14.93, -38.6
    a, f, k0 = 6378137.0, 1 / 298.257223563, 0.9996
    e2 = f * (2 - f)
    ep2, phi = e2 / (1 - e2), math.radians(lat)
    n = a / math.sqrt(1 - e2 * math.sin(phi) ** 2)
    t, c = math.tan(phi) ** 2, ep2 * math.cos(phi) ** 2
    big_a = math.cos(phi) * math.radians(lon + 15)
    m = a * (
        (1 - e2 / 4 - 3 * e2**2 / 64 - 5 * e2**3 / 256) * phi
        - (3 * e2 / 8 + 3 * e2**2 / 32 + 45 * e2**3 / 1024) * math.sin(2 * phi)
        + (15 * e2**2 / 256 + 45 * e2**3 / 1024) * math.sin(4 * phi)
        - 35 * e2**3 / 3072 * math.sin(6 * phi)
    )
    x = 500000 + k0 * n * (big_a + (1 - t + c) * big_a**3 / 6)
    y = 10_000_000 + k0 * (m + n * math.tan(phi) * (big_a**2 / 2 + (5 - t + 9 * c + 4 * c**2) * big_a**4 / 24))
    got_x, got_y = transform(lon, lat, LONLAT, UTM)
    assert (float(got_x), float(got_y)) == (pytest.approx(x, abs=2e-3), pytest.approx(y, abs=2e-3))


@pytest.mark.parametrize(
    ("lon", "lat", "epsg"),
    [(-12.01, -38, 32728), (-11.99, -38, 32729), (179.99, 10, 32660), (180, 10, 32660), (-180, 0, 32601)],
)
def test_utm_zone(lon, lat, epsg):
    assert utm_for(lon, lat) == Crs(epsg)


@pytest.mark.parametrize("text", ["EPSG:32728", "epsg:32728", " 32728 "])
def test_crs_by_code(text):
    assert Crs.parse(text) == UTM
    assert str(UTM) == "EPSG:32728"
    assert not UTM.is_geographic


@pytest.mark.parametrize("text", ["UTM 28S", "EPSG:", "EPSG:999999", "12"])
def test_unknown_crs(text):
    with pytest.raises(UsageError):
        Crs.parse(text)


def test_area_on_the_ellipsoid():
    """A small box against the ellipsoid's radii of curvature; the whole globe against its known size."""
    a, e2, lat = 6378137.0, 0.00669437999014, math.radians(-38.5)
    w = 1 - e2 * math.sin(lat) ** 2
    meridian, normal = a * (1 - e2) / w**1.5, a / math.sqrt(w)
    side = math.radians(0.02)
    expected = meridian * side * normal * math.cos(lat) * side / 1e6
    assert sizes.area_km2(shapely.box(-12.02, -38.51, -12, -38.49)) == pytest.approx(expected, rel=1e-6)
    assert sizes.area_km2(shapely.Polygon()) == 0
    hole = shapely.Polygon(shapely.box(0, 0, 2, 2).exterior, [shapely.box(0.5, 0.5, 1, 1).exterior])
    whole, inner = sizes.area_km2(shapely.box(0, 0, 2, 2)), sizes.area_km2(shapely.box(0.5, 0.5, 1, 1))
    assert sizes.area_km2(hole) == pytest.approx(whole - inner, rel=1e-9)


def test_share_of_an_area():
    area = shapely.box(-12.1, -38.6, -12.0, -38.5)
    assert sizes.share(area, shapely.box(-12.1, -38.6, -12.05, -38.5)) == pytest.approx(0.5, abs=1e-6)
    assert sizes.share(area, shapely.box(0, 0, 1, 1)) == 0
    assert sizes.share(area, shapely.box(-13, -39, -11, -38)) == 1


def test_long_edges_bend_with_the_projection():
    """An edge along a parallel is not a straight line in UTM: its middle must lie on the parallel."""
    projected = shapes.project(shapely.box(-15, -60.0, -9, -59.5), UTM)
    mid_x, mid_y = transform(-12.0, -60.0, LONLAT, UTM)
    assert projected.exterior.distance(shapely.Point(float(mid_x), float(mid_y))) < 1
    back = shapes.project(projected, LONLAT, UTM)
    assert np.allclose(back.bounds, (-15, -60, -9, -59.5), atol=1e-7)


def test_rings_hold_holes_too():
    hole = shapely.Polygon(shapely.box(0, 0, 4, 4).exterior, [shapely.box(1, 1, 2, 2).exterior])
    assert [len(ring) for ring in shapes.rings_of(hole)] == [5, 5]


def test_geojson_rings_turn_the_standard_way():
    clockwise = shapely.Polygon([(0, 0), (0, 1), (1, 1), (1, 0)])
    assert shapely.LinearRing(shapes.geojson_of(clockwise)["coordinates"][0]).is_ccw


@pytest.mark.parametrize(
    ("box", "words"),
    [
        ((-12.1, -98.6, -12, -38.5), "latitude -98.6"),
        ((-38.6, -112.1, -38.5, -112), "latitude was given first"),
        ((-190, -38.6, -12, -38.5), "longitude -190"),
        ((-12, -38.6, -12.1, -38.5), "west"),
        ((-12.1, -38.5, -12, -38.6), "south"),
        ((-12.1, -38.5, -12.1, -38.4), "west"),
        ((float("nan"), 0, 1, 1), "no number"),
    ],
)
def test_boxes_that_cannot_be(box, words):
    with pytest.raises(AreaError, match=words):
        Bounds.from_lonlat(*box)


BAD_AREAS = {
    "bow tie": ({"type": "Polygon", "coordinates": [[[0, 0], [1, 1], [1, 0], [0, 1], [0, 0]]]}, "crosses itself"),
    "line": ({"type": "Polygon", "coordinates": [[[0, 0], [1, 1], [2, 2], [0, 0]]]}, "crosses itself|no ground"),
    "empty": ({"type": "Polygon", "coordinates": []}, "empty"),
    "point": ({"type": "Point", "coordinates": [0, 0]}, "is a Point"),
    "nothing": (None, "no geometry"),
    "two corners": ({"type": "Polygon", "coordinates": [[[0, 0], [1, 1]]]}, "cannot be read"),
    "words": (
        {"type": "Polygon", "coordinates": [[["a", "b"], ["c", "d"], ["e", "f"], ["a", "b"]]]},
        "cannot be read",
    ),
    "metres": (
        {"type": "Polygon", "coordinates": [[[7e5, 5e6], [7.1e5, 5e6], [7.1e5, 5.1e6], [7e5, 5e6]]]},
        "project metres",
    ),
    "swapped": (
        {"type": "Polygon", "coordinates": [[[-38, -112], [-37, -112], [-37, -111], [-38, -112]]]},
        "latitude was",
    ),
}


@pytest.mark.parametrize("name", BAD_AREAS)
def test_areas_that_cannot_be(tmp_path, name):
    geometry, words = BAD_AREAS[name]
    path = tmp_path / "a.geojson"
    path.write_text(json.dumps({"type": "Feature", "properties": {}, "geometry": geometry}))
    with pytest.raises(AreaError, match=words):
        read_area(path)


@pytest.mark.parametrize("text", ["", "hello", "[1, 2]", "{}", '{"type": "FeatureCollection", "features": []}'])
def test_files_that_hold_no_area(tmp_path, text):
    path = tmp_path / "a.geojson"
    path.write_text(text)
    with pytest.raises(AreaError):
        read_area(path)
    with pytest.raises(AreaError, match="no area file"):
        read_area(tmp_path / "none.geojson")


def test_areas_in_each_wrapping(tmp_path):
    feature = {"type": "Feature", "properties": {"name": "Harrow Fen"}, "geometry": FEN}
    other = {
        "type": "Feature",
        "properties": {},
        "geometry": {"type": "Polygon", "coordinates": [[[1, 1, 7], [2, 1, 7], [2, 2, 7], [1, 1, 7]]]},
    }
    path = tmp_path / "fen.geojson"
    for value, name in (
        (FEN, "fen"),
        (feature, "Harrow Fen"),
        ({"type": "FeatureCollection", "features": [feature]}, "Harrow Fen"),
    ):
        path.write_text(json.dumps(value))
        area = read_area(path)
        assert area.name == name
        assert area.size_km2 == pytest.approx(8.313, abs=0.005)
        assert area.utm == UTM
    path.write_text(json.dumps({"type": "FeatureCollection", "features": [feature, other]}))
    both = read_area(path)
    assert both.polygon.geom_type == "MultiPolygon"
    assert not both.polygon.has_z
    again = read_area_text(tmp_path, both.to_feature())
    assert again.polygon.equals(both.polygon)


def read_area_text(folder, value) -> Area:
    path = folder / "again.geojson"
    path.write_text(json.dumps(value))
    return read_area(path)
