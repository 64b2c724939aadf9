"""Mosaics: one pixel one scene against brute force, soft seams, brightness that is found again, orders."""

from __future__ import annotations

from datetime import UTC, date, datetime
from itertools import product

import numpy as np
import pytest
import scipy.ndimage

import zoompick as zp
from helpers import Memory, foreign_tiff, grid, noise
from zoompick.errors import UnknownNameError, UsageError
from zoompick.products.matching import match, overlaps
from zoompick.products.mosaic import Gain, Mosaic, SceneLayer
from zoompick.products.observations import Clear, Observation, in_order, observations
from zoompick.products.stack import Stack
from zoompick.raster.grid import Window
from zoompick.raster.raster import Band
from zoompick.raster.write import Job, write_together
from zoompick.sensors.classes import ClassTable

SIDE = 300
PLACE = grid(SIDE, SIDE)


def observation(number, pixels, codes=None, grow=0, bands=None, **facts):
    """Bands of one made-up scene; 0 is missing, code 9 hides the ground."""
    parts = [
        [Memory(band[np.newaxis], PLACE, 0, (bands[n],) if bands else (Band("ab"[n]),))]
        for n, band in enumerate(pixels)
    ]
    classes = (
        None
        if codes is None
        else Clear(Memory(codes[np.newaxis], PLACE, 0), ClassTable(cloud=frozenset({9})), ("cloud",), 8 * grow)
    )
    told = {"when": datetime(2025, 1, number, 12, tzinfo=UTC), "cloud_percent": 10.0 * number, "off_nadir_deg": None}
    return Observation(f"s{number}", **{**told, **facts}, raster=Stack(PLACE, parts), clear=classes)


def made_up(seed):
    """Three scenes over each other: each with holes in single bands, and cloud."""
    rng = np.random.default_rng(seed)
    scenes = []
    for number in range(1, 4):
        pixels = noise((2, SIDE, SIDE), "uint16", 1, 4000, seed + number)
        pixels[:, :, : 60 * (number - 1)] = 0
        for band in (0, 1):
            pixels[band][scipy.ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)), 9) > 0.04] = 0
        cloud = scipy.ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)), 12) > 0.02
        scenes.append((pixels, np.where(cloud, 9, 1).astype(np.uint8)))
    return scenes


def expected_owner(scenes, clear_only):
    """Pixel by pixel, as the words say it."""
    owner = np.zeros((SIDE, SIDE), int)
    for row, col in product(range(SIDE), range(SIDE)):
        there = [n for n, (pixels, _) in enumerate(scenes, 1) if pixels[:, row, col].all()]
        clear = [n for n in there if scenes[n - 1][1][row, col] != 9]
        some = [n for n, (pixels, _) in enumerate(scenes, 1) if pixels[:, row, col].any()]
        chosen = clear or ([] if clear_only else there or some)
        owner[row, col] = chosen[0] if chosen else 0
    return owner


@pytest.mark.parametrize("clear_only", [False, True])
def test_each_pixel_is_from_the_first_scene_that_shows_it(tmp_path, clear_only):
    scenes = made_up(3)
    mosaic = Mosaic([observation(n, *scene) for n, scene in enumerate(scenes, 1)], clear_only=clear_only)
    owner = expected_owner(scenes, clear_only)
    assert {0, 1, 2, 3} == set(np.unique(owner))
    write_together([Job(mosaic, tmp_path / "m.tif"), Job(SceneLayer(mosaic), tmp_path / "s.tif")])
    for window in (PLACE.window, Window(17, 40, 120, 77), Window(250, 250, 90, 90)):
        inside = window.intersect(PLACE.window).slices_in(PLACE.window)
        got, layer = mosaic.read(window), SceneLayer(mosaic).read(window)[0]
        part = owner[inside]
        np.testing.assert_array_equal(layer[: part.shape[0], : part.shape[1]], part)
        for number, (pixels, _) in enumerate(scenes, 1):
            np.testing.assert_array_equal(
                got[:, : part.shape[0], : part.shape[1]][:, part == number],
                pixels[(slice(None), *inside)][:, part == number],
            )
        assert not got[:, : part.shape[0], : part.shape[1]][:, part == 0].any()


def test_what_hides_the_ground_is_grown_by_a_disc():
    codes = np.ones((SIDE, SIDE), np.uint8)
    codes[100, 100] = codes[0, 299] = 9
    both = [
        observation(1, np.full((1, SIDE, SIDE), 7, np.uint16), codes, grow=5),
        observation(2, np.full((1, SIDE, SIDE), 8, np.uint16)),
    ]
    values = Mosaic(both).read(PLACE.window)[0]
    y, x = np.mgrid[:SIDE, :SIDE]
    hidden = (np.hypot(y - 100, x - 100) <= 5) | (np.hypot(y, x - 299) <= 5)
    np.testing.assert_array_equal(values == 8, hidden)
    np.testing.assert_array_equal(Mosaic(both).read(Window(98, 90, 50, 9))[0], values[90:99, 98:148])


