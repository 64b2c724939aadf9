"""Rasters carried into another CRS, against exact transforms and SciPy."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
import scipy.ndimage
from pyproj import Transformer

from helpers import Memory, foreign_tiff, grid, noise
from zoompick.errors import GridError, UsageError, ZoomPickError
from zoompick.geo.crs import Crs
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opening import open_raster
from zoompick.raster.warp import Warped, resampled_to
from zoompick.raster.ways import Ways

SOURCE = grid(200, 160)


def target(crs: int, pixel: float, width: int = 90, height: int = 80) -> Grid:
    """A grid in another CRS around the source's middle."""
    box = SOURCE.bounds
    x, y = (box.west + box.east) / 2, (box.south + box.north) / 2
    x, y = Transformer.from_crs(SOURCE.crs.epsg, crs, always_xy=True).transform(x, y)
    return Grid(Crs(crs), pixel, pixel, x - width / 2 * pixel, y + height / 2 * pixel, width, height)


def exact_positions(place: Grid) -> tuple[np.ndarray, np.ndarray]:
    xs = place.west + (np.arange(place.width) + 0.5) * place.pixel_x
    ys = place.north - (np.arange(place.height) + 0.5) * place.pixel_y
    x, y = Transformer.from_crs(place.crs.epsg, SOURCE.crs.epsg, always_xy=True).transform(*np.meshgrid(xs, ys))
    return (x - SOURCE.west) / SOURCE.pixel_x - 0.5, (SOURCE.north - y) / SOURCE.pixel_y - 0.5


@pytest.mark.parametrize(("crs", "pixel"), [(32729, 8.0), (32729, 5.0), (4326, 8e-5), (3857, 9.0)])
def test_values_are_those_of_the_exact_transform(crs, pixel):
    smooth = scipy.ndimage.gaussian_filter(noise((160, 200), "float64"), 4).astype("float32")[np.newaxis]
    place = target(crs, pixel)
    found = Warped(Memory(smooth, SOURCE, float("nan")), place).read(place.window)[0]
    cols, rows = exact_positions(place)
    expected = scipy.ndimage.map_coordinates(smooth[0], [rows, cols], order=1, mode="nearest")
    assert np.isfinite(found).all()
    assert np.abs(found - expected).max() < 0.1 * np.abs(np.diff(smooth[0])).max()


def test_classes_keep_their_codes_and_missing_pixels_do_not_bleed():
    codes = noise((1, 160, 200), "uint8", 1, 6)
    place = target(32729, 8.0)
    cols, rows = exact_positions(place)
    found = Warped(Memory(codes, SOURCE, 0), place, "class").read(place.window)[0]
    nearest = codes[0][np.rint(rows).astype(int), np.rint(cols).astype(int)]
    assert (found == nearest).mean() > 0.98
    ground = np.full((1, 160, 200), 1000, "uint16")
    ground[0, 60:90, 70:120] = 0
    seen = Warped(Memory(ground, SOURCE, 0), place).read(place.window)[0]
    assert set(np.unique(seen)) == {0, 1000}
    missing = ground[0][np.rint(rows).astype(int), np.rint(cols).astype(int)] == 0
    assert ((seen == 0) == missing).mean() > 0.98


def test_outside_is_no_data_and_windows_agree_with_the_whole():
    values = noise((2, 160, 200), "uint16")
    place = target(32729, 8.0, 320, 300)
    warped = Warped(Memory(values, SOURCE, 0), place)
    whole = warped.read(place.window)
    assert (whole[:, 0] == 0).all() and (whole[:, :, 0] == 0).all() and (whole > 0).mean() > 0.25
    part = Window(100, 90, 70, 60)
    rows, cols = part.slices_in(place.window)
    np.testing.assert_allclose(warped.read(part, [1])[0], whole[1][rows, cols], atol=25)
    far = Window(-5000, 0, 40, 40)
    assert not warped.read(far).any()
    with pytest.raises(GridError, match="no-data"):
        Warped(Memory(values, SOURCE), place)
    assert resampled_to(Memory(values, SOURCE, 0), SOURCE).read(SOURCE.window).shape == values.shape


