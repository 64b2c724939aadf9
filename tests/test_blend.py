"""Blends against NumPy on whole arrays: percentiles, means, counts, and all bands from one date."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime
from functools import cache

import numpy as np
import pytest
import scipy.ndimage

from helpers import Memory, grid, noise
from zoompick.errors import UnknownNameError, UsageError
from zoompick.products.blend import Blend, CountLayer, DateLayer, Highest, dates_of
from zoompick.products.formula import Formula
from zoompick.products.kinds.blend import BlendRules, _span_name
from zoompick.products.mosaic import Mosaic
from zoompick.products.observations import Clear, Observation, in_order
from zoompick.products.ranks import middle, network
from zoompick.products.stack import Stack
from zoompick.raster.grid import Window
from zoompick.raster.raster import Band
from zoompick.sensors.classes import ClassTable

SIDE = 64
PLACE = grid(SIDE, SIDE)
DAYS = (3, 3, 7, 12, 20, 28)
"""Two scenes of one day, which count as one date."""


def made_up(dtype, seed=5):
    """Pixels (scene, band, row, col) with 0 missing, and where each scene shows the ground."""
    rng = np.random.default_rng(seed)
    top = np.iinfo(dtype).max if np.dtype(dtype).kind == "u" else 2.0
    found = []
    for number in range(len(DAYS)):
        pixels = noise((2, SIDE, SIDE), "uint16", 1, 60000, seed + number).astype(np.float64) / 60000 * top
        pixels = np.clip(pixels, 1 if top > 2 else 0.01, top).astype(dtype)
        pixels[:, rng.random((SIDE, SIDE)) < 0.02] = top
        gap = scipy.ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)), 5) > 0.03
        cloud = scipy.ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)), 5) > 0.01
        pixels[:, gap] = 0
        codes = np.where(cloud, 9, 1).astype(np.uint8)
        raster = Stack(PLACE, [[Memory(band[np.newaxis], PLACE, 0, (Band(name, 0.5, -0.25),))]
                               for band, name in zip(pixels, ("red", "nir"), strict=True)])  # fmt: skip
        when = datetime(2025, 1, DAYS[number], 11, number, tzinfo=UTC)
        clear = Clear(Memory(codes[np.newaxis], PLACE, 0), ClassTable(cloud=frozenset({9})), ("cloud",))
        found.append((Observation(f"s{number}", when, 10.0 * number, None, raster, clear), pixels, ~gap & ~cloud))
    return [one for one, _, _ in found], np.array([p for _, p, _ in found]), np.array([u for _, _, u in found])


known = cache(made_up)


def by_date(values, usable):
    """Values with NaN for what is hidden, one layer a day; the first scene of a day counts first."""
    seen = np.where(usable[:, np.newaxis], values.astype(float), np.nan)
    first = np.where(np.isnan(seen[0]), seen[1], seen[0])
    return np.stack([first, *seen[2:]])


@pytest.mark.filterwarnings("ignore:Mean of empty", "ignore:All-NaN")
@pytest.mark.parametrize("dtype", ["uint16", "uint8", "float32"])
@pytest.mark.parametrize("percentile", [50.0, 90.0, 0.0, 100.0, 33.0, None])
def test_percentiles_and_means_are_numpys(dtype, percentile):
    found, values, usable = known(dtype)
    layers = by_date(values, usable)
    count = (~np.isnan(layers[:, 0])).sum(axis=0)
    with np.errstate(all="ignore"):
        wanted = np.nanmean(layers, axis=0) if percentile is None else np.nanpercentile(layers, percentile, axis=0)
    blend = Blend(found, percentile, least=2)
    got = blend.read(PLACE.window)
    enough = count >= 2
    assert 0.1 < enough.mean() < 0.999 and not got[:, ~enough].any()
    if dtype == "float32":
        np.testing.assert_allclose(got[:, enough], wanted[:, enough], rtol=1e-6)
    else:
        assert np.abs(got[:, enough] - wanted[:, enough]).max() <= 0.5 + 1e-9
    np.testing.assert_array_equal(CountLayer(blend).read(PLACE.window)[0], count)
    window = Window(13, 21, 50, 40)
    np.testing.assert_array_equal(blend.read(window, (1,))[0], got[1, 21:61, 13:63])


@pytest.mark.filterwarnings("ignore:All-NaN")
@pytest.mark.parametrize("dtype", ["uint8", "uint16", "int16", "int32"])
@pytest.mark.parametrize("end", ["min", "max"])
@pytest.mark.parametrize("count", [1, 2, 5, 8, 13])
def test_medians_of_whole_numbers_with_gaps_are_numpys(dtype, end, count):
    rng = np.random.default_rng(count)
    info = np.iinfo(dtype)
    values = rng.integers(info.min, info.max, (count, 30, 40), dtype, endpoint=True)
    values[:, :15] %= 5
    seen = rng.random(values.shape) < 0.6
    layers = np.where(seen, values, values.dtype.type(getattr(info, end)))
    before = layers.copy()
    wanted = np.rint(np.nanmedian(np.where(seen, values.astype(float), np.nan), axis=0))
    got = middle(list(layers), list(seen), getattr(info, end))
    there = seen.any(axis=0)
    np.testing.assert_array_equal(got[there], wanted[there])
    np.testing.assert_array_equal(layers, before)


def test_the_network_sorts_whatever_is_given():
    for size in range(1, 9):
        for bits in itertools.product((0, 1), repeat=size):
            row = list(bits)
            for low, high in network(size):
                row[low], row[high] = min(row[low], row[high]), max(row[low], row[high])
            assert row == sorted(bits), "what sorts all zeros and ones sorts all numbers"
    assert len(network(12)) <= 42


def test_all_bands_of_a_pixel_are_of_one_date():
    found, values, usable = made_up("uint16")
    formula = Formula.parse("(nir - red) / (nir + red)")
    red, nir = (values[:, band] * 0.5 - 0.25 for band in (0, 1))
    score = np.where(usable, (nir - red) / (nir + red), -np.inf)
    best, any_ = score.argmax(axis=0), usable.any(axis=0)
    highest = Highest(found, formula)
    got = highest.read(PLACE.window)
    for number in range(len(found)):
        own = any_ & (best == number)
        np.testing.assert_array_equal(got[:, own], values[number][:, own])
    days = DateLayer(highest).read(PLACE.window)[0]
    np.testing.assert_array_equal(days, np.where(any_, 20250100 + np.array(DAYS)[best], 0))
    newest = Mosaic(in_order(found, "newest"), clear_only=True)
    last = len(found) - 1 - usable[::-1].argmax(axis=0)
    np.testing.assert_array_equal(
        DateLayer(newest).read(PLACE.window)[0], np.where(any_, 20250100 + np.array(DAYS)[last], 0)
    )
    count = (usable[0] | usable[1]).astype(int) + usable[2:].sum(axis=0)
    np.testing.assert_array_equal(CountLayer(newest).read(PLACE.window)[0], count)


@pytest.mark.parametrize(
    ("day", "span", "name"),
    [
        ("2025-12-31", "8d", "2025-12-27"), ("2025-01-08", "8d", "2025-01-01"), ("2025-01-09", "8d", "2025-01-09"),
        ("2024-12-31", "8d", "2024-12-26"), ("2025-03-31", "month", "2025-03"),
        ("2025-12-01", "season", "2025-12_2026-02"),
        ("2026-02-28", "season", "2025-12_2026-02"), ("2026-03-01", "season", "2026-03_2026-05"),
        ("2025-11-30", "season", "2025-09_2025-11"), ("2025-07-04", "year", "2025"),
    ],
)  # fmt: skip
def test_spans_are_named_by_their_first_days(day, span, name):
    assert _span_name(datetime.fromisoformat(day), span) == name


def test_what_cannot_be_blended_is_told():
    for text, error, said in (
        ("medain", UsageError, "must be median"), ("percentile=101", UsageError, "no percentile"),
        ("highest=ndvy", UnknownNameError, "ndvi"), ("mean=3", UsageError, "must be median"),
    ):  # fmt: skip
        with pytest.raises(error, match=said):
            BlendRules(text)
    with pytest.raises(UsageError, match="nothing to count"):
        BlendRules("newest", least=2)
    found, _, _ = made_up("uint16")
    with pytest.raises(UsageError, match="needs swir16"):
        Highest(found, Formula.parse("swir16 - red"))
    undated = Observation("x", None, None, None, found[0].raster)
    with pytest.raises(UsageError, match="does not tell its time"):
        dates_of([undated])
