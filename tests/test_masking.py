"""Masks against NumPy, SciPy and shapely on whole arrays; the guess at cloud against the archive's own classes."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
import scipy.ndimage
import shapely

from helpers import Memory, grid, noise
from zoompick.errors import UnknownNameError, UsageError
from zoompick.products.formula import Formula
from zoompick.products.masking import Masked, MaskLayer
from zoompick.products.observations import Clear, Observation, observations
from zoompick.products.stack import Stack
from zoompick.raster.grid import Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band
from zoompick.sensors.classes import ClassTable
from zoompick.standin import lapwing
from zoompick.standin.lapwing_shelf import Lapwing
from zoompick.standin.passes import scenes
from zoompick.standin.store import Store

SIDE = 200
PLACE = grid(SIDE, SIDE)
TABLE = ClassTable.of_codes({"fill": [0], "clear": [1], "water": [2], "cloud": [4], "shadow": [3], "snow": [6]})


def one(seed=3, table=TABLE):
    rng = np.random.default_rng(seed)
    pixels = noise((2, SIDE, SIDE), "uint16", 1, 5000, seed)
    pixels[:, rng.random((SIDE, SIDE)) < 0.05] = 0
    patches = scipy.ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)), 4)
    codes = np.digitize(patches, np.quantile(patches, [0.2, 0.4, 0.6, 0.7, 0.8, 0.9])).astype(np.uint8)
    bands = (Band("red", 0.0002, -0.1), Band("nir", 0.0002, -0.1))
    raster = Stack(PLACE, [[Memory(p[np.newaxis], PLACE, 0, (band,))] for p, band in zip(pixels, bands, strict=True)])
    clear = Clear(Memory(codes[np.newaxis], PLACE, 0), table, ("cloud",))
    return Observation("s", None, None, None, raster, clear), pixels, codes


def disc(radius):
    y, x = np.mgrid[-radius : radius + 1, -radius : radius + 1]
    return np.hypot(x, y) <= radius


@pytest.mark.parametrize(
    ("rule", "wanted"),
    [
        ("cloud or shadow", lambda red, nir, c: (c == 4) | (c == 3)),
        ("not clear and not fill", lambda red, nir, c: ~np.isin(c, (0, 1, 2))),
        ("water and nir < 0.3 or red > 0.85", lambda red, nir, c: ((c == 2) & (nir < 0.3)) | (red > 0.85)),
        ("snow and not (nir - red > 0)", lambda red, nir, c: (c == 6) & ~(nir - red > 0)),
    ],
)
def test_rules_are_what_they_say(rule, wanted):
    sight, pixels, codes = one()
    red, nir = pixels * 0.0002 - 0.1
    there = (pixels != 0).any(axis=0)
    got = MaskLayer(sight, Formula.parse(rule)).read(PLACE.window)[0]
    np.testing.assert_array_equal(got, np.where(there, wanted(red, nir, codes), 255))
    window = Window(31, 60, 70, 50)
    np.testing.assert_array_equal(MaskLayer(sight, Formula.parse(rule)).read(window)[0], got[60:110, 31:101])


def test_a_rule_with_a_quotient_beside_classes_holds_nowhere_where_rounding_is_its_denominator():
    nir = np.arange(1, 1000, dtype=np.uint16)
    stored = np.stack([1000 - nir, nir])[:, np.newaxis, :]
    place, bands = grid(999, 1), (Band("red", 0.0002, -0.1), Band("nir", 0.0002, -0.1))
    raster = Stack(place, [[Memory(p[np.newaxis], place, 0, (b,))] for p, b in zip(stored, bands, strict=True)])
    codes = np.where(nir[np.newaxis, np.newaxis] > 990, 4, 1).astype(np.uint8)
    sight = Observation("s", None, None, None, raster, Clear(Memory(codes, place, 0), TABLE, ("cloud",)))
    rule = "cloud or (nir - red) / (nir + red) > 0.3 or (nir - red) / (nir + red) < -0.3"
    got = MaskLayer(sight, Formula.parse(rule)).read(place.window)[0]
    np.testing.assert_array_equal(got == 1, codes[0] == 4)


def test_what_holds_is_narrowed_and_widened_by_discs():
    sight, _, codes = one()
    layer = MaskLayer(sight, Formula.parse("cloud"), grow_m=5 * 8, shrink_m=2 * 8)
    narrowed = ~scipy.ndimage.binary_dilation(np.pad(codes != 4, 9, constant_values=True), disc(2))
    widened = scipy.ndimage.binary_dilation(narrowed, disc(5))[9:-9, 9:-9]
    got = layer.holds(PLACE.window)
    np.testing.assert_array_equal(got[8:-8, 8:-8], widened[8:-8, 8:-8])
    np.testing.assert_array_equal(layer.holds(Window(40, 50, 33, 44)), got[50:94, 40:73])
    masked = Masked(layer, sight.raster).read(PLACE.window)
    np.testing.assert_array_equal(masked, np.where(got, 0, sight.raster.read(PLACE.window)))


def test_outside_is_what_shapely_says():
    sight, _, _ = one()
    polygon = shapely.Point(752803.3, 5719301.7).buffer(500)
    layer = MaskLayer(sight, Formula.parse("outside"), polygon=PolygonMask(polygon, PLACE))
    x = PLACE.west + (np.arange(SIDE) + 0.5) * 8
    y = PLACE.north - (np.arange(SIDE) + 0.5) * 8
    inside = shapely.contains_xy(polygon, *np.meshgrid(x, y))
    np.testing.assert_array_equal(layer.holds(PLACE.window), ~inside)


def test_bit_fields_have_a_meaning_where_any_of_its_bits_is_set():
    table = ClassTable.of_bits({"cloud": [1, 2], "shadow": [0]})
    sight, _, codes = one(table=table)
    got = MaskLayer(sight, Formula.parse("cloud and not shadow")).holds(PLACE.window)
    np.testing.assert_array_equal(got, ((codes & 0b110) > 0) & ((codes & 1) == 0))
    with pytest.raises(UsageError, match="0 to 31"):
        ClassTable.of_bits({"cloud": [40]})


def test_saturated_is_the_largest_value_in_any_band():
    sight, pixels, _ = one()
    full = np.where(pixels > 4990, 65535, pixels)
    parts = [[Memory(p[np.newaxis], PLACE, 0, (band,))] for p, band in zip(full, sight.raster.bands, strict=True)]
    seen = replace(sight, raster=Stack(PLACE, parts))
    got = MaskLayer(seen, Formula.parse("saturated")).holds(PLACE.window)
    np.testing.assert_array_equal(got, (full == 65535).any(axis=0) & (full != 0).all(axis=0))


def test_what_a_rule_cannot_name_is_told():
    sight, _, _ = one()
    for rule, error, said in (
        ("clod", UnknownNameError, "Did you mean cloud"), ("outside", UsageError, "Outside of what"),
        ("bright_cloud", UsageError, "blue is not here"),
    ):  # fmt: skip
        with pytest.raises(error, match=said):
            MaskLayer(sight, Formula.parse(rule))
    with pytest.raises(UsageError, match="no class layer that tells cloud"):
        MaskLayer(replace(sight, clear=None), Formula.parse("cloud"))


def test_the_guess_at_cloud_finds_nine_tenths_of_the_archives(tmp_path, shared_cache):
    """Of the archive's clouds at least 90 % are found, of its clear ground at most 3 % are taken for cloud."""
    scene = next(one for one in scenes() if one.id.startswith("lapwing-b-20260108t111656-29s3145"))
    lapwing.make(scene, tmp_path, shared_cache)
    item = Lapwing().item(scene, "http://127.0.0.1:1", Store(shared_cache))
    (tmp_path / "item.json").write_text(json.dumps(item))
    files = sorted(tmp_path.glob("*.tif"))
    place = open_raster(next(path for path in files if path.name.endswith("-blue.tif"))).grid
    (sight,) = observations(files, ("blue", "green", "red"), place)
    guess = MaskLayer(sight, Formula.parse("bright_cloud"))
    assert "is a guess" in guess.notes[-1]
    got = guess.read(place.window)[0]
    cloud = sight.clear.table.holds(sight.clear.classes.read(place.window)[0], ("cloud",))
    seen = got != 255
    assert 0.2 < cloud[seen].mean() < 0.8
    assert (got[seen & cloud] == 1).mean() > 0.9 and (got[seen & ~cloud] == 1).mean() < 0.03