@pytest.mark.parametrize(("kernel", "order"), [("nearest", 0), ("cubic", 3), ("lanczos", 3)])
def test_wider_kernels_follow_smooth_ground_and_never_reach_over_gaps(kernel, order):
    rng = np.random.default_rng(8)
    smooth = scipy.ndimage.gaussian_filter(rng.normal(size=(160, 200)), 4) * 20000 + 4000
    pixels = smooth.clip(1, 9000).astype(np.float32)[np.newaxis]
    place = target(32729, 8.0)
    cols, rows = exact_positions(place)
    got = resampled_to(Memory(pixels, SOURCE, -1), place, kernel).read(place.window)[0]
    wanted = scipy.ndimage.map_coordinates(pixels[0].astype(float), [rows, cols], order=order, mode="nearest")
    steepest = np.abs(np.diff(pixels[0])).max()
    assert np.abs(got - wanted).max() < (1.5 * steepest if kernel == "nearest" else 0.1 * steepest)
    assert np.median(np.abs(got - wanted)) < 0.01 * steepest
    holed = pixels.copy()
    holed[0, 70:90, 90:110] = -1
    seen = resampled_to(Memory(holed, SOURCE, -1), place, kernel).read(place.window)[0]
    there = seen != -1
    assert np.abs(seen - got)[there].max() < 1.5 * steepest, "nothing of the gap comes into a neighbour"
    assert (seen == got)[there].mean() > 0.9
    assert (seen == -1).sum() == pytest.approx(400, abs=30)


@pytest.mark.parametrize("pixel", [6.0, 20.0, 47.0])
def test_ways_that_look_at_the_ground_of_a_pixel(pixel):
    """The mean, and what most of it is, against 400 exact positions in each target pixel; gaps are not counted."""
    codes = np.repeat(np.repeat(noise((1, 20, 25), "uint8", 1, 5), 8, 1), 8, 2)
    codes[0, 40:60, 50:90] = 0
    place = target(32729, pixel, 24, 18)
    times = 20
    fine = Grid(place.crs, pixel / times, pixel / times, place.west, place.north, 24 * times, 18 * times)
    cols, rows = exact_positions(fine)
    looked = codes[0][np.rint(rows).astype(int), np.rint(cols).astype(int)]
    blocks = looked.reshape(18, times, 24, times).swapaxes(1, 2).reshape(18, 24, -1)
    shares = np.stack([(blocks == code).mean(axis=-1) for code in range(6)])
    for way in ("majority", "class"):
        got = resampled_to(Memory(codes, SOURCE, 0), place, way).read(place.window)[0]
        # What is nearly a tie may fall either way.
        second, best = np.sort(shares[1:], axis=0)[-2:]
        clear = (best - second > 0.15) & (np.abs(shares[0] - 0.5) > 0.15)
        wanted = np.where(shares[0] > 0.5, 0, 1 + shares[1:].argmax(axis=0))
        if way == "majority" or pixel > 10:
            assert clear.mean() > 0.5 and (got == wanted)[clear].mean() > 0.985, way
    ground = codes.astype("float32") * 100
    got = resampled_to(Memory(ground, SOURCE, 0), place, "average").read(place.window)[0]
    known = blocks > 0
    mean = 100 * blocks.sum(axis=-1) / np.maximum(known.sum(axis=-1), 1)
    whole = known.all(axis=-1)
    assert np.abs(got - mean)[whole].mean() < 12 and (got[known.mean(axis=-1) < 0.3] == 0).all()
    same = resampled_to(
        Memory(ground, SOURCE, 0), replace(SOURCE, pixel_x=24.0, pixel_y=24.0, width=60, height=50), "average"
    )
    exact = ground[0, :150, :180].reshape(50, 3, 60, 3)
    there = (exact > 0).sum(axis=(1, 3))
    wanted = np.where(there >= 4.5, exact.sum(axis=(1, 3)) / np.maximum(there, 1), 0)
    np.testing.assert_allclose(same.read(same.grid.window)[0], wanted, rtol=1e-5)


@pytest.mark.parametrize(
    ("text", "ways"),
    [
        ("cubic", {"red": "cubic", "classes": "class"}),
        ("lanczos, red=average", {"red": "average", "nir": "lanczos"}),
        ("classes=nearest", {"red": "bilinear", "classes": "nearest"}),
    ],
)
def test_ways_are_told_for_all_and_by_band(text, ways):
    told = Ways.parse(text)
    assert {name: told.of(name, name == "classes") for name in ways} == ways
    assert Ways.parse(told.text) == told


@pytest.mark.parametrize(
    ("text", "words"),
    [("cubik", "Did you mean cubic"), ("cubic,lanczos", "tells twice"), ("a=cubic,a=nearest", "twice")],
)
def test_ways_that_are_none(text, words):
    with pytest.raises(ZoomPickError, match=words):
        Ways.parse(text)
    with pytest.raises(UsageError, match="codes that mean nothing"):
        Ways.parse("classes=average").of("classes", True)


