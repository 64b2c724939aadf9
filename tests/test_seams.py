"""Seams wherever parts meet: planted steps are found, ground without any is not accused."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
import shapely
from scipy import ndimage

from helpers import Memory, grid
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import project
from zoompick.judge import registry
from zoompick.judge.subject import Layer, SceneFacts, Subject
from zoompick.products.kinds.table import traits_of
from zoompick.raster.raster import Band

PLACE, SHAPE = grid(512, 400), (400, 512)
RED = (Band("red", 0.0001),)


def rough(seed: int, spread: float = 0.08, smooth: float = 1.0) -> np.ndarray:
    """Reflectance about 0.2 with texture of some size, and fields of two kinds with edges of all directions."""
    rng = np.random.default_rng(seed)
    texture = ndimage.gaussian_filter(rng.standard_normal(SHAPE), smooth)
    fields = np.sign(ndimage.gaussian_filter(rng.standard_normal(SHAPE), 20))
    return 0.2 * (1 + spread * texture / texture.std() + spread * fields)


def as_stored(values: np.ndarray, bands=RED) -> Memory:
    return Memory((values / 0.0001).round().clip(1, 65535).astype("uint16")[None], PLACE, 0, bands)


def judged(raster, **known):
    [found] = registry.judge(Subject("s", raster, **known), {"seams"})
    return found


def halves(col: int, dtype="uint8") -> np.ndarray:
    numbers = np.ones((1, *SHAPE), dtype)
    numbers[:, :, col:] = 2
    return numbers


def by_layer(col: int) -> dict:
    return {"traits": traits_of("mosaic"), "scene_layer": Memory(halves(col), PLACE, 0)}


@pytest.mark.parametrize("smooth", [0.4, 1, 3, 8])
def test_a_seam_of_five_percent_is_seen_through_texture_larger_than_it(smooth):
    for seed in range(8):
        values = rough(seed, 0.08, smooth)
        values[:, 200:] *= 1.05
        found = judged(as_stored(values), **by_layer(200))
        assert found.outcome == "warn", (seed, found.value)
        assert found.data["seams"][0]["share"] == pytest.approx(0.05, abs=0.03)


def test_textured_ground_without_a_seam_is_hardly_ever_accused():
    """Of 160 borders that nothing changes at, four kinds of texture, none may be told."""
    told = [(smooth, seed) for smooth in (0.4, 1, 3, 8) for seed in range(40)
            if judged(as_stored(rough(seed, 0.12, smooth)), **by_layer(200)).outcome != "pass"]  # fmt: skip
    assert told == []


def test_a_step_that_no_eye_sees_is_none():
    flat = np.full(SHAPE, 0.2)
    flat[:, 200:] *= 1.005
    assert judged(as_stored(flat), **by_layer(200)).outcome == "pass"


def test_pictures_of_whole_numbers_are_judged_by_their_own_brightness():
    pixels = (rough(3) / 0.002).round().astype("uint8")[None]
    for factor, outcome in ((1, "pass"), (1.06, "warn")):
        made = pixels.astype(float)
        made[:, :, 256:] *= factor
        raster = Memory(made.round().astype("uint8"), PLACE, 0, (Band("red"),))
        tiles = {"options": {"tiles_px": [256, 256, 0, 0]}, "traits": traits_of("tiles join")}
        assert judged(raster, **tiles).outcome == outcome


def test_tiles_are_told_by_row_and_column_wherever_their_corner_lies():
    values = rough(5)
    values[156:, 356:] *= 1.2
    raster, tiles = as_stored(values), {"options": {"tiles_px": [256, 256, 100, -100]}}
    found = judged(raster, traits=traits_of("tiles join"), **tiles)
    assert found.outcome == "warn" and found.seen.what == "seams"
    assert "row 2" in found.note and "column 2" in found.note and "fetch them again" in found.note
    moved = judged(raster, traits=traits_of("tiles join"), options={"tiles_px": [256, 256, 130, -70]})
    assert moved.outcome == "pass"


def two_files(tmp_path, values: np.ndarray, shift: float) -> tuple[Layer, ...]:
    """The left and the right part as files of a stack, the second on a lattice that lies aside."""
    paths = [tmp_path / f"{name}-red.tif" for name in ("west", "east")]
    for path in paths:
        path.touch()
    place = replace(PLACE, west=PLACE.west + shift * PLACE.pixel_x)
    stored = as_stored(values).read(PLACE.window).copy()
    west, east = stored.copy(), stored.copy()
    west[:, :, 220:], east[:, :, :150] = 0, 0
    rasters = {paths[0]: Memory(west, PLACE, 0, RED), paths[1]: Memory(east, place, 0, RED)}
    return tuple(Layer(path, "red", 0.0001, 0, rasters.__getitem__) for path in paths)


@pytest.mark.parametrize("shift", [0, 0.4])
def test_a_stack_of_two_files_is_judged_where_the_first_ends(tmp_path, shift):
    values = rough(7)
    layers = two_files(tmp_path, values, shift)
    scenes = (SceneFacts("west"), SceneFacts("east"))
    known = {"traits": traits_of("stack"), "layers": layers, "scenes": scenes}
    assert judged(as_stored(values), **known).outcome == "pass"
    brighter = values.copy()
    brighter[:, 220:] *= 1.08
    found = judged(as_stored(brighter), **known)
    assert found.outcome == "warn" and "west and east" in found.note


def test_a_mosaic_without_its_layer_is_judged_by_footprints_some_pixels_off():
    values = rough(9)
    values[:, 200:] *= 1.1
    scenes = tuple(
        SceneFacts(name, footprint=project(shapely.box(
            PLACE.west + first * PLACE.pixel_x, PLACE.bounds.south, PLACE.west + last * PLACE.pixel_x, PLACE.north
        ), LONLAT, PLACE.crs))
        for name, first, last in (("one", 0, 202), ("two", 150, 512))
    )  # fmt: skip
    known = {"traits": traits_of("mosaic"), "scenes": scenes}
    assert judged(as_stored(rough(9)), **known).outcome == "pass"
    assert "one and two" in judged(as_stored(values), **known).note


def test_what_no_border_is_known_of_is_not_judged():
    scenes = (SceneFacts("one"), SceneFacts("two"))
    found = judged(as_stored(rough(2)), traits=traits_of("mosaic"), scenes=scenes)
    assert found.outcome == "not judged" and "where its scenes meet" in found.note
    short = np.ones((1, *SHAPE), "uint8")
    short[:, 100:110, 200:210] = 2
    found = judged(as_stored(rough(2)), traits=traits_of("mosaic"), scene_layer=Memory(short, PLACE, 0))
    assert found.outcome == "not judged" and "scene layer: no seam is long enough" in found.note
