"""Rasters over the antimeridian, the poles and the whole globe."""

from __future__ import annotations

import numpy as np
import pytest
from pyproj import Transformer

from helpers import Memory
from zoompick.geo.crs import Crs
from zoompick.raster.grid import Grid


def degrees(west, east, south=-10.0, north=10.0, pixel=0.1):
    """A raster in degrees whose values tell their longitude (from -180) and latitude."""
    place = Grid(Crs(4326), pixel, pixel, west, north, round((east - west) / pixel), round((north - south) / pixel))
    lon = west + (np.arange(place.width) + 0.5) * pixel
    lat = north - (np.arange(place.height) + 0.5) * pixel
    lon = (lon + 180) % 360 - 180
    return Memory(np.stack(np.broadcast_arrays(lon[None, :], lat[:, None])).astype("float32"), place, float("nan"))


@pytest.mark.parametrize("span", [(170, 190), (-190, -170), (-180, 180), (0, 360)])
@pytest.mark.parametrize("box", [(179, -1, -179, 1), (-179.5, -1, -178, 1), (177, -1, 178.5, 1)])
def test_rasters_that_cross_the_antimeridian_are_clipped_and_stacked(span, box):
    from zoompick.geo.shapes import lonlat_box
    from zoompick.imagery.clip import Clip
    from zoompick.raster.warp import laid_on
    from zoompick.verification.registry import judge
    from zoompick.verification.subject import Subject

    raster, area = degrees(*span), lonlat_box(*box)
    width = (box[2] - box[0]) % 360
    cut = Clip(raster, area)
    assert cut.grid.width == pytest.approx(width / 0.1, abs=1) and cut.grid.height == pytest.approx(20, abs=1)
    lon, lat = cut.read(cut.grid.window)
    inside = np.isfinite(lon)
    assert inside.mean() > 0.9 and np.abs(lat[inside]).max() < 1
    assert (((lon[inside] - box[0]) % 360) < width).all()
    [found] = judge(Subject("x", raster, area=area), {"valid"})
    assert found.outcome == "pass", found
    # Carried into metres: the same longitudes come out of the exact transform.
    place = Grid(Crs(32660), 11000, 11000, 300000, 80000, 60, 14)
    lon = laid_on(raster, place).read(place.window)[0]
    xs, ys = place.west + (np.arange(60) + 0.5) * 11000, place.north - (np.arange(14) + 0.5) * 11000
    expected, _ = Transformer.from_crs(32660, 4326, always_xy=True).transform(*np.meshgrid(xs, ys))
    seen = np.isfinite(lon) & (np.abs(np.abs(expected) - 180) > 0.2)
    assert seen.mean() > 0.3 and np.abs(((lon - expected)[seen] + 180) % 360 - 180).max() < 0.06


def test_footprints_over_the_antimeridian_and_the_pole(tmp_path):
    from zoompick.geo.bounds import Bounds
    from zoompick.geo.shapes import bbox_of, outline_of
    from zoompick.geo.sizes import area_km2

    zone = outline_of(Bounds(750000, 0, 900000, 100000), Crs(32660), 10000)
    west, _, east, _ = bbox_of(zone)
    assert 179 < west < 180 and -180 < east < -179 and area_km2(zone) == pytest.approx(15000, rel=0.01)
    box = bbox_of(outline_of(Bounds(170, -5, 190, 5), Crs(4326), 1))
    assert box == pytest.approx([170, -5, -170, 5])
    pole = outline_of(Bounds(-1e6, -1e6, 1e6, 1e6), Crs(3995), 50000)
    assert pole.bounds[0] == -180 and pole.bounds[2:] == (180, 90)
    exact = Transformer.from_crs(3995, 4326, always_xy=True)
    assert area_km2(pole) == pytest.approx(4e6 / ((1 + np.sin(np.radians(71))) / 2) ** 2 * 0.93, rel=0.12)
    assert exact.transform(0, 0)[1] == pytest.approx(90)


def test_polar_rasters_over_the_pole():
    """An area around the pole is one ground in polar stereographic, without a slit along 180 degrees."""
    import shapely

    from zoompick.geo.shapes import project
    from zoompick.imagery.clip import Clip

    cap = shapely.box(-180, 85, 180, 90)
    flat = project(cap, Crs(3995))
    assert flat.geom_type == "Polygon" and len(flat.interiors) == 0 and flat.contains(shapely.Point(0, 0))
    place = Grid(Crs(3995), 10000, 10000, -700000, 700000, 140, 140)
    raster = Memory(np.ones((1, 140, 140), "uint8"), place, 0)
    found = Clip(raster, cap)
    inside = found.read(found.grid.window)[0]
    radius = np.sqrt(inside.sum() / np.pi) * 10000
    expected = np.hypot(*Transformer.from_crs(4326, 3995, always_xy=True).transform(30, 85))
    assert radius == pytest.approx(expected, rel=0.005) and inside[70, 70] and inside[20:60, 70].all()
