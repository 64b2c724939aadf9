"""Each check of a verification by itself, its figure held against an independent count."""

from __future__ import annotations

import hashlib

import blake3
import numpy as np
import pytest
import shapely

from helpers import Memory, foreign_tiff, grid, noise
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import project
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band
from zoompick.raster.write import write_geotiff
from zoompick.sensors.classes import ClassTable
from zoompick.verification import bands, coverage, files
from zoompick.verification.finding import Finding, judged, worst

PLACE = grid(300, 200)
CLASSES = ClassTable(fill=frozenset({0}), clear=frozenset({1, 2}), shadow=frozenset({3}), cloud=frozenset({4, 5}))


def on_ground(col: float, row: float, cols: float, rows: float, place: Grid = PLACE) -> shapely.Geometry:
    """A rectangle of pixels as an area in longitude/latitude, with corners enough to stay straight."""
    west, north = place.west + col * place.pixel_x, place.north - row * place.pixel_y
    box = shapely.box(west, north - rows * place.pixel_y, west + cols * place.pixel_x, north)
    return project(shapely.segmentize(box, place.pixel_x * 10), LONLAT, place.crs)


def named(*names: str) -> Memory:
    return Memory(noise((len(names), 200, 300)), PLACE, 0, tuple(Band(name) for name in names))


@pytest.mark.parametrize(
    ("have", "want", "outcome", "figure", "said"),
    [
        (("red", "nir"), ("red", "nir"), "pass", "2 of 2", ""),
        (("nir", "red"), ("red", "nir"), "fail", "0 of 2", "Found nir, red; wanted red, nir."),
        (("red",), ("red", "nir"), "fail", "1 of 2", "Missing: nir."),
        (("red", "nir", "blue"), ("red", "nir"), "fail", "2 of 2", "wanted red, nir"),
    ],
)
def test_bands_are_held_against_the_brief(have, want, outcome, figure, said):
    found = bands.bands_in_order(named(*have), want, "s")
    assert (found.outcome, found.figure) == (outcome, figure) and said in found.note


def test_a_band_that_was_never_published_is_named():
    found = bands.bands_published(("red", "green"), ("red", "nir", "swir16"), "s")
    assert (found.outcome, found.figure, found.value) == ("fail", "1 of 3", 1)
    assert "without nir, swir16" in found.note
    assert bands.bands_published(("red", "nir"), ("nir",), "s").outcome == "pass"


def test_one_pixel_makes_bands_distinct():
    pixels = noise((3, 200, 300))
    pixels[2] = pixels[0]
    twins = bands.bands_distinct(Memory(pixels, PLACE, 0, (Band("red"), Band("green"), Band("nir"))), "s")
    assert twins.outcome == "fail" and twins.note == "red and nir hold the same pixels." and twins.value == 2
    pixels[2, 199, 299] += 1
    assert bands.bands_distinct(Memory(pixels, PLACE, 0), "s").outcome == "pass"


@pytest.mark.parametrize(
    ("other", "fits"),
    [
        (grid(300, 200), True), (grid(300, 201), False), (grid(300, 200, west=752008.0), False),
        (grid(300, 200, pixel=16.0), False), (grid(300, 200, west=752000.5), False),
    ],
)  # fmt: skip
def test_a_product_lies_on_the_study_grid_or_not(other, fits):
    found = bands.on_grid(named("red"), other, "s")
    assert found.outcome == ("pass" if fits else "fail")
    assert fits or "300 x 200 px of 8" in found.note


@pytest.mark.parametrize("seed", range(4))
def test_the_valid_share_is_that_of_the_pixels_in_the_area(seed):
    """Missing in one band is missing; what lies off the raster is missing, too."""
    rng = np.random.default_rng(seed)
    pixels = noise((2, 200, 300), seed=seed)
    pixels[0][rng.random((200, 300)) < 0.1] = 0
    pixels[1][:, rng.integers(100, 290) :] = 0
    col, row, cols, rows = (int(value) for value in rng.integers((-60, -40, 80, 60), (200, 120, 200, 150)))
    found = coverage.valid_share(Memory(pixels, PLACE, 0), on_ground(col, row, cols, rows), 90, "s")
    padded = np.zeros((2, 600, 700), pixels.dtype)
    padded[:, 200:400, 200:500] = pixels
    inside = padded[:, 200 + row : 200 + row + rows, 200 + col : 200 + col + cols]
    expected = 100 * (inside != 0).all(axis=0).mean()
    assert found.value == pytest.approx(expected, abs=0.15)
    assert found.outcome == ("pass" if found.value >= 90 else "fail")


def test_nan_is_missing_and_an_area_elsewhere_has_nothing():
    pixels = noise((1, 200, 300), "float32")
    pixels[0, :100] = np.nan
    half = coverage.valid_share(Memory(pixels, PLACE, float("nan")), on_ground(0, 0, 300, 200), 50.5, "s")
    assert half.value == pytest.approx(50, abs=0.1) and half.outcome == "fail" and "50.0 % of the area" in half.note
    away = coverage.valid_share(Memory(pixels, PLACE, float("nan")), on_ground(2000, 0, 50, 50), 1, "s")
    assert (away.value, away.outcome) == (0, "fail")


