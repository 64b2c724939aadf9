"""Each check of a verification by itself, its figure held against an independent count."""

from __future__ import annotations

import hashlib
import json
from xml.etree import ElementTree

import blake3
import numpy as np
import pytest
import shapely
import tifffile
import urllib3

from helpers import Memory, foreign_tiff, grid, item_of, noise
from zoompick.files import multihash
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import project
from zoompick.given import LIMIT_WORDS
from zoompick.judge import registry, tell
from zoompick.judge.checks import bands, files
from zoompick.judge.checks.cloud import cloud_share
from zoompick.judge.gauges import gauges_for
from zoompick.judge.limits import Limits
from zoompick.judge.subject import Subject
from zoompick.judge.sweep import sweep
from zoompick.products.kinds.table import traits_of
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band
from zoompick.raster.write import write_geotiff
from zoompick.scenes.finding import Finding, Seen, judged, not_judged, worst
from zoompick.sensors.classes import ClassTable

PLACE = grid(300, 200)
CLASSES = ClassTable(fill=frozenset({0}), clear=frozenset({1, 2}), shadow=frozenset({3}), cloud=frozenset({4, 5}))


def on_ground(col: float, row: float, cols: float, rows: float, place: Grid = PLACE) -> shapely.Geometry:
    """A rectangle of pixels as an area in longitude/latitude, with corners enough to stay straight."""
    west, north = place.west + col * place.pixel_x, place.north - row * place.pixel_y
    box = shapely.box(west, north - rows * place.pixel_y, west + cols * place.pixel_x, north)
    return project(shapely.segmentize(box, place.pixel_x * 10), LONLAT, place.crs)


def found_by(check: str, raster, **known) -> Finding:
    """The one finding of a check."""
    limits = Limits(**{key: known.pop(key) for key in list(known) if key in ("valid", "cloud", "hole")})
    [found] = registry.judge(Subject("s", raster, limits=limits, **known), {check})
    return found


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
    found = found_by("order", named(*have), bands=want)
    assert (found.outcome, found.figure) == (outcome, figure) and said in found.note


def test_a_band_that_was_never_published_is_named():
    found = bands.published(("red", "green"), ("red", "nir", "swir16"), "s")
    assert (found.outcome, found.figure, found.value) == ("fail", "1 of 3", 1)
    assert "without nir and swir16. No other scene of its collection here has them" in found.note
    assert "pick one of those" in bands.published(("red",), ("red", "nir"), "s", {"nir"}).note
    assert bands.published(("red", "nir"), ("nir",), "s").outcome == "pass"


def test_a_file_without_a_place_is_judged_as_far_as_that_goes(tmp_path, program):
    rng = np.random.default_rng(1)
    tifffile.imwrite(tmp_path / "bare.tif", rng.integers(100, 3000, (300, 300), np.uint16))
    tifffile.imwrite(tmp_path / "waves.tif", (rng.random((90, 90)) + 1j).astype("complex64"))
    told = program("verify", "bare.tif", "--json", cwd=tmp_path)
    rows = {row["check"]: row for row in told.json["findings"]}
    assert told.code == 0 and rows["on the globe"]["outcome"] == "not judged", told.err
    assert {rows[name]["outcome"] for name in ("blocks decode", "dead lines", "bands vary")} == {"pass"}
    assert program("stack", "bare.tif", "--out", "s", cwd=tmp_path).code != 0, "what lies nowhere makes no product"
    waves = program("verify", "waves.tif", "--json", cwd=tmp_path)
    [row] = waves.json["findings"]
    assert waves.code == 5 and row["outcome"] == "not judged" and "complex numbers are not" in row["note"]


