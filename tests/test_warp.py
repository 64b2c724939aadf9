"""Rasters carried into another CRS, against exact transforms and SciPy."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import scipy.ndimage
from pyproj import Transformer

from helpers import Memory, grid, noise
from zoompick.errors import GridError
from zoompick.geo.crs import Crs
from zoompick.raster.grid import Grid, Window
from zoompick.raster.warp import Warped, laid_on

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
    found = Warped(Memory(codes, SOURCE, 0), place, is_class=True).read(place.window)[0]
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
    assert laid_on(Memory(values, SOURCE, 0), SOURCE).read(SOURCE.window).shape == values.shape


@pytest.mark.parametrize(("kernel", "order"), [("nearest", 0), ("cubic", 3), ("lanczos", 3)])
def test_wider_kernels_follow_smooth_ground_and_never_reach_over_gaps(kernel, order):
    rng = np.random.default_rng(8)
    smooth = scipy.ndimage.gaussian_filter(rng.normal(size=(160, 200)), 4) * 20000 + 4000
    pixels = smooth.clip(1, 9000).astype(np.float32)[np.newaxis]
    place = target(32729, 8.0)
    cols, rows = exact_positions(place)
    got = laid_on(Memory(pixels, SOURCE, -1), place, "smooth", kernel).read(place.window)[0]
    wanted = scipy.ndimage.map_coordinates(pixels[0].astype(float), [rows, cols], order=order, mode="nearest")
    steepest = np.abs(np.diff(pixels[0])).max()
    assert np.abs(got - wanted).max() < (1.5 * steepest if kernel == "nearest" else 0.1 * steepest)
    assert np.median(np.abs(got - wanted)) < 0.01 * steepest
    holed = pixels.copy()
    holed[0, 70:90, 90:110] = -1
    seen = laid_on(Memory(holed, SOURCE, -1), place, "smooth", kernel).read(place.window)[0]
    there = seen != -1
    assert np.abs(seen - got)[there].max() < 1.5 * steepest, "nothing of the gap comes into a neighbour"
    assert (seen == got)[there].mean() > 0.9
    assert (seen == -1).sum() == pytest.approx(400, abs=30)


def test_a_checkerboard_shows_no_half_pixel_shift():
    board = (np.indices((64, 64)).sum(axis=0) % 2 * 1000 + 100).astype(np.float32)[np.newaxis]
    source = Memory(board, grid(64, 64), -1)
    for kernel in ("bilinear", "nearest", "cubic", "lanczos"):
        moved = replace(source.grid, west=source.grid.west + 0.02)
        got = laid_on(source, moved, "smooth", kernel).read(moved.window)[0]
        assert np.abs(got[8:-8, 8:-8] - board[0, 8:-8, 8:-8]).max() < 40, kernel
