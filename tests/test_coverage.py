"""Only the coverage rule of an operation decides what is missing, never a value; docs/exactness.md has the rules.

Values are drawn so closely about the no-data value that means often come out as it.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime

import numpy as np
import pytest

from helpers import Memory, grid
from zoompick.geo.crs import Crs
from zoompick.products.blend import Blend
from zoompick.products.formula import Formula
from zoompick.products.index import Index
from zoompick.products.mosaic import Mosaic
from zoompick.products.observations import Observation
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.raster.write import WriteOptions, write_geotiff

SIDE = 96
KINDS = [
    (dtype, nodata)
    for dtype in ("uint8", "int8", "uint16", "int16", "uint32", "int32", "float32", "float64")
    for nodata in (("least", "most", 7, 0) if dtype[0] in "ui" else ("nan", 0, -9999))
]


def drawn(dtype: str, nodata: object, seed: int, missing: float = 0.3) -> tuple[np.ndarray, float]:
    """Values on both sides of the no-data value, as near as they can be, and some that are missing."""
    rng = np.random.default_rng(seed)
    kind = np.dtype(dtype)
    if kind.kind in "ui":
        info = np.iinfo(kind)
        value = {"least": int(info.min), "most": int(info.max)}.get(nodata, nodata)
        low, high = max(int(info.min), value - 6), min(int(info.max), value + 6)
        choices = np.array([one for one in range(low, high + 1) if one != value], kind)
    else:
        value = float("nan") if nodata == "nan" else float(nodata)
        base = 0.0 if nodata == "nan" else value
        choices = (base + np.array([-2, -1, -0.5, 0.5, 1, 2])).astype(kind)
    pixels = rng.choice(choices, (1, SIDE, SIDE))
    gone = rng.random(pixels.shape) < missing
    pixels[gone] = value
    return pixels, value


def groups(pixels: np.ndarray, valid: np.ndarray, factor: int) -> tuple[np.ndarray, np.ndarray]:
    """How many of each group of pixels are valid, and their mean."""
    rows = pixels.shape[0] // factor
    count = valid.reshape(rows, factor, rows, factor).sum(axis=(1, 3))
    total = np.where(valid, pixels, 0).astype(float).reshape(rows, factor, rows, factor).sum(axis=(1, 3))
    return count, total / np.maximum(count, 1)


def is_held(found: np.ndarray, nodata: float, wanted: np.ndarray, mean: np.ndarray) -> None:
    """Valid exactly where the rule says so, and each value is its mean, or the next one beside the no-data value."""
    seen = valid_mask(found, nodata)
    np.testing.assert_array_equal(seen, wanted)
    step = 1.001 if found.dtype.kind in "ui" else 1e-3
    assert np.abs(found.astype(float) - mean)[seen].max(initial=0) <= step


@pytest.mark.parametrize(("dtype", "nodata"), KINDS)
@pytest.mark.parametrize("missing", [0.0, 0.3, 0.8])
def test_overviews_need_one_pixel_of_four(tmp_path, dtype, nodata, missing):
    pixels, value = drawn(dtype, nodata, 1, missing)
    write_geotiff(Memory(pixels, grid(SIDE, SIDE), value), tmp_path / "a.tif", WriteOptions(side=16))
    raster = open_raster(tmp_path / "a.tif")
    assert len(raster.levels) >= 3
    before = pixels[0]
    for level in range(1, 3):
        count, mean = groups(before, valid_mask(before, value), 2)
        before = raster.read(raster.levels[level].window, None, level)[0]
        is_held(before, value, count >= 1, mean)


@pytest.mark.parametrize(("dtype", "nodata"), KINDS)
@pytest.mark.parametrize("factor", [2, 3, 4])
def test_means_over_an_area_need_half_of_it(dtype, nodata, factor):
    pixels, value = drawn(dtype, nodata, 2, 0.5)
    place = grid(SIDE, SIDE)
    coarse = replace(place, pixel_x=8.0 * factor, pixel_y=8.0 * factor, width=SIDE // factor, height=SIDE // factor)
    found = resampled_to(Memory(pixels, place, value), coarse).read(coarse.window)[0]
    count, mean = groups(pixels[0], valid_mask(pixels[0], value), factor)
    is_held(found, value, count >= factor**2 / 2, mean)


@pytest.mark.parametrize(("dtype", "nodata"), KINDS)
@pytest.mark.parametrize("pixel", [4.0, 6.0])
def test_finer_pixels_need_the_one_under_their_middle(dtype, nodata, pixel):
    pixels, value = drawn(dtype, nodata, 3)
    place = grid(SIDE, SIDE)
    fine = replace(place, pixel_x=pixel, pixel_y=pixel, width=int(SIDE * 8 / pixel), height=int(SIDE * 8 / pixel))
    found = resampled_to(Memory(pixels, place, value), fine).read(fine.window)[0]
    under = np.floor((np.arange(fine.width) + 0.5) * pixel / 8).astype(int)
    valid = valid_mask(pixels[0], value)
    np.testing.assert_array_equal(valid_mask(found, value), valid[np.ix_(under, under)])


@pytest.mark.parametrize(("dtype", "nodata"), KINDS)
@pytest.mark.parametrize("way", ["bilinear", "cubic", "lanczos", "nearest"])
def test_between_systems_a_pixel_needs_the_nearest_one(dtype, nodata, way):
    """The zone beside: every value that is there stays a value, whatever it becomes."""
    pixels, value = drawn(dtype, nodata, 4)
    source = Memory(pixels, grid(SIDE, SIDE), value)
    shown = Memory(valid_mask(pixels, value).astype(np.uint8), grid(SIDE, SIDE), 255)
    place = replace(source.grid, crs=Crs(32729), west=source.grid.west - 520_000)
    found = resampled_to(source, beside(source.grid), way).read(beside(source.grid).window)[0]
    there = resampled_to(shown, beside(source.grid), "nearest").read(beside(source.grid).window)[0] == 1
    np.testing.assert_array_equal(valid_mask(found, value), there)
    assert there.any() and place.width == SIDE


def beside(place):
    """A grid of the zone beside, inside another."""
    from pyproj import Transformer

    box = place.bounds
    x, y = Transformer.from_crs(32728, 32729, always_xy=True).transform(
        (box.west + box.east) / 2, (box.south + box.north) / 2
    )
    return replace(place, crs=Crs(32729), west=x - 200, north=y + 200, width=50, height=50)


def sight(pixels: np.ndarray, value: float, day: int) -> Observation:
    when = datetime(2025, 12, day, tzinfo=UTC)
    return Observation(f"s{day}", when, None, None, Memory(pixels, grid(SIDE, SIDE), value, (Band("red"),)))


@pytest.mark.parametrize(("dtype", "nodata"), KINDS)
@pytest.mark.parametrize("least", [1, 2, 3])
def test_blends_need_so_many_dates_and_mosaics_one(dtype, nodata, least):
    layers = [drawn(dtype, nodata, seed)[0] for seed in (5, 6, 7)]
    value = drawn(dtype, nodata, 5)[1]
    valid = np.concatenate([valid_mask(one, value) for one in layers])
    stack = np.concatenate(layers).astype(float)
    found = [sight(one, value, day) for day, one in enumerate(layers, 1)]
    mean = Blend(found, None, least).read(grid(SIDE, SIDE).window)[0]
    count = valid.sum(axis=0)
    true = np.where(valid, stack, 0).sum(axis=0) / np.maximum(count, 1)
    is_held(mean, value, count >= least, true)
    middle = Blend(found, 50, least).read(grid(SIDE, SIDE).window)[0]
    np.testing.assert_array_equal(valid_mask(middle, value), count >= least)
    mosaic = Mosaic(found).read(grid(SIDE, SIDE).window)[0]
    np.testing.assert_array_equal(valid_mask(mosaic, value), count >= 1)
    first = np.argmax(valid, axis=0)
    chosen = np.take_along_axis(np.concatenate(layers), first[np.newaxis], 0)[0]
    np.testing.assert_array_equal(mosaic[count >= 1], chosen[count >= 1])


@pytest.mark.parametrize(("dtype", "nodata"), KINDS)
def test_an_index_needs_all_its_bands_and_a_denominator(dtype, nodata):
    pixels = np.concatenate([drawn(dtype, nodata, seed)[0] for seed in (8, 9)])
    value = drawn(dtype, nodata, 8)[1]
    source = Memory(pixels, grid(SIDE, SIDE), value, (Band("nir"), Band("red")))
    found = Index(source, "x", Formula.parse("(nir - red) / (nir + red)"), "here").read(source.grid.window)[0]
    nir, red = pixels.astype(float)
    wanted = valid_mask(pixels, value).all(axis=0) & (nir + red != 0)
    np.testing.assert_array_equal(np.isfinite(found), wanted)
    true = (nir - red)[wanted] / (nir + red)[wanted]
    np.testing.assert_allclose(found[wanted], true, rtol=1e-5, atol=1e-6)


def test_what_a_formula_has_no_value_for_is_counted_and_told(program, tmp_path):
    values = np.random.default_rng(0).uniform(0.1, 1, (2, 300, 400)).astype("float32")
    values[1, 20:30, 40:55] = -values[0, 20:30, 40:55]
    write_geotiff(Memory(values, grid(400, 300), float("nan"), (Band("nir"), Band("red"))), tmp_path / "a.tif")
    done = program("index", "a.tif", "--recipe", "ndvi", "--out", "n", "--json")
    assert done.code == 0 and "In 150 pixels ndvi has no finite value" in " ".join(done.err.split()), done.err
    assert '"zoompick:no_value_px": 150' in (tmp_path / "n.tif.stac.json").read_text()
    clean = program("index", "a.tif", "--formula", "nir", "--out", "m")
    assert "finite" not in clean.err and '"zoompick:no_value_px": 0' in (tmp_path / "m.tif.stac.json").read_text()
