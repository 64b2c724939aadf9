"""Rasters over the antimeridian, the poles and the whole globe; images that do not lie north up."""

from __future__ import annotations

import math
import pickle

import numpy as np
import pytest
import scipy.ndimage
import tifffile
from pyproj import Transformer

from helpers import Memory
from zoompick.geo.crs import Crs
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opening import open_raster
from zoompick.raster.warp import resampled_to


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
    from zoompick.judge.registry import judge
    from zoompick.judge.subject import Subject
    from zoompick.raster.clip import Clip
    from zoompick.raster.warp import resampled_to

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
    lon = resampled_to(raster, place).read(place.window)[0]
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
    from zoompick.raster.clip import Clip

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


# Images that do not lie north up, written by tifffile


EPSG_32628 = (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32628)
WEST, NORTH, PIXEL = 700_000.0, 5_800_000.0, 8.0


def write_turned(path, pixels, numbers, nodata=None, side=64):
    """A tiled TIFF with the six numbers (a, b, c, d, e, f) in its transformation, and an overview."""
    a, b, c, d, e, f = numbers
    tags = [(34264, 12, 16, (a, b, 0, c, d, e, 0, f, 0, 0, 0, 0, 0, 0, 0, 1), True),
            (34735, 3, len(EPSG_32628), EPSG_32628, True)]  # fmt: skip
    tags += [] if nodata is None else [(42113, 2, 0, str(nodata), True)]
    with tifffile.TiffWriter(path) as tiff:
        common = {"tile": (side, side), "compression": "zlib", "photometric": "minisblack", "metadata": None}
        tiff.write(pixels, subifds=0, extratags=tags, **common)
        tiff.write(np.ascontiguousarray(pixels[::2, ::2]), subfiletype=1, **common)


def places(numbers, shape):
    """x and y of the centre of every pixel, by the definition."""
    a, b, c, d, e, f = numbers
    row, col = np.mgrid[: shape[0], : shape[1]] + 0.5
    return a * col + b * row + c, d * col + e * row + f


@pytest.mark.parametrize("across", [(PIXEL, 0), (-PIXEL, 0), (0, PIXEL), (0, -PIXEL)])
@pytest.mark.parametrize("is_back", [False, True])
def test_mirrored_images_are_read_pixel_by_pixel(tmp_path, across, is_back):
    """Columns run east, west, north or south, rows to their right or left: all eight ways."""
    down = (across[1], -across[0]) if not is_back else (-across[1], across[0])
    numbers = (across[0], down[0], 700_400.0, across[1], down[1], 5_799_600.0)
    pixels = np.random.default_rng(4).integers(1, 9999, (90, 122), np.uint16)
    write_turned(tmp_path / "red.tif", pixels, numbers, 0)
    raster = open_raster(tmp_path / "red.tif")
    place, found = raster.grid, raster.read(raster.grid.window)[0]
    assert sorted(found.shape) == [90, 122] and (place.pixel_x, place.pixel_y) == (PIXEL, PIXEL)
    x, y = places(numbers, pixels.shape)
    cols, rows = (x - place.west) / PIXEL, (place.north - y) / PIXEL
    np.testing.assert_array_equal(found[rows.astype(int), cols.astype(int)], pixels)
    assert raster == open_raster(tmp_path / "red.tif") and len({raster, pickle.loads(pickle.dumps(raster))}) == 1
    part = Window(-5, 11, 40, 200)
    wide = np.pad(found, 250)[250 + 11 : 250 + 211, 245:285]
    np.testing.assert_array_equal(raster.read(part)[0], wide)
    half = raster.levels[1]
    assert (half.west, half.north, half.pixel_x) == pytest.approx((place.west, place.north, 2 * PIXEL), abs=PIXEL)
    x, y = places((*(2 * v for v in numbers[:2]), numbers[2], *(2 * v for v in numbers[3:5]), numbers[5]), (45, 61))
    cols, rows = (x - half.west) / half.pixel_x, (half.north - y) / half.pixel_y
    low = raster.read(half.window, None, 1)[0]
    np.testing.assert_array_equal(low[rows.astype(int), cols.astype(int)], pixels[::2, ::2])


def test_a_scale_with_a_minus_is_south_up(tmp_path):
    pixels = np.arange(64 * 80, dtype=np.uint16).reshape(64, 80)
    tags = [(33550, 12, 3, (8.0, -8.0, 0.0), True), (33922, 12, 6, (0, 0, 0, WEST, NORTH, 0), True),
            (34735, 3, len(EPSG_32628), EPSG_32628, True)]  # fmt: skip
    tifffile.imwrite(tmp_path / "a.tif", pixels, extratags=tags, photometric="minisblack", metadata=None)
    raster = open_raster(tmp_path / "a.tif")
    assert raster.grid.bounds.south == NORTH and raster.grid.west == WEST
    np.testing.assert_array_equal(raster.read(raster.grid.window)[0], pixels[::-1])


def turned(angle_deg, pixel=PIXEL):
    """Six numbers of an image whose rows run at an angle north of east."""
    cos, sin = math.cos(math.radians(angle_deg)) * pixel, math.sin(math.radians(angle_deg)) * pixel
    return cos, sin, WEST, sin, -cos, NORTH