def test_soft_seams_fade_from_one_scene_to_the_next_and_nowhere_else():
    first, second = np.full((1, SIDE, SIDE), 1000, np.uint16), np.full((1, SIDE, SIDE), 2000, np.uint16)
    first[:, :, 200:], second[:, :, :100] = 0, 0
    mosaic = Mosaic([observation(1, first), observation(2, second)], feather_m=40 * 8)
    row = mosaic.read(PLACE.window)[0][150].astype(float)
    assert (row[:100] == 1000).all() and (row[200:] == 2000).all()
    assert (np.diff(row) >= 0).all() and np.diff(row).max() < 60, "no step anywhere"
    assert row[159] == 1000 and 1450 < row[180] < 1550
    pieces = np.hstack([mosaic.read(Window(at, 140, 75, 20))[0] for at in range(0, 300, 75)])
    np.testing.assert_array_equal(pieces[10], row)


def textured(seed):
    rng = np.random.default_rng(seed)
    return scipy.ndimage.gaussian_filter(rng.normal(size=(SIDE, SIDE)), 3) * 4000 + 2500


def test_planted_gains_are_found_again():
    truth = np.stack([textured(1), textured(2)])
    planted = [Gain((1, 1), (0, 0)), Gain((0.9, 1.12), (0.01, -0.02)), Gain((1.2, 0.85), (-0.03, 0.01))]
    rng = np.random.default_rng(4)
    bands = [Band("a", 0.0001, -0.1), Band("b", 0.0001, -0.1)]
    found = []
    for number, gain in enumerate(planted, 1):
        physical = truth * 0.0001 - 0.1
        seen = np.stack([(physical[b] - gain.offsets[b]) / gain.gains[b] for b in (0, 1)])
        stored = np.rint((seen + 0.1) / 0.0001)
        stored[:, 20 * number : 20 * number + 12] = rng.integers(5000, 9000, (2, 12, SIDE))
        stored[:, :, : 90 * (number - 1)] = 0
        found.append(observation(number, stored.clip(0, 65535).astype(np.uint16), bands=bands))
    matched = match(overlaps(found), ["s1", "s2", "s3"], ["a", "b"])
    for got, gain in zip(matched.gains, planted, strict=True):
        np.testing.assert_allclose(got.gains, gain.gains, rtol=0.005)
        np.testing.assert_allclose(got.offsets, gain.offsets, atol=0.0015)
    assert matched.rows[0]["bands"]["a"]["gain"] == 1
    alike = Mosaic(found, matched=matched).read(PLACE.window)
    quiet = (alike[0] > 0) & (alike[0] < 4500) & (truth[0] > 1) & (truth[0] < 4500)
    assert np.median(np.abs(alike[0][quiet] - truth[0][quiet])) <= 3
    with pytest.raises(UsageError, match="too unlike"):
        match(
            overlaps([found[0], observation(4, np.stack([textured(8), textured(9)]).clip(1).astype(np.uint16))]),
            "ab",
            "ab",
        )
    apart = np.zeros((2, SIDE, SIDE), np.uint16)
    apart[:, :, 295:] = 500
    with pytest.raises(UsageError, match="fewer than 200"):
        found = [observation(5, np.where(apart, 0, 700).astype(np.uint16)), observation(6, apart)]
        match(overlaps(found), "ab", "ab")


def test_the_order_is_what_is_asked_for():
    pixels = np.ones((1, SIDE, SIDE), np.uint16)
    clouds = {2: {"cloud_percent": 50.0}, 9: {"cloud_percent": 3.0}, 4: {}}
    found = [observation(day, pixels, **told) for day, told in clouds.items()]
    names = {
        rule: [one.name for one in in_order(found, rule, date(2025, 1, 5))]
        for rule in ("given", "newest", "oldest", "clearest", "nearest")
    }
    assert names == {
        "given": ["s2", "s9", "s4"], "newest": ["s9", "s4", "s2"], "oldest": ["s2", "s4", "s9"],
        "clearest": ["s9", "s4", "s2"], "nearest": ["s4", "s2", "s9"],
    }  # fmt: skip
    with pytest.raises(UsageError, match="how far off nadir"):
        in_order(found, "nadir")
    with pytest.raises(UnknownNameError, match="newest"):
        in_order(found, "newst")


def test_files_are_grouped_by_scene_and_laid_on_the_grid(tmp_path):
    for name, west in (("east", 752000 + 800), ("west", 752000)):
        for band in ("red", "nir"):
            foreign_tiff(tmp_path / f"{name}-{band}.tif", noise((1, 100, 120)), grid(120, 100, west=west), "0")
    files = sorted(tmp_path.glob("*.tif"))
    found = observations(files, (), PLACE)
    assert len(found) == 2 and all([band.name for band in one.raster.bands] == ["nir", "red"] for one in found)
    with pytest.raises(UnknownNameError, match="Did you mean red"):
        observations(files, ["rad"], PLACE)
    with pytest.raises(UsageError, match="lacks nir"):
        observations(files[1:], ["red", "nir"], PLACE)


def test_files_that_tell_no_time_count_as_they_are_given(tmp_path):
    """Where no order is asked for; asked for, the newest cannot be told."""
    for name, value in (("a", 3), ("b", 5)):
        (tmp_path / name).mkdir()
        foreign_tiff(tmp_path / name / "red.tif", np.full((1, 32, 32), value, "uint16"), grid(32, 32), nodata="0")
    files = [tmp_path / "b" / "red.tif", tmp_path / "a" / "red.tif"]
    assert (np.asarray(zp.mosaic(files)) == 5).all() and (np.asarray(zp.mosaic(files[::-1])) == 3).all()
    with pytest.raises(UsageError, match="does not tell when it was taken"):
        zp.mosaic(files, order="newest")