def test_a_window_whose_record_is_gone_is_not_called_damaged(archive, tmp_path, program):
    item = item_of(archive)
    (tmp_path / "item.json").write_text(json.dumps(item))
    asset = item["assets"]["red"]
    whole = urllib3.request("GET", asset["href"]).data
    path = tmp_path / asset["href"].rpartition("/")[2]
    path.write_bytes(whole)
    asset["file:checksum"] = multihash(hashlib.sha256(whole).hexdigest())
    asset["file:size"] = len(whole)
    (tmp_path / "item.json").write_text(json.dumps(item))
    words = ("verify", path.name, "--checks", "checksum,blocks", "--json")
    assert [row["outcome"] for row in program(*words, cwd=tmp_path).json["findings"]] == ["pass", "pass"]
    raster = open_raster(path)
    part = Window(10, 10, 200, 150)
    made = Memory(raster.read(part), raster.grid.part(part), raster.nodata, raster.bands)
    path.unlink()
    write_geotiff(made, path)
    [digest] = [row for row in program(*words, cwd=tmp_path).json["findings"] if row["key"] == "checksum"]
    assert digest["outcome"] == "not judged" and "may be a window" in digest["note"]
    path.write_bytes(whole[: len(whole) // 2])
    broken = program(*words, cwd=tmp_path)
    assert broken.code == 1 and "fail" in {row["outcome"] for row in broken.json["findings"]}


@pytest.mark.parametrize("nodata", [float("nan"), -9999.0, None])
def test_a_single_infinity_is_told(nodata):
    pixels = noise((1, 200, 300), "float32", 0.1, 0.4)
    raster = Memory(pixels, PLACE, nodata, (Band("red"),))
    assert found_by("leaks", raster).outcome == "pass"
    pixels[0, 7, 9] = -np.inf
    found = found_by("leaks", Memory(pixels, PLACE, nodata, (Band("red"),)))
    assert found.outcome == "fail" and "has the value -inf" in found.note


def test_one_pixel_makes_bands_distinct():
    pixels = noise((3, 200, 300))
    pixels[2] = pixels[0]
    twins = found_by("distinct", Memory(pixels, PLACE, 0, (Band("red"), Band("green"), Band("nir"))))
    assert twins.outcome == "fail" and twins.note.startswith("red and nir hold the same pixels.") and twins.value == 2
    pixels[2, 199, 299] += 1
    assert found_by("distinct", Memory(pixels, PLACE, 0)).outcome == "pass"
    shades = np.repeat(noise((1, 200, 300)) // 300 + 1, 3, axis=0).astype(np.uint8)
    grey = found_by("distinct", Memory(shades, PLACE, 0, (Band("red"), Band("green"), Band("blue"))))
    assert grey.outcome == "not judged" and "grey picture" in grey.note


@pytest.mark.parametrize(
    ("other", "fits"),
    [
        (grid(300, 200), True), (grid(300, 201), False), (grid(300, 200, west=752008.0), False),
        (grid(300, 200, pixel=16.0), False), (grid(300, 200, west=752000.5), False),
    ],
)  # fmt: skip
def test_a_product_lies_on_the_study_grid_or_not(other, fits):
    found = found_by("grid", named("red"), grid=other)
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
    found = found_by("valid", Memory(pixels, PLACE, 0), area=on_ground(col, row, cols, rows), valid=90)
    padded = np.zeros((2, 600, 700), pixels.dtype)
    padded[:, 200:400, 200:500] = pixels
    inside = padded[:, 200 + row : 200 + row + rows, 200 + col : 200 + col + cols]
    expected = 100 * (inside != 0).all(axis=0).mean()
    assert found.value == pytest.approx(expected, abs=0.15)
    assert found.outcome == ("pass" if found.value >= 90 else "fail")


def test_nan_is_missing_and_an_area_elsewhere_has_nothing():
    pixels = noise((1, 200, 300), "float32")
    pixels[0, :100] = np.nan
    half = found_by("valid", Memory(pixels, PLACE, float("nan")), area=on_ground(0, 0, 300, 200), valid=50.5)
    assert half.value == pytest.approx(50, abs=0.1) and half.outcome == "fail" and "50.0 % of the area" in half.note
    away = found_by("valid", Memory(pixels, PLACE, float("nan")), area=on_ground(2000, 0, 50, 50), valid=1)
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
    told = {"told_percent": 90.0} if seed else {}
    found, *differs = cloud_share(
        [(one, CLASSES) for one in layers], on_ground(0, 0, 300, 200), Limits(cloud=limit), "s", **told
    )
    assert [one.outcome for one in differs] == (["warn"] if seed else [])
    merged = np.where(first == 0, second, first)
    seen = merged != 0
    expected = 100 * np.isin(merged, (4, 5))[seen].mean()
    assert found.value == pytest.approx(expected, abs=0.1)
    assert found.data["shadow_percent"] == pytest.approx(100 * (merged == 3)[seen].mean(), abs=0.1)
    assert found.outcome == ("pass" if limit == 60 else "fail")
    assert found.note == (
        "" if limit == 60 else f"Cloud hides {found.value:.1f} % of what was seen of the area. Pick a clearer scene."
    )


def test_nothing_seen_is_no_clear_sky():
    empty = Memory(np.zeros((1, 200, 300), np.uint8), PLACE, 0)
    [found] = cloud_share([(empty, CLASSES)], on_ground(10, 10, 50, 50), Limits(cloud=100), "s")
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
    good = found_by("blocks", open_raster(path))
    assert good.outcome == "pass" and good.figure == f"{good.value:.0f} of {good.value:.0f}"
    # Two bands: 4 blocks of the full resolution, one of the only overview.
    assert good.value == 2 * (4 + 1)
    data = bytearray(path.read_bytes())
    data[len(data) // 2 : len(data) // 2 + 200] = bytes(200)
    path.write_bytes(data)
    bad = found_by("blocks", open_raster(path))
    assert bad.outcome == "fail" and bad.value < good.value and "does not decode" in bad.note


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
    blind = not_judged("c", "s", "too little of it", "1", Seen("px", 2480, 992_016))
    assert (blind.figure, blind.note) == ("only 2480 px, 0.25 %", "too little of it")
    assert [worst(found) for found in ([], [blind], [good, blind], [good, odd, blind], [bad, odd, good])] == [
        "not judged", "not judged", "pass", "warn", "fail"
    ]  # fmt: skip
    assert all(Finding.from_json(json.loads(json.dumps(one.to_json()))) == one for one in (good, bad, odd, blind))
    assert bad.to_json() == {"check": "c", "subject": "s", "outcome": "fail", "figure": "0", "limit": "1",
                             "note": "why", "value": None, "key": "", "data": {}, "seen": None}  # fmt: skip


def test_a_window_off_the_raster_is_never_counted_twice():
    """An area that reaches over the edge gives the same figure, however it is cut into windows."""
    pixels = np.ones((1, 200, 300), np.uint16)
    area = on_ground(-100, -100, 600, 500)
    whole = found_by("valid", Memory(pixels, PLACE, 0), area=area, valid=0).value
    assert whole == pytest.approx(100 * 200 * 300 / (600 * 500), abs=0.1)
    part = PLACE.part(Window(0, 0, 150, 200))
    half = found_by("valid", Memory(pixels[:, :, :150], part, 0), area=area, valid=0).value
    assert half == pytest.approx(whole / 2, abs=0.1)


def _parts(length: int, every: int, count: int) -> list[np.ndarray]:
    """Places of one pixel in ``every`` of a line, by the part of the line in which they lie."""
    which = np.arange(0, length, every) * count // length
    return [np.flatnonzero(which == part) for part in range(count)]


@pytest.mark.parametrize(
    ("dtype", "nodata"), [("uint16", 0), ("int16", -32768), ("float32", float("nan")), ("uint8", None)]
)
@pytest.mark.parametrize("block", [(64, 64), (512, 512), (7, 300)])
def test_what_one_pass_counts_is_what_is_there(dtype, nodata, block):
    """Counts, extremes, sampled pixels, lines and gaps, however the raster is cut, against plain arrays."""
    rng = np.random.default_rng(3)
    pixels = noise((3, 200, 300), dtype, 1, 250)
    pixels[1][rng.random((200, 300)) < 0.05] = np.iinfo(dtype).max if dtype != "float32" else -9999
    if nodata is not None:
        pixels[:, 30:60, 40:90] = nodata
        pixels[2][rng.random((200, 300)) < 0.2] = nodata
    raster = Memory(pixels, PLACE, nodata, tuple(Band(f"b{n}", 0.1, -2.0) for n in range(3)), block)
    area = PolygonMask(shapely.box(752100, 5719000, 753500, 5719900), PLACE)
    totals = sweep(raster, gauges_for(raster, area)).totals
    there = (
        np.isfinite(pixels) if dtype == "float32" else pixels != nodata if nodata is not None else pixels == pixels
    )
    for place, band in enumerate(pixels):
        values = band[there[place]].astype(float)
        tally = totals["tally"]
        assert (tally.count[place], tally.low[place], tally.high[place]) == (values.size, values.min(), values.max())
        assert tally.negative[place] == (values < 19.9).sum()
        top = (values == np.iinfo(dtype).max).sum() if dtype != "float32" else 0
        assert tally.top[place] == top
        lines = totals["lines"].rows[:, place]
        every = min(8, min(band.shape) // 64)
        thin, seen = band[:, ::every].astype(float), there[place][:, ::every]
        if block[1] % 8 == 0:
            for part_of, part in enumerate(_parts(band.shape[1], every, 8)):
                own = np.where(seen, thin, 0)[:, part]
                np.testing.assert_allclose(lines[part_of], own.sum(axis=1))
                np.testing.assert_array_equal(lines[8 + part_of], seen[:, part].sum(axis=1))
    step = totals["sample"].step
    np.testing.assert_array_equal(totals["sample"].pixels, pixels[:, ::step, ::step])
    cells = totals["gaps"]
    assert cells.missing.sum() == (~there.all(axis=0)).sum() and cells.cell == 1
    wanted = area.read(PLACE.window)
    expected = [*((band & wanted).sum() for band in there), (there.all(axis=0) & wanted).sum()]
    np.testing.assert_array_equal(totals["inside"].counts, expected)
    for window, tile in zip(totals["tiles"].windows, totals["tiles"].pixels, strict=True):
        np.testing.assert_array_equal(tile, raster.read(window))


def test_holes_are_outlined_where_they_are_and_as_large_as_they_are():
    pixels = noise((2, 200, 300))
    pixels[0, 20:60, 30:80] = 0
    pixels[:, 100:110, 200:260] = 0
    found = found_by("holes", Memory(pixels, PLACE, 0), area=on_ground(0, 0, 300, 200))
    sizes = [hole["size_km2"] for hole in found.data["holes"]]
    assert sizes == pytest.approx([40 * 50 * 64e-6, 10 * 60 * 64e-6], rel=1e-3)
    wanted = on_ground(30, 20, 50, 40)
    shape = shapely.from_geojson(json.dumps(found.data["holes"][0]["outline"]))
    assert shape.intersection(wanted).area / shape.union(wanted).area > 0.995
    assert found.value == pytest.approx(100 * 40 * 50 / 60000, rel=1e-2)


def test_a_seam_is_told_by_its_step():
    numbers = np.ones((1, 200, 300), np.uint8)
    numbers[:, :, 150:] = 2
    pixels = np.full((2, 200, 300), 2000, np.uint16) + np.random.default_rng(1).integers(0, 9, (2, 200, 300)).astype(
        "uint16"
    )
    bands = (Band("red", 0.0001), Band("nir", 0.0001))
    known = {"traits": traits_of("mosaic"), "scene_layer": Memory(numbers, PLACE, 0)}
    assert found_by("seams", Memory(pixels, PLACE, 0, bands), **known).outcome == "pass"
    pixels[:, :, 150:] += 120
    found = found_by("seams", Memory(pixels, PLACE, 0, bands), **known)
    assert found.outcome == "warn" and found.data["seams"][0]["step"] == pytest.approx(0.012, rel=0.05)


def test_nothing_is_said_where_there_is_no_evidence():
    flat = np.full((2, 200, 300), 2000, np.uint16)
    apart = Memory(noise((2, 200, 300)), PLACE, 0, (Band("red", 0.0001), Band("nir", 0.0001)))
    for raster in (Memory(flat, PLACE, 0, apart.bands), apart):
        found = found_by("bands-shift", raster)
        assert found.outcome == "not judged" and found.note


def test_limits_of_a_brief_are_those_of_the_checks():
    named = {check.limit for check in registry.CHECKS} - {""}
    assert {"valid", "cloud", *LIMIT_WORDS} == set(Limits.__dataclass_fields__) >= named
    for check in registry.explained("all"):
        told = registry.facts(check)
        assert (
            told["needs"] and told["measures"] and told["cannot see"] and registry.of_title(check.title) == check.name
        )


def test_findings_as_junit_and_in_a_versioned_shape(tmp_path):
    rows = [judged("c", "a.tif", True, "1", "1", ""), judged("d & <e>", "a.tif", False, "0", "1", "why\x07"),
            Finding("f", "b.tif", "warn", "?", "1", "odd"),
            not_judged("g", "b.tif", "nobody looked", "1")]  # fmt: skip
    for strict, failures in ((False, 1), (True, 2)):
        tree = ElementTree.fromstring(tell.junit_xml(rows, strict).encode())
        assert (tree.get("tests"), tree.get("failures")) == ("4", str(failures))
        assert [len(suite) for suite in tree] == [2, 2] and tree.get("skipped") == "1"
        assert "nobody looked" in tree[1][1][0].get("message") and tree[1][1][0].tag == "skipped"
        assert tree[0][1].get("name") == "d & <e>" and "why" in tree[0][1][0].get("message")
    told = tell.findings_json(rows)
    assert (told["shape"], told["outcome"], told["counts"]) == (
        2, "fail", {"pass": 1, "not judged": 1, "warn": 1, "fail": 1}
    )  # fmt: skip


def test_verify_on_the_command_line(tmp_path, program):
    pixels = noise((2, 200, 300))
    pixels[:, 20:90, 30:100] = 0
    bands = (Band("red", 0.0001), Band("nir", 0.0001))
    write_geotiff(Memory(pixels, PLACE, 0, bands), tmp_path / "a.tif")
    pixels[0] = (pixels[0] * 1.2).round()
    write_geotiff(Memory(pixels, PLACE, 0, bands), tmp_path / "b.tif")
    box = [str(round(edge, 5)) for edge in shapely.bounds(on_ground(0, 0, 300, 200))]
    limits = ("--threshold", "bias=2", "--threshold", "hole=3")
    words = ("verify", "a.tif", "--reference", "b.tif", "--box", *box, *limits)
    done = program(*words, "--valid", "80", "--junit", "j.xml", "--holes", "h.json", "--pictures", "p", cwd=tmp_path)
    assert done.code == 1 and "as the reference" in done.out and "red is -" in done.out, done.out + done.err
    assert int(ElementTree.parse(tmp_path / "j.xml").getroot().get("failures")) == 1
    assert len(json.loads((tmp_path / "h.json").read_text())["features"]) == 1
    assert [path.name for path in (tmp_path / "p").iterdir()] == ["a.tif-reference.png"]
    again = program("verify", "a.tif", "--junit", "j.xml", cwd=tmp_path)
    assert again.code == 2 and "exists already" in again.err
    words = ("verify", "a.tif", "--checks", "place", "--box", *box, "--valid", "80", "--threshold", "hole=3")
    strict = program(*words, "--strict", "--json", cwd=tmp_path)
    assert strict.code == 1 and {row["key"] for row in strict.json["findings"]} == {"valid", "holes"}
    assert program("verify", "a.tif", "--checks", "spektra", cwd=tmp_path).err.count("spectra")
    limits = [("--threshold", "shift=3"), ("--threshold", "bias=x")]
    for words in (*limits, ("--reference", "no.tif"), ("--explain", "seam")):
        assert program("verify", "a.tif", *words, cwd=tmp_path).code == 2, words
    assert (
        "Prim" in program("verify", "--explain", "seams").out
        or "scene layer" in program("verify", "--explain", "seams").out
    )
    listed = program("verify", "--explain", "all", "--json").json["checks"]
    assert len(listed) > 30 and all(row["measures"] for row in listed)
