"""What checks measure, against computations of their own: shifts, references, lines, leaks, spectra, limits."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from scipy import ndimage, stats

from conftest import copied, knows
from helpers import Memory, grid, noise
from zoompick.geo.shapes import lonlat_box
from zoompick.judge import registry
from zoompick.judge.checks import products
from zoompick.judge.limits import Limits
from zoompick.judge.shifts import Shifts, Vector, between, spectrum_of, tiles_over
from zoompick.judge.subject import SceneFacts, Subject
from zoompick.products.formula import Formula
from zoompick.products.kinds.table import traits_of
from zoompick.raster.grid import Window
from zoompick.raster.raster import Band
from zoompick.raster.write import write_geotiff
from zoompick.study.folder import Study
from zoompick.study.verify import CheckOptions, judge_study

PLACE = grid(500, 400)
BANDS = (Band("red", 0.0001), Band("nir", 0.0001))


def texture(seed: int = 5, shape: tuple[int, int] = (400, 500), smooth: float = 1.5) -> np.ndarray:
    """Ground with detail of some pixels, as fields and trees have it; values of reflectance times 10000."""
    rough = ndimage.gaussian_filter(np.random.default_rng(seed).normal(size=shape), smooth)
    large = ndimage.gaussian_filter(np.random.default_rng(seed + 1).normal(size=shape), 12)
    return np.clip(2000 + 400 * rough / rough.std() + 200 * large / large.std(), 50, 9000)


def found_by(check: str, raster, **known):
    [found, *_] = registry.judge(Subject("s", raster, **known), {check})
    return found


def shifts_of(one: np.ndarray, two: np.ndarray) -> Shifts:
    windows = tiles_over(PLACE)

    def spectra(image):
        return [spectrum_of(image[w.row : w.row + w.height, w.col : w.col + w.width]) for w in windows]

    return between(windows, spectra(one), spectra(two))


# Shifts


@pytest.mark.parametrize("shift", [(0.25, -0.4), (1.5, 0.0), (12.0, -9.5)])
@pytest.mark.parametrize("kind", ["the same", "other light", "the reverse", "noisy"])
def test_a_shift_is_found_to_a_tenth_of_a_pixel(shift, kind):
    ground = texture()
    moved = ndimage.shift(ground, shift[::-1], order=3, mode="nearest")
    seen = {
        "the same": moved,
        "other light": 0.6 * moved + 300 + 0.5 * np.arange(500),
        "the reverse": 5000 - moved,
        "noisy": moved + np.random.default_rng(1).normal(0, 150, moved.shape),
    }[kind]
    found = shifts_of(ground, seen)
    assert found.is_sure and found.median == pytest.approx(shift, abs=0.1)


def test_gaps_take_tiles_out_and_invent_nothing():
    ground, gone = texture(), texture()
    gone[:, :260] = np.nan
    found = shifts_of(ground, ndimage.shift(ground, (0, 2), order=3, mode="nearest") + 0 * gone)
    assert 0 < found.looked < len(tiles_over(PLACE)) and all(vector.col > 200 for vector in found.vectors)
    assert found.median == pytest.approx((2, 0), abs=0.1)
    for other in (texture(77), np.full_like(ground, 9.0), np.random.default_rng(2).normal(size=ground.shape)):
        assert not shifts_of(ground, other).is_sure


def test_tiles_that_do_not_agree_are_no_evidence():
    vectors = tuple(Vector(0, 0, cols, 0) for cols in (0, 3, -4, 7, 1, -2))
    assert not Shifts(vectors, 6).is_sure and Shifts((), 4).spread_px == float("inf")
    agreeing = tuple(Vector(0, 0, 1.5 + 0.01 * n, 0.5) for n in range(5))
    assert Shifts(agreeing, 12).is_sure and not Shifts(agreeing, 40).is_sure


@pytest.mark.parametrize("width", [60, 500, 3000, 10980])
def test_tiles_lie_in_the_raster_and_each_in_a_block_of_a_large_one(width):
    place = grid(width, width)
    for window in tiles_over(place):
        assert window.intersect(place.window) == window
        if width > 2048:
            assert window.col // 512 == (window.stop_col - 1) // 512
            assert window.row // 512 == (window.stop_row - 1) // 512
    assert 1 <= len(tiles_over(place)) <= 16


@pytest.mark.parametrize("which", [0, 2, 4])
def test_the_band_that_is_off_is_named_whichever_it_is(which):
    names = ("blue", "green", "red", "nir", "swir16")
    planes = [texture() * (0.6 + 0.1 * n) + 40 * texture(20 + n) / 700 for n in range(5)]
    planes[which] = ndimage.shift(planes[which], (1.0, -1.5), order=3, mode="nearest")
    raster = Memory(np.stack(planes).round().astype("uint16"), PLACE, 0, tuple(Band(name, 0.0001) for name in names))
    found = found_by("bands-shift", raster)
    assert found.outcome == "fail" and found.note.startswith(names[which])
    assert found.data["off"][names[which]] == pytest.approx([-1.5, 1.0], abs=0.1)
    assert all(np.hypot(*off) < 0.2 for name, off in found.data["off"].items() if name != names[which])


# A reference


def test_a_reference_is_held_against_every_pixel(tmp_path):
    ground = texture().round()
    own = np.stack([ground, ground + 500]).astype("uint16")
    own[0, :50] = 0
    other = (1.03 * own[:1] + np.random.default_rng(3).normal(0, 30, own[:1].shape)).round().astype("uint16")
    other[0, :, :40] = 0
    raster, reference = Memory(own, PLACE, 0, BANDS), Memory(other, PLACE, 0, (Band("red", 0.0001),))
    found = found_by("reference", raster, reference=("r.tif", reference))
    told = found.data["bands"]["red"]
    there = (own[0] != 0) & (other[0] != 0)
    x, y = other[0][there] * 0.0001, own[0][there] * 0.0001
    assert told["pixels"] == there.sum() and list(found.data["bands"]) == ["red"]
    assert told["bias"] == pytest.approx((y - x).mean(), rel=1e-6)
    assert told["rmse"] == pytest.approx(np.sqrt(((y - x) ** 2).mean()), rel=1e-6)
    assert told["correlation"] == pytest.approx(stats.pearsonr(x, y).statistic, rel=1e-6)
    assert found.value == pytest.approx(100 * (y.mean() / x.mean() - 1), rel=1e-6) and found.outcome == "pass"
    tight = found_by("reference", raster, reference=("r.tif", reference), limits=Limits(bias=2))
    assert tight.outcome == "fail" and "r.tif" in tight.note
    apart = Memory(other, grid(500, 400, west=952000.0), 0, (Band("red", 0.0001),))
    assert found_by("reference", raster, reference=("a", apart)).figure == "no ground in common"
    named = Memory(other, PLACE, 0, (Band("heat"),))
    assert "heat" in found_by("reference", raster, reference=("h", named)).note


# Lines, leaks, spectra


@pytest.mark.parametrize(
    ("change", "outcome", "said"),
    [
        (lambda p: None, "pass", ""),
        (lambda p: p[0].__setitem__((slice(111, 112)), 1500), "fail", "row 111 of red"),
        (
            lambda p: p[1].__setitem__((slice(None), slice(300, 302)), 0),
            "fail",
            "column 300 of nir, column 301 of nir",
        ),
        (lambda p: p[1].__setitem__((slice(None), slice(300, 320)), 0), "pass", ""),
        (lambda p: p.__setitem__((0, slice(50, 54)), p[0, 50:54] * 1.3), "warn", "row 50 of red, row 51 of red"),
        (lambda p: p.__setitem__((0, slice(50, 56)), p[0, 50:56] * 1.3), "pass", ""),
        (lambda p: p[1].__setitem__((slice(None), slice(300, 301)), 0), "fail", "column 300 of nir"),
        (lambda p: p.__setitem__((0, slice(50, 51)), p[0, 50:51] * 1.3), "warn", "row 50 of red"),
        (lambda p: p.__setitem__((0, slice(50, 90)), p[0, 50:90] * 1.3), "pass", ""),
        (lambda p: p.__setitem__((slice(None), slice(60, 90), slice(80, 200)), 0), "pass", ""),
    ],
)
def test_lines_are_told_and_edges_are_not(change, outcome, said):
    pixels = np.stack([texture(), texture(9)]).round().astype("float64")
    change(pixels)
    found = found_by("lines", Memory(pixels.round().astype("uint16"), PLACE, 0, BANDS))
    assert found.outcome == outcome and said in found.note, found


@pytest.mark.parametrize(
    ("value", "count", "nodata", "outcome"),
    [
        (0, 400, None, "fail"),
        (0, 400, 0, "pass"),
        (65535, 400, 0, "fail"),
        (0, 3, None, "pass"),
        (1900, 4000, 0, "pass"),
    ],
)
def test_leaks_are_values_that_lie_apart(value, count, nodata, outcome):
    pixels = np.stack([texture(), texture(9)]).clip(900, 5000).round().astype("uint16")
    pixels[0].flat[:count] = value
    assert found_by("leaks", Memory(pixels, PLACE, nodata, BANDS)).outcome == outcome


def test_floats_and_signed_numbers_leak_too():
    for dtype, mark in (("int16", -9999), ("float32", -9999), ("int16", -32768)):
        pixels = np.stack([texture(), texture(9)]).clip(900, 5000).round().astype(dtype)
        pixels[1, :30, :30] = mark
        found = found_by("leaks", Memory(pixels, PLACE, None, BANDS))
        assert found.outcome == "fail" and f"{mark}" in found.note


@pytest.mark.parametrize(
    ("red", "nir", "outcome"),
    [
        (500, 4000, "pass"),
        (4000, 500, "fail"),
        (2500, 2600, "not judged"),
        (300, 100, "not judged"),
        (3000, 1200, "fail"),
    ],
)
def test_spectra_tell_swapped_bands_and_leave_water_and_sand_alone(red, nir, outcome):
    rng = np.random.default_rng(4)
    pixels = np.stack([rng.normal(red, red / 20, (400, 500)), rng.normal(nir, nir / 20, (400, 500))])
    raster = Memory(pixels.clip(1).round().astype("uint16"), PLACE, 0, BANDS)
    assert found_by("spectra", raster).outcome == outcome


def test_half_water_does_not_hide_a_swap():
    pixels = np.stack([np.full((400, 500), 400.0), np.full((400, 500), 4000.0)])
    pixels[:, :, :300] = [[[300]], [[80]]]
    pixels += np.random.default_rng(6).normal(0, 10, pixels.shape)
    stored = pixels.round().astype("uint16")
    assert found_by("spectra", Memory(stored, PLACE, 0, BANDS)).outcome == "pass"
    swapped = found_by("spectra", Memory(stored[::-1].copy(), PLACE, 0, BANDS))
    assert swapped.outcome == "fail" and swapped.data["confidence_percent"] > 90


# Place, time, formulas


def test_pixels_outside_every_footprint_are_counted():
    pixels = np.ones((1, 400, 500), "uint16")
    raster = Memory(pixels, PLACE, 0, (Band("red"),))
    whole = lonlat_box(-13, -39, -11, -38)
    assert found_by("footprint", raster, scenes=(SceneFacts("a", footprint=whole),)).value == 0
    away = found_by("footprint", raster, scenes=(SceneFacts("a", footprint=lonlat_box(-10, -39, -9, -38)),))
    assert away.value == 100 and away.outcome == "fail"


@pytest.mark.parametrize(
    ("check", "pieces", "outcome"),
    [
        ("sun", (SceneFacts("a", sun_elevation_deg=40), SceneFacts("b", sun_elevation_deg=52)), "pass"),
        ("sun", (SceneFacts("a", sun_elevation_deg=40), SceneFacts("b", sun_elevation_deg=60)), "warn"),
        ("sun", (SceneFacts("a", sun_elevation_deg=9),), "warn"),
        ("view", (SceneFacts("a", off_nadir_deg=3), SceneFacts("b", off_nadir_deg=12)), "pass"),
        ("view", (SceneFacts("a", off_nadir_deg=-3), SceneFacts("b", off_nadir_deg=27)), "warn"),
    ],
)
def test_scenes_of_one_product_are_held_together(check, pieces, outcome):
    raster = Memory(np.ones((1, 50, 60), "uint16"), grid(60, 50), 0, (Band("red"),))
    assert found_by(check, raster, traits=traits_of("stack"), scenes=pieces).outcome == outcome
    assert registry.judge(Subject("s", raster, traits=traits_of("blend"), scenes=pieces), {check}) == []


@pytest.mark.parametrize("text", ["(a - b) / (a + b)", "2.5 * (a - b) / (a + 6 * b - 7.5 * c + 1)", "-(a) * 2 + c",
                                  "min(a, b, 0.3) + max(c, a)", "sqrt(abs(a - b)) + log(c) - exp(-a)",
                                  "where(a > b and not c < 0.2 or a == b, a, clip(c, 0.2, 0.5))",
                                  "where(a != b, -1, 1) * abs(b - c)"])  # fmt: skip
def test_judge_and_maker_read_formulas_alike_and_share_no_code(text):
    import ast

    bands = {name: noise((30, 40), "float64", 0.01, 0.9, seed) for seed, name in enumerate("abc")}
    judged = products._value(ast.parse(text, mode="eval").body, bands)
    made = Formula.parse(text).compute(bands)
    np.testing.assert_allclose(judged, made, rtol=1e-6)
    for other in ("a if b else c", "a ** b", "pow(a, b)", "min(a, b, key=c)", "a[0]", "__import__('os')"):
        with pytest.raises((KeyError, TypeError)):
            products._value(ast.parse(other, mode="eval").body, bands)


def test_limits_are_told_by_name():
    told = Limits().given(("shift_px=0.2", "seam = 5"))
    assert (told.shift_px, told.seam, told.valid) == (0.2, 5, 98)
    assert registry.named(["files", "seams"]) >= {"blocks", "checksum", "seams"}


# In a study


@pytest.fixture
def study(clean_study, archive, tmp_path) -> Path:
    return knows(copied(clean_study, tmp_path / "s"), archive)


def test_a_brief_sets_limits_and_leaves_checks_out(study, program):
    text = (study / "study.toml").read_text()
    more = 'skip = ["record", "shades"]\nlimits = { shift_px = 0.001, sun_low_deg = 80 }\n'
    (study / "study.toml").write_text(text.replace("[verify]\n", f"[verify]\n{more}"))
    found = judge_study(Study(study))
    keys = {finding.key for finding in found}
    assert not keys & {"record", "sources", "brief", "journal", "shades"} and {"spectra", "seams"} <= keys
    assert {finding.key for finding in found if finding.outcome != "pass"} == {"bands-shift", "sun"}
    kept = json.loads((study / "checks.json").read_text())["findings"]
    assert [row["key"] for row in kept] == [finding.key for finding in found]
    some = judge_study(Study(study), options=CheckOptions(only=("values",)))
    assert {finding.key for finding in some} == {"negative", "saturated", "range", "leaks", "lines", "patches"}
    assert json.loads((study / "checks.json").read_text())["findings"] == kept
    for wrong, said in (("limits = { shift = 1 }", "shift_px"), ("limits = 3", "table"), ('skip = "x', "line")):
        (study / "study.toml").write_text(text.replace("[verify]\n", f"[verify]\n{wrong}\n"))
        refused = program("verify", cwd=study)
        assert refused.code != 0 and said in refused.err, refused.err


def test_sources_are_asked_whether_their_files_changed(study, program):
    shown = program("verify", "--online", "--checks", "online", "--json", cwd=study)
    assert shown.code == 0 and {row["key"] for row in shown.json["findings"]} == {"online"}
    record = sorted(study.glob("scenes/*/*/*/downloads.json"))[0]
    rows = json.loads(record.read_text())
    name = next(iter(rows))
    assert all(row["version"] for row in rows.values())
    for key, value in (("version", '"another"'), ("size", rows[name]["size"] + 1)):
        record.write_text(json.dumps(rows | {name: rows[name] | {key: value, "whole_size": None}}))
        changed = program("verify", "--online", "--checks", "online", "--json", cwd=study).json["findings"]
        [odd] = [row for row in changed if row["outcome"] != "pass"]
        assert odd["outcome"] == "warn" and name in odd["note"]


def test_a_window_of_one_pixel_and_a_raster_of_one_are_judged(tmp_path, program):
    for number, shape in enumerate(((1, 1), (1, 700), (3, 2))):
        raster = Memory(np.full((2, *shape), 1200, "uint16"), grid(shape[1], shape[0]), 0, BANDS)
        write_geotiff(raster, tmp_path / f"{number}.tif")
        done = program("verify", f"{number}.tif", "--json", cwd=tmp_path)
        assert done.code in (0, 1) and {row["key"] for row in done.json["findings"]} >= {"blocks", "tags", "leaks"}
    assert Window(0, 0, 1, 1).intersect(grid(1, 1).window) == Window(0, 0, 1, 1)
