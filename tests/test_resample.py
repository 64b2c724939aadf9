"""Resampling against independent computations, and what it does with no-data."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
import scipy.ndimage

from helpers import Memory, grid, noise
from zoompick.errors import GridError
from zoompick.geo.crs import Crs
from zoompick.raster import kernels, resample
from zoompick.raster.grid import Grid, Window
from zoompick.raster.ongrid import OnGrid
from zoompick.raster.resample import Axis
from zoompick.raster.statistics import BandStatistics


def by_area(source, rows, cols, nodata):
    """Area average pixel by pixel, the slow way."""
    out = np.full((rows.count, cols.count), float(nodata))
    for i in range(rows.count):
        for j in range(cols.count):
            total = weight = 0.0
            top, left = rows.start + i * rows.step, cols.start + j * cols.step
            for r in range(int(top), min(source.shape[0], int(np.ceil(top + rows.step)))):
                for c in range(int(left), min(source.shape[1], int(np.ceil(left + cols.step)))):
                    share = (min(r + 1, top + rows.step) - max(r, top)) * (
                        min(c + 1, left + cols.step) - max(c, left)
                    )
                    if source[r, c] != nodata and share > 0:
                        total, weight = total + share * source[r, c], weight + share
            if weight >= 0.5 * rows.step * cols.step - 1e-9:
                out[i, j] = total / weight
    return out


@pytest.mark.parametrize("dtype", ["uint8", "uint16", "int32", "float32", "float64"])
@pytest.mark.parametrize(("start", "step"), [(2.0, 0.5), (2.25, 0.5), (3.0, 1 / 3), (2.4, 1.0), (5, 1 / 6)])
def test_bilinear_is_the_textbook_one(dtype, start, step):
    source = noise((2, 30, 34), dtype, 0, 250)
    axis = Axis(start, step, 20)
    found = resample.bilinear(source, axis, axis, None)
    at = axis.centres() - 0.5
    places = np.meshgrid(at, at, indexing="ij")
    for band in (0, 1):
        exact = scipy.ndimage.map_coordinates(source[band].astype("float64"), places, order=1, mode="nearest")
        assert np.abs(found[band] - exact).max() <= (1e-4 * 250 if found.dtype.kind == "f" else 0.5001)


@pytest.mark.parametrize("high", [4000, 65536])
def test_doubling_in_whole_numbers_is_the_general_way(high):
    source = noise((2, 40, 44), "uint16", 1, high)
    inner, outer = Axis(3, 0.5, 30), Axis(3 + 1e-12, 0.5, 30)
    np.testing.assert_array_equal(
        resample.bilinear(source, inner, inner, 0), resample.bilinear(source, outer, outer, 0)
    )


@pytest.mark.parametrize("dtype", ["uint8", "uint16"])
@pytest.mark.parametrize("low", [0, 250])
def test_fast_kernels_agree_with_whole_number_arithmetic(dtype, low):
    source = noise((2, 400, 514), dtype, low, min(np.iinfo(dtype).max, 65535) + 1)
    exact = source.astype(np.int64)
    four = exact[:, 0::2, 0::2] + exact[:, 1::2, 0::2] + exact[:, 0::2, 1::2] + exact[:, 1::2, 1::2]
    np.testing.assert_array_equal(resample.halve(source, None), (four + 2) >> 2)
    assert kernels.sums(source.reshape(-1)) == (int(exact.sum()), int((exact**2).sum()))
    pad = np.pad(exact, ((0, 0), (1, 1), (1, 1)), mode="edge")
    corner = 9 * exact + 3 * pad[:, :-2, 1:-1] + 3 * pad[:, 1:-1, :-2] + pad[:, :-2, :-2]
    quotient, rest = corner >> 4, corner & 15
    to_even = quotient + (rest > 8) + ((rest == 8) & (quotient % 2 == 1))
    np.testing.assert_array_equal(kernels.double(source)[:, 0::2, 0::2], to_even)


@pytest.mark.parametrize("dtype", ["uint8", "uint16"])
@pytest.mark.parametrize("missing", ["some", "many", "alone", "all"])
@pytest.mark.parametrize("edge", ["least", "greatest"])
def test_missing_pixels_are_taken_out_as_plain_arithmetic_does(dtype, missing, edge):
    """Counts, sums, overviews and histograms beside gaps, whose value is the least or the greatest of the type."""
    rng = np.random.default_rng(3)
    top = np.iinfo(dtype).max
    nodata = 0 if edge == "least" else top
    source = rng.integers(1, top, (1, 64, 96)).astype(dtype)
    if missing == "some":
        source[:, 11:40, 7:51] = nodata
    elif missing != "all":
        source[rng.random(source.shape) < (0.3 if missing == "many" else 0.001)] = nodata
    else:
        source[...] = nodata
    there = source != nodata
    exact = np.where(there, source, 0).astype(object)
    sums, counts = (part.reshape(32, 2, 48, 2).sum(axis=(1, 3)) for part in (exact[0], there[0].astype(int)))
    means = np.full(sums.shape, nodata, dtype)
    for place in zip(*np.nonzero(counts), strict=True):
        means[place] = (2 * sums[place] + counts[place]) // (2 * counts[place])
    np.testing.assert_array_equal(resample.halve(source, nodata)[0], means)
    told = BandStatistics.of(source[0], nodata)
    values = source[there].astype(float)
    assert (told.total, told.count) == (source.size, values.size)
    if values.size:
        assert (told.minimum, told.maximum) == (values.min(), values.max())
        assert told.mean == pytest.approx(values.mean(), rel=1e-12)
        assert told.stddev == pytest.approx(values.std(), rel=1e-9)
    for kind in (dtype, "int64", "float32"):
        out = np.arange(source.size).reshape(source.shape).astype(kind)
        wanted = np.where(there, source.astype(kind), out)
        kernels.put(out, source.astype(kind), there)
        kernels.put(out[:, 3:9, 5:7], 1, there[:, 3:9, 5:7])
        wanted[:, 3:9, 5:7][there[:, 3:9, 5:7]] = 1
        np.testing.assert_array_equal(out, wanted)
    first, counted = kernels.counted(source[0])
    np.testing.assert_array_equal(counted, np.bincount(source.ravel())[first:])
    table = rng.integers(0, 255, top + 1).astype(np.uint8)
    np.testing.assert_array_equal(kernels.looked_up(table, source[0]), table[source[0]])


@pytest.mark.parametrize("dtype", ["uint8", "int16", "uint16", "int32", "uint32", "float32", "float64", "int64"])
@pytest.mark.parametrize("count", [1, 2, 3, 4, 7])
def test_bands_are_laid_together_and_taken_apart(dtype, count):
    """Against moving the axes, also where the bands are views of something larger."""
    pixels = np.arange(count * 30 * 22).reshape(count, 30, 22).astype(dtype)[:, ::2, 1:]
    mixed = kernels.together(pixels)
    assert mixed.dtype == pixels.dtype and mixed.flags.c_contiguous
    np.testing.assert_array_equal(mixed, np.moveaxis(pixels, 0, 2))
    back = kernels.apart(mixed[:, ::-1])
    assert back.dtype == pixels.dtype and back.flags.c_contiguous
    np.testing.assert_array_equal(back, pixels[:, :, ::-1])


def test_bilinear_never_mixes_in_a_missing_pixel():
    source = np.full((1, 10, 10), 1000, "uint16")
    source[0, 4, 5] = 0
    source[0, 7:, 7:] = 0
    axis = Axis(0, 0.5, 20)
    found = resample.bilinear(source, axis, axis, 0)
    assert set(np.unique(found)) == {0, 1000}
    np.testing.assert_array_equal(found[0] == 0, np.kron(source[0] == 0, np.ones((2, 2))) == 1)


def test_bilinear_with_nan_and_beyond_the_edge():
    source = np.array([[[1.0, 3.0], [np.nan, 5.0]]], "float32")
    found = resample.bilinear(source, Axis(0, 0.5, 4), Axis(0, 0.5, 4), float("nan"))
    assert np.isnan(found[0, 2:, :2]).all()
    assert found[0, 0].tolist() == [1, 1.5, 2.5, 3]


@pytest.mark.parametrize("nodata", [0, 9])
@pytest.mark.parametrize(("start", "step"), [(0, 2.0), (0, 3.0), (1.5, 2.5), (0.25, 1.5), (0, 6.0)])
def test_area_average(nodata, start, step):
    source = noise((1, 24, 24), "uint16", 1, 900)
    source[noise((1, 24, 24), "uint8", 0, 3, seed=2) == 0] = nodata
    axis = Axis(start, step, 3)
    found = resample.area_average(source, axis, axis, nodata)[0]
    expected = by_area(source[0].astype(float), axis, axis, nodata)
    assert np.abs(found - expected).max() <= 0.5001


def test_area_average_needs_half_the_ground():
    source = np.array([[[0, 0], [0, 8]], [[0, 0], [8, 8]], [[0, 8], [8, 8]]], "uint16")
    axis = Axis(0, 2, 1)
    assert resample.area_average(source, axis, axis, 0)[:, 0, 0].tolist() == [0, 8, 8]


@pytest.mark.parametrize("step", [2.0, 3.0, 1.5])
def test_majority_counts_area(step):
    source = noise((1, 12, 12), "uint8", 0, 5)
    axis = Axis(0, step, int(12 / step))
    found = resample.majority(source, axis, axis, 0)[0]
    for i in range(axis.count):
        for j in range(axis.count):
            areas = {}
            for code in range(1, 5):
                where = (source[0] == code).astype(float)
                weight = by_area(
                    np.where(where > 0, 1.0, 0.0) + 0.0, Axis(i * step, step, 1), Axis(j * step, step, 1), -1
                )
                areas[code] = weight[0, 0]
            best = max(areas.values())
            assert found[i, j] == (min(c for c, a in areas.items() if abs(a - best) < 1e-9) if best > 0 else 0)


def test_whole_numbers_are_rounded_and_held_in_range():
    values = np.array([-3.0, 0.4, 0.6, 254.6, 900.0])
    assert resample.finish(values, np.dtype("uint8")).tolist() == [0, 0, 1, 255, 255]


def laid(source, target, method="bilinear"):
    return OnGrid(source, target, method).read(target.window)


def test_a_window_gives_the_same_pixels_as_the_whole():
    source = Memory(noise((1, 60, 60)), grid(60, 60, 16), 0)
    source.pixels[:, 20:30, 20:33] = 0
    target = Grid(source.grid.crs, 8, 8, source.grid.west + 40, source.grid.north - 24, 90, 90)
    for method in ("bilinear", "class"):
        whole = laid(source, target, method)
        for window in target.tiles(32):
            part = OnGrid(source, target, method).read(window)
            np.testing.assert_array_equal(part, whole[:, window.row : window.stop_row, window.col : window.stop_col])


def test_same_lattice_copies_and_blanks_what_lies_outside():
    source = Memory(noise((2, 20, 20)), grid(20, 20), 0)
    target = Grid(source.grid.crs, 8, 8, source.grid.west - 32, source.grid.north + 16, 20, 20)
    found = laid(source, target)
    np.testing.assert_array_equal(found[:, 2:, 4:], source.pixels[:, :18, :16])
    assert not found[:, :2].any()
    assert not found[:, :, :4].any()


@pytest.mark.parametrize("method", ["bilinear", "class"])
@pytest.mark.parametrize("pixel", [4.0, 24.0])
def test_resampled_pixels_end_where_the_source_ends(method, pixel):
    source = Memory(np.full((1, 30, 30), 50, "uint16"), grid(30, 30, 8), 0)
    target = Grid(source.grid.crs, pixel, pixel, source.grid.west - 48, source.grid.north + 48, 120, 120)
    found = laid(source, target, method)[0]
    first, last = int(48 / pixel), int((48 + 240) / pixel)
    assert (found[first:last, first:last] == 50).all()
    assert found.sum() == 50 * (last - first) ** 2


def test_far_outside_is_no_data_without_reading():
    source = Memory(noise((1, 8, 8)), grid(8, 8, 16), 0)
    target = grid(4, 4, 8, west=900_000)
    assert not laid(source, target).any()


def test_a_48_m_band_keeps_its_ground_position():
    """A gradient stays the same function of the coordinates whatever the pixel size."""
    place = grid(40, 40, 48)
    x = place.west + (np.arange(40) + 0.5) * 48
    source = Memory(np.broadcast_to((x - place.west).astype("float32"), (1, 40, 40)).copy(), place, float("nan"))
    target = Grid(place.crs, 8, 8, place.west + 240, place.north - 240, 100, 100)
    expected = target.west + (np.arange(100) + 0.5) * 8 - place.west
    np.testing.assert_allclose(laid(source, target)[0, 50], expected, rtol=1e-6)


def test_grids_that_cannot_meet_are_refused():
    source = Memory(noise((1, 8, 8)), grid(8, 8), 0)
    with pytest.raises(GridError, match="EPSG:32729"):
        OnGrid(source, Grid(Crs(32729), 8, 8, 0, 0, 4, 4))
    with pytest.raises(GridError, match="no-data"):
        OnGrid(Memory(noise((1, 8, 8)), grid(8, 8)), grid(9, 9))


def test_blocks_are_told_in_target_pixels():
    source = Memory(noise((1, 64, 64)), grid(64, 64, 16), 0)
    assert OnGrid(source, grid(128, 128, 8)).block == (128, 128)
    assert OnGrid(source, grid(128, 128, 8)).read(Window(0, 0, 3, 2)).shape == (1, 2, 3)


@pytest.mark.parametrize("nodata", [None, 0, 255, 3])
def test_the_majority_of_four_is_that_of_counting(nodata):
    rng = np.random.default_rng(6)
    codes = rng.integers(0, 5, (2, 60, 80)).astype(np.uint8)
    codes[0, :20] = 0 if nodata is None else nodata
    if nodata == 255:
        codes[1, 30:, 40:] = 255
    found = resample.majority(codes, resample.Axis(0, 2, 30), resample.Axis(0, 2, 40), nodata)
    for band, row, col in itertools.product(range(2), range(30), range(40)):
        four = codes[band, 2 * row : 2 * row + 2, 2 * col : 2 * col + 2].ravel()
        valid = four if nodata is None else four[four != nodata]
        wanted = np.bincount(valid).argmax() if valid.size else nodata
        assert found[band, row, col] == wanted
