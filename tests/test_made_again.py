"""Products are made again by the judge's own choices: another product under the same name is told, records agreeing.

Every fault leaves the files' digests aside: only what is computed again may speak.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
from scipy import ndimage

from conftest import copied
from test_planted_faults import BEFORE as OLD
from test_planted_faults import DAY, edited
from zoompick.raster.opening import open_raster
from zoompick.study.verify import CheckOptions, verify_files

STACK, CLIP, GROUND = f"products/{DAY}/stack.tif", f"products/{DAY}/clip.tif", f"products/{DAY}/ground.tif"
NDVI, NATURAL = f"products/{DAY}/ndvi.tif", f"products/{DAY}/natural.tif"
CLEAR, DIFFERENCE, CHANGE = "products/clear.tif", "products/wetter-difference.tif", "products/wetter.tif"
MOSAIC, OWNERS = "border/mosaic.tif", "border/mosaic-scenes.tif"
COUNT, DAYS = "products/clear-count.tif", "products/clear-date.tif"
ALL = (COUNT, DAYS, STACK, CLIP, GROUND, NDVI, NATURAL, CLEAR, DIFFERENCE, CHANGE, MOSAIC)


@pytest.fixture
def study(demo, tmp_path) -> Path:
    return copied(demo[0], tmp_path / "fen")


def pixels_of(path: Path) -> np.ndarray:
    raster = open_raster(path)
    return raster.read(raster.grid.window).copy()


def times(factor: float, *places: int) -> Callable:
    """Bands by a factor where they have pixels; all of them by default."""

    def change(pixels, names):
        made = pixels.astype(float)
        for place in places or range(len(pixels)):
            made[place] = np.where(made[place] == 0, 0, (made[place] * factor).round())
        return made.astype(pixels.dtype)

    return change


def of_date(name: str, other: str) -> Callable[[Path], None]:
    """The same product of the other date."""
    return lambda study: edited(study / name, lambda pixels, names: pixels_of(study / other)[: len(pixels)])


def changed(name: str, change: Callable, **options) -> Callable[[Path], None]:
    return lambda study: edited(study / name, change, **options)


def half(change: Callable) -> Callable:
    def left(pixels, names):
        middle = pixels.shape[2] // 2
        made = change(pixels.copy(), names)
        made[:, :, middle:] = pixels[:, :, middle:]
        return made

    return left


def rolled(cols: int) -> Callable:
    return lambda pixels, names: np.roll(pixels, cols, axis=2)


def turned(pixels, names):
    return np.choose(pixels, [0, 3, 2, 1, 4]).astype(pixels.dtype)


def swapped_owners(pixels, names):
    return np.array([0, 2, 1, 4, 3], pixels.dtype)[pixels]


def hides_more(pixels, names):
    hidden = ndimage.binary_dilation(pixels[0] == 0, iterations=12)
    return np.where(hidden, 0, pixels).astype(pixels.dtype)


def hides_nothing(study: Path) -> None:
    edited(study / GROUND, lambda pixels, names: pixels_of(study / STACK))


def older_everywhere(study: Path) -> None:
    """Each pixel of the blend is the other summer's, on the blend's grid."""
    grid, old = open_raster(study / CLEAR).grid, open_raster(study / f"products/{OLD}/stack.tif")
    assert old.grid == grid
    edited(study / CLEAR, lambda pixels, names: old.read(grid.window)[: len(pixels)])


def dimmer(pixels, names):
    return np.where(pixels == 0, 0, np.maximum(1, pixels * 0.8)).astype(pixels.dtype)


class Fault(NamedTuple):
    name: str
    plant: Callable[[Path], object]
    file: str
    key: str
    words: str = ""


FAULTS = [
    Fault("stack of another date", of_date(STACK, f"products/{OLD}/stack.tif"), STACK, "scenes"),
    Fault("a band of a stack 30 % brighter", changed(STACK, times(1.3, 1)), STACK, "scenes"),
    Fault("a coarse band of a stack 2 % brighter", changed(STACK, times(1.02, 4)), STACK, "scenes"),
    Fault("half a stack a pixel aside", changed(STACK, half(rolled(1))), STACK, "scenes"),
    Fault("clip of another date", of_date(CLIP, f"products/{OLD}/clip.tif"), CLIP, "clip"),
    Fault("clip 50 px aside", changed(CLIP, rolled(50)), CLIP, "clip"),
    Fault("clip that keeps all", lambda s: edited(s / CLIP, lambda p, n: np.where(p == 0, 900, p)), CLIP, "clip"),
    Fault("mask that hides far more", changed(GROUND, hides_more), GROUND, "mask"),
    Fault("mask that hides nothing", hides_nothing, GROUND, "mask"),
    Fault("index 2 % off", changed(NDVI, lambda p, n: p * 1.02), NDVI, "index"),
    Fault("index times -1", changed(NDVI, lambda p, n: -p), NDVI, "index"),
    Fault("index of another date", of_date(NDVI, f"products/{OLD}/ndvi.tif"), NDVI, "index"),
    Fault("index with a hole", changed(NDVI, lambda p, n: np.where(np.indices(p.shape)[2] < 300, np.nan, p)), NDVI,
          "index"),
    Fault("composite a fifth darker", changed(NATURAL, dimmer, is_rgb=True), NATURAL, "shades", "darker in the"),
    Fault("colours swapped", changed(NATURAL, lambda p, n: p[[2, 1, 0]], is_rgb=True), NATURAL, "shades",
          "colours are swapped"),
    Fault("blend of the older date everywhere", older_everywhere, CLEAR, "blend"),
    Fault("a band of a blend 30 % brighter", changed(CLEAR, times(1.3, 2)), CLEAR, "blend"),
    Fault("half a blend a pixel aside", changed(CLEAR, half(rolled(1))), CLEAR, "blend"),
    Fault("a layer that counts one date more", changed(COUNT, lambda p, n: p + 1), COUNT, "count"),
    Fault("a layer of days of another date", changed(DAYS, lambda p, n: np.where(p, 20250101, 0)), DAYS, "day"),
    Fault("difference times -1", changed(DIFFERENCE, lambda p, n: -p), DIFFERENCE, "difference", "earlier date less"),
    Fault("difference of nothing", changed(DIFFERENCE, lambda p, n: p * 0), DIFFERENCE, "difference"),
    Fault("change turned round", changed(CHANGE, turned), CHANGE, "change", "turned around"),
    Fault("change 50 px aside", changed(CHANGE, rolled(50)), CHANGE, "change"),
    Fault("a mosaic 30 % brighter", changed(MOSAIC, times(1.3)), MOSAIC, "mosaic"),
    Fault("a mosaic 50 px aside", changed(MOSAIC, rolled(50)), MOSAIC, "mosaic"),
    Fault("scene layer swapped", changed(OWNERS, swapped_owners), MOSAIC,
          "mosaic"),
    Fault("scene layer 50 px aside", changed(OWNERS, rolled(50)), MOSAIC, "mosaic"),
]  # fmt: skip


@pytest.mark.parametrize("fault", FAULTS, ids=[fault.name for fault in FAULTS])
def test_another_product_under_the_same_name_is_told(study, fault):
    fault.plant(study)
    findings = verify_files([study / fault.file], options=CheckOptions(only=("products",)))
    bad = {finding.key: finding for finding in findings if finding.outcome == "fail"}
    assert set(bad) == {fault.key}, [(one.key, one.outcome, one.figure, one.note) for one in findings]
    told = bad[fault.key]
    assert told.seen is not None and told.seen.count and fault.words in told.note, told.note


def test_nothing_is_said_of_what_was_made_as_told(demo):
    study, _ = demo
    sampled = verify_files([study / name for name in ALL], options=CheckOptions(only=("products",)))
    whole = verify_files([study / name for name in ALL], options=CheckOptions(only=("products",), is_thorough=True))
    assert {finding.outcome for finding in (*sampled, *whole)} == {"pass"}
    assert {finding.key for finding in whole} == {
        "scenes", "clip", "mask", "index", "shades", "blend", "difference", "change", "mosaic", "count", "day"
    }  # fmt: skip
    for few, all_of_it in zip(sampled, whole, strict=True):
        if few.seen.what == "px":
            assert few.seen.count < all_of_it.seen.count, few.check


def test_a_patch_between_the_windows_is_seen_by_the_thorough_alone(study):
    edited(study / STACK, lambda pixels, names: _patched(pixels))
    few = verify_files([study / STACK], options=CheckOptions(only=("scenes",)))
    every = verify_files([study / STACK], options=CheckOptions(only=("scenes",), is_thorough=True))
    assert [finding.outcome for finding in (*few, *every)] == ["pass", "fail"]
    assert few[0].seen.percent < 50


def _patched(pixels):
    """Off by a tenth where no window lies: those begin a sixth into the grid."""
    pixels[:, :, :90] = (pixels[:, :, :90] * 1.1).round()
    return pixels


WAYS = {"median": times(1.02), "mean": times(1.02), "percentile=90": half(times(1.02)), "clearest": half(rolled(1)),
        "highest=ndvi": half(times(1.02))}  # fmt: skip


def spoken(files: list[Path]) -> set[tuple[str, str, str]]:
    options = CheckOptions(only=("products",))
    found = verify_files(files, options=options)
    return {(one.key, one.subject, one.outcome) for one in found}


@pytest.mark.parametrize("way", WAYS)
def test_blends_of_every_way_are_made_again(study, program, way):
    scenes = sorted(study.glob("scenes/*/*/*/*.tif"))
    assert (
        program(
            "blend", *scenes, "--by", way, "--grow", "30m", "--bands", "red,nir", "--out", "b.tif", cwd=study
        ).code
        == 0
    )
    made = sorted(study.glob("b*.tif"))
    honest = spoken(made)
    assert {outcome for _, _, outcome in honest} == {"pass"}
    assert {key for key, _, _ in honest} == {
        "blend",
        "count",
        *(["day"] if way in ("clearest", "highest=ndvi") else []),
    }
    edited(study / "b.tif", WAYS[way])
    assert ("blend", "b.tif", "fail") in spoken(made)


@pytest.mark.parametrize("order", ["clearest", "nadir", "nearest=2025-11-30"])
def test_matched_mosaics_are_made_again_by_their_recorded_gains(study, program, order):
    scenes = sorted(study.glob("scenes/*/*/*/*.tif"))
    words = ("mosaic", *scenes, "--order", order, "--match", "--bands", "red,nir", "--out", "m.tif")
    assert program(*words, cwd=study).code == 0
    assert spoken([study / "m.tif"]) >= {("mosaic", "m.tif", "pass")}
    assert ("mosaic", "m.tif", "fail") not in spoken([study / "m.tif"])
    edited(study / "m.tif", times(1.02))
    assert ("mosaic", "m.tif", "fail") in spoken([study / "m.tif"])


def test_scenes_that_are_not_in_the_order_that_was_asked_for_are_told(study):
    record = study / f"{MOSAIC}.stac.json"
    told = json.loads(record.read_text())
    rows = told["properties"]["zoompick:scenes"]
    for row, cloud in zip(rows, (30, 20, 10, 5), strict=True):
        [item] = study.glob(f"border/{row['id']}/item.json")
        facts = json.loads(item.read_text())
        facts["properties"]["eo:cloud_cover"] = cloud
        item.write_text(json.dumps(facts))
    for step in told["properties"]["zoompick:steps"]:
        step["options"]["order"] = "clearest"
    record.write_text(json.dumps(told))
    assert ("mosaic", "mosaic.tif", "fail") in spoken([study / MOSAIC])