def hills(shape):
    """Smooth ground with no value of 0."""
    rng = np.random.default_rng(8)
    rough = scipy.ndimage.gaussian_filter(rng.normal(size=shape), 6)
    return np.rint(3000 + 2000 * rough / np.abs(rough).max()).astype(np.uint16)


@pytest.mark.parametrize("angle", [12.5, -40.0, 100.0])
@pytest.mark.parametrize("nodata", [0, None])
def test_turned_images_lie_where_their_numbers_say(tmp_path, angle, nodata):
    numbers, pixels = turned(angle), hills((200, 260))
    write_turned(tmp_path / "red.tif", pixels, numbers, nodata)
    raster = open_raster(tmp_path / "red.tif")
    assert raster == pickle.loads(pickle.dumps(raster))
    assert raster.nodata is not None and f"turned by {angle:g} degrees" in raster.notes[-1]
    # On its own grid, on a coarse one, and in degrees: each against the exact positions and SciPy's map_coordinates.
    wide = Grid(raster.grid.crs, 8, 8, raster.grid.west - 80, raster.grid.north + 80, 500, 480)
    lon, lat = Transformer.from_crs(32628, 4326, always_xy=True).transform(WEST, NORTH)
    lonlat = Grid(Crs(4326), 7e-5, 7e-5, lon - 0.03, lat + 0.03, 900, 900)
    # The kernel's positions are in 32nds of a pixel.
    error = 1 + 0.06 * np.hypot(*np.gradient(pixels.astype(float))).max()
    for place, epsg in ((raster.grid, 32628), (wide, 32628), (lonlat, 4326)):
        got = resampled_to(raster, place).read(place.window)[0].astype(float)
        x, y = np.meshgrid(place.west + (np.arange(place.width) + 0.5) * place.pixel_x,
                           place.north - (np.arange(place.height) + 0.5) * place.pixel_y)  # fmt: skip
        x, y = Transformer.from_crs(epsg, 32628, always_xy=True).transform(x, y)
        a, b, c, d, e, f = numbers
        col, row = (
            np.linalg.solve([[a, b], [d, e]], np.stack([x.ravel() - c, y.ravel() - f])).reshape(2, *x.shape) - 0.5
        )
        inner = (col > 0) & (col < 259) & (row > 0) & (row < 199)
        outer = (col < -0.6) | (col > 259.6) | (row < -0.6) | (row > 199.6)
        wanted = scipy.ndimage.map_coordinates(pixels.astype(float), [row, col], order=1)
        assert inner.mean() > 0.05 and outer.mean() > 0.05
        assert np.abs(got - wanted)[inner].max() <= error
        assert (got[outer] == raster.nodata).all()


def test_a_turned_class_layer_keeps_its_codes(tmp_path):
    codes = np.kron(np.random.default_rng(1).integers(1, 9, (20, 26)), np.ones((10, 10))).astype(np.uint8)
    write_turned(tmp_path / "classes.tif", codes, turned(30), 0)
    from zoompick.scenes.deliveries import open_layers

    [layer] = open_layers([tmp_path / "classes.tif"])
    assert layer.is_class
    assert set(np.unique(layer.raster.read(layer.raster.grid.window))) <= {0, *np.unique(codes).tolist()}


def test_turned_images_through_the_program(program, tmp_path):
    """Two bands turned alike: stack, index, picture and verify; what a turned image shows lies where it should."""
    near = np.where(hills((200, 260)) > 3000, 4000, 1000).astype(np.uint16)
    write_turned(tmp_path / "a-red.tif", np.full((200, 260), 1000, np.uint16), turned(20), 0)
    write_turned(tmp_path / "a-nir.tif", near, turned(20), 0)
    made = program("stack", "a-red.tif", "a-nir.tif", "--out", "st", cwd=tmp_path)
    assert made.code == 0 and "turned by 20 degrees" in made.err + made.out
    assert program("index", "st.tif", "--recipe", "ndvi", "--out", "ndvi.tif", cwd=tmp_path).code == 0
    index = open_raster(tmp_path / "ndvi.tif")
    values = index.read(index.grid.window)[0]
    x, y = places(turned(20), (200, 260))
    col, row = ((x - index.grid.west) / 8).astype(int), ((index.grid.north - y) / 8).astype(int)
    inside = scipy.ndimage.binary_erosion(near == 4000, iterations=2)
    np.testing.assert_allclose(values[row[inside], col[inside]], 0.6, atol=1e-3)
    assert program("picture", "st.tif", "--out", "p.png", cwd=tmp_path).code == 0
    assert program("verify", "a-nir.tif", "ndvi.tif", cwd=tmp_path).code == 0
    write_turned(tmp_path / "b-red.tif", near, turned(20))
    told = program("bands", "b-red.tif", cwd=tmp_path)
    assert (
        "it is read as int32, which has room" in told.err
        and program("bands", "b-red.tif", "--json", cwd=tmp_path).json["notes"]
    )