@pytest.mark.parametrize("seed", range(3))
def test_the_cloud_share_counts_what_was_seen(seed):
    """The second layer fills the gaps of the first; what neither saw is no ground for a judgement."""
    rng = np.random.default_rng(seed)
    first, second = (rng.integers(0, 6, (1, 200, 300)).astype(np.uint8) for _ in range(2))
    first[:, 40:160] = 0
    second[:, 120:] = 0
    layers = [Memory(first, PLACE, 0), Memory(second, PLACE, 0)]
    limit = (20, 39, 60)[seed]
    found = coverage.cloud_share(layers, CLASSES, on_ground(0, 0, 300, 200), limit, "s")
    merged = np.where(first == 0, second, first)
    seen = merged != 0
    expected = 100 * np.isin(merged, (4, 5))[seen].mean()
    assert found.value == pytest.approx(expected, abs=0.1)
    assert found.outcome == ("pass" if limit == 60 else "fail")
    assert found.note == (
        "" if limit == 60 else f"Cloud hides {found.value:.1f} % of the area. Pick a clearer scene."
    )


def test_nothing_seen_is_no_clear_sky():
    empty = Memory(np.zeros((1, 200, 300), np.uint8), PLACE, 0)
    found = coverage.cloud_share([empty], CLASSES, on_ground(10, 10, 50, 50), 100, "s")
    assert (found.outcome, found.figure) == ("fail", "nothing seen")


def test_class_tables_are_read_by_the_words_in_their_names():
    names = {
        0: "no_data",
        1: "clear_land",
        2: "water",
        3: "cloud_shadow",
        4: "thin_cirrus",
        5: "thick_cloud",
        6: "ice",
    }
    told = [{"value": code, "name": name} for code, name in names.items()]
    table = ClassTable.from_stac([*told, {"name": "lost"}, {"value": "7", "name": "cloud"}])
    assert (table.fill, table.clear, table.shadow) == ({0}, {1, 2}, {3})
    assert (table.cloud, table.snow) == ({4, 5}, {6})


def test_every_block_of_every_level_is_decoded(tmp_path):
    path = tmp_path / "a.tif"
    write_geotiff(Memory(noise((2, 700, 900)), grid(900, 700), 0), path)
    good = files.blocks_decode(path, "a")
    assert good.outcome == "pass" and good.figure == f"{good.value:.0f} of {good.value:.0f}"
    # Two bands: 4 blocks of the full resolution, one of the only overview.
    assert good.value == 2 * (4 + 1)
    data = bytearray(path.read_bytes())
    data[len(data) // 2 : len(data) // 2 + 200] = bytes(200)
    path.write_bytes(data)
    bad = files.blocks_decode(path, "a")
    assert bad.outcome == "fail" and bad.value < good.value and "does not decode" in bad.note
    (tmp_path / "b.tif").write_text("no image")
    assert files.blocks_decode(tmp_path / "b.tif", "b").figure == "not readable"


def test_checksums_by_both_functions(tmp_path):
    path = foreign_tiff(tmp_path / "a.tif", noise((1, 20, 30)), grid(30, 20))
    data = path.read_bytes()
    sha256, blake = "1220" + hashlib.sha256(data).hexdigest(), "1e20" + blake3.blake3(data).hexdigest()
    for digest in (sha256, blake):
        assert files.checksum_matches(path, digest, "a", "record").outcome == "pass"
        wrong = files.checksum_matches(path, digest[:-1] + ("0" if digest[-1] != "0" else "1"), "a", "record")
        assert wrong.outcome == "fail" and "is not what its record says" in wrong.note
    unknown = files.checksum_matches(path, "1114" + "0" * 40, "a", "record")
    assert unknown.outcome == "warn" and "not known here" in unknown.note
    assert files.checksum_matches(tmp_path / "no.tif", sha256, "a", "record").figure == "no file"


def test_findings_are_summed_up_by_the_worst():
    good = judged("c", "s", True, "1", "1", "never shown")
    bad, odd = judged("c", "s", False, "0", "1", "why"), Finding("c", "s", "warn", "?", "1")
    assert (good.note, bad.note) == ("", "why")
    assert [worst(found) for found in ([], [good], [good, odd], [bad, odd, good])] == ["pass", "pass", "warn", "fail"]
    assert bad.to_json() == {"check": "c", "subject": "s", "outcome": "fail", "figure": "0", "limit": "1",
                             "note": "why", "value": None}  # fmt: skip


def test_a_window_off_the_raster_is_never_counted_twice():
    """An area that reaches over the edge gives the same figure, however it is cut into windows."""
    pixels = np.ones((1, 200, 300), np.uint16)
    area = on_ground(-100, -100, 600, 500)
    whole = coverage.valid_share(Memory(pixels, PLACE, 0), area, 0, "s").value
    assert whole == pytest.approx(100 * 200 * 300 / (600 * 500), abs=0.1)
    part = PLACE.part(Window(0, 0, 150, 200))
    half = coverage.valid_share(Memory(pixels[:, :, :150], part, 0), area, 0, "s").value
    assert half == pytest.approx(whole / 2, abs=0.1)