def test_the_program_resamples_as_told_and_asks_what_is_meant(program, tmp_path):
    for name, west in (("a", 0), ("b", 0), ("c", 400)):
        foreign_tiff(tmp_path / f"{name}-red.tif", noise((1, 60, 60)), grid(60, 60, west=752000.0 + west), nodata="0")
    made = {}
    for way in ("bilinear", "cubic", "red=average"):
        done = program("stack", "a-red.tif", "--crs", "EPSG:32729", "--pixel", "8", "--resampling", way, "--out", "r",
                       "--overwrite")  # fmt: skip
        assert done.code == 0, done.err
        raster = open_raster(tmp_path / "r.tif")
        made[way] = raster.read(raster.grid.window)
        (row,) = json.loads((tmp_path / "r.tif.stac.json").read_text())["properties"]["zoompick:resampled"]
        assert row == {"band": "red", "way": way.rpartition("=")[2], "from": "EPSG:32728", "pixel": 8.0,
                       "position_error_px": 0.01}  # fmt: skip
    assert len({value.tobytes() for value in made.values()}) == 3
    twice = program("stack", "a-red.tif", "b-red.tif", "--out", "t")
    beside = program("stack", "a-red.tif", "c-red.tif", "--out", "u")
    assert "of the same ground" in " ".join(twice.err.split()) and "zoompick blend" in " ".join(twice.err.split())
    assert "side by side" in " ".join(beside.err.split()) and "zoompick mosaic" in " ".join(beside.err.split())
    assert "times" not in program("stack", "a-red.tif", "--out", "v").err


@pytest.mark.parametrize("dtype", ["float32", "float64", "int32", "uint32", "uint16"])
@pytest.mark.parametrize("gaps", [False, True])
def test_fractions_of_pixels_are_exact_whatever_the_type(dtype, gaps):
    """Between systems a value is off by less than a hundredth of the local range."""
    scale = {"float32": 1.0, "float64": 1e-3, "int32": 1e6, "uint32": 1e6, "uint16": 20.0}[dtype]
    ground = ((noise((160, 200), "float64") % 3000) * scale).astype(dtype)[np.newaxis]
    nodata = float("nan") if dtype.startswith("f") else 0
    if gaps:
        ground[0, 60:70, 80:95] = nodata
    place = target(32729, 3.0, 150, 130)
    found = Warped(Memory(ground, SOURCE, nodata), place).read(place.window)[0]
    cols, rows = exact_positions(place)
    values = np.nan_to_num(ground[0].astype("float64"))
    wanted = scipy.ndimage.map_coordinates(values, [rows, cols], order=1)
    local = scipy.ndimage.maximum_filter(values, 3) - scipy.ndimage.minimum_filter(values, 3)
    near = local[np.rint(rows).astype(int), np.rint(cols).astype(int)]
    seen = np.isfinite(found) & (found != 0)
    if gaps:
        hole = scipy.ndimage.binary_dilation(values == 0, iterations=2)
        seen &= ~hole[np.rint(rows).astype(int), np.rint(cols).astype(int)]
    away = np.abs(found.astype("float64") - wanted)[seen] / np.maximum(near[seen], scale)
    assert seen.mean() > 0.9 and away.max() < (0.06 if dtype == "uint16" else 0.01)


@pytest.mark.parametrize("way", ["bilinear", "nearest", "cubic", "lanczos", "average", "majority"])
@pytest.mark.parametrize(("dtype", "pixel"), [("uint16", 8.0), ("float32", 5.0), ("float64", 20.0), ("int32", 47.0)])
def test_a_window_does_not_depend_on_where_it_starts(way, dtype, pixel):
    ground = noise((1, 160, 200), dtype)
    nodata = float("nan") if dtype.startswith("f") else 0
    ground[0, 60:70, 80:95] = nodata
    place = target(32729, pixel, 130, 110)
    warped = resampled_to(Memory(ground, SOURCE, nodata), place, way)
    whole = warped.read(place.window)[0]
    for window in (Window(0, 0, 130, 1), Window(17, 13, 40, 37), Window(64, 5, 1, 99), Window(31, 33, 66, 60)):
        rows, cols = window.slices_in(place.window)
        np.testing.assert_array_equal(warped.read(window)[0], whole[rows, cols], err_msg=str(window))


def test_a_checkerboard_shows_no_half_pixel_shift():
    board = (np.indices((64, 64)).sum(axis=0) % 2 * 1000 + 100).astype(np.float32)[np.newaxis]
    source = Memory(board, grid(64, 64), -1)
    for kernel in ("bilinear", "nearest", "cubic", "lanczos"):
        moved = replace(source.grid, west=source.grid.west + 0.02)
        got = resampled_to(source, moved, kernel).read(moved.window)[0]
        assert np.abs(got[8:-8, 8:-8] - board[0, 8:-8, 8:-8]).max() < 40, kernel
