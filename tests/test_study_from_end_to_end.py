"""The built program carries studies the whole way, against the running archive."""

from __future__ import annotations

import json
import multiprocessing
import os
import re
import shutil
from concurrent.futures import ProcessPoolExecutor
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path

import imagecodecs
import jsonschema
import numpy as np
import pytest
import tifffile

from zoompick.products.how import Making
from zoompick.products.maker import make
from zoompick.raster import engine
from zoompick.standin import passes
from zoompick.standin.passes import Scene
from zoompick.study.folder import Study
from zoompick.study.plan import plan_study
from zoompick.study.shortlist import shortlist
from zoompick.study.verify import verify_study

SCHEMA = json.loads((Path(__file__).parent / "data" / "stac-item.schema.json").read_text())
BANDS = ["blue", "green", "red", "rededge", "nir", "swir16"]


@pytest.fixture(scope="module")
def _kept(tmp_path_factory):
    return tmp_path_factory.mktemp("kept")


@pytest.fixture
def done(_kept, study, program):
    """A finished study, made once by ``run`` and copied for each test."""
    first = _kept / "study"
    if not first.exists():
        result = program("run", "--json", cwd=study)
        assert result.code == 0, result.err
        (study / "run.json").write_text(result.out)
        shutil.copytree(study, first)
    shutil.rmtree(study)
    shutil.copytree(first, study)
    return study


def product(study: Path, name: str) -> Path:
    [path] = study.glob(f"products/*/{name}")
    return path


def test_run_makes_every_product_on_one_grid(done):
    told = json.loads((done / "run.json").read_text())
    assert told["searched"]
    assert {Path(entry["path"]).name for entry in told["products"]} == {
        "stack.tif", "clip.tif", "natural.tif", "infrared.tif", "ndvi.tif", "ndwi.tif",
    }  # fmt: skip
    assert all(finding["outcome"] == "pass" for finding in told["findings"])
    places = set()
    for entry in told["products"]:
        with tifffile.TiffFile(entry["path"]) as tiff:
            tags = tiff.pages[0].tags
            places.add((tags[33550].value, tags[33922].value, tiff.pages[0].imagewidth, tiff.pages[0].imagelength))
    assert len(places) == 1
    scale, tie, *_ = places.pop()
    assert scale[:2] == (8, 8)
    assert tie[3] % 8 == tie[4] % 8 == 0


def scene_arrays(study: Path, band: str) -> dict[Path, tuple[np.ndarray, float, float]]:
    """A band of each downloaded scene with the corner of its first pixel, read by another library."""
    found = {}
    for path in study.glob(f"scenes/*/*/*/*-{band}.tif"):
        with tifffile.TiffFile(path) as tiff:
            page = tiff.pages[0]
            found[path] = page.asarray(), page.tags[33922].value[3], page.tags[33922].value[4]
    return found


def test_stack_holds_the_scenes_own_values_where_they_lie(done):
    path = product(done, "stack.tif")
    with tifffile.TiffFile(path) as tiff:
        page = tiff.pages[0]
        red = page.asarray()[BANDS.index("red")]
        west, north = page.tags[33922].value[3:5]
    expected = np.zeros_like(red)
    rows, cols = np.mgrid[: red.shape[0], : red.shape[1]]
    for pixels, scene_west, scene_north in scene_arrays(done, "red").values():
        row, col = rows + round((scene_north - north) / 8), cols + round((west - scene_west) / 8)
        inside = (row >= 0) & (row < 1024) & (col >= 0) & (col < 1024) & (expected == 0)
        expected[inside] = pixels[row[inside], col[inside]]
    assert (red == expected).mean() > 0.9
    assert np.abs(red.astype(int) - expected).max() < 300
    assert (red > 0).all()


def test_index_is_computed_from_reflectance(done):
    with tifffile.TiffFile(product(done, "clip.tif")) as tiff:
        stored = tiff.pages[0].asarray().astype(float)
    reflectance = np.where(stored > 0, stored * 0.0001 - 0.1, np.nan)
    nir, red = reflectance[BANDS.index("nir")], reflectance[BANDS.index("red")]
    with tifffile.TiffFile(product(done, "ndvi.tif")) as tiff:
        np.testing.assert_allclose(tiff.pages[0].asarray(), (nir - red) / (nir + red), atol=1e-5)


def test_composite_is_stretched_between_the_percentiles_of_the_area(done, program, tmp_path):
    words = (str(product(done, "clip.tif")), "--area", str(done / "area.geojson"), "--out", "own.tif")
    assert program("composite", *words, cwd=tmp_path).code == 0
    with tifffile.TiffFile(product(done, "clip.tif")) as tiff:
        stored = tiff.pages[0].asarray()[[BANDS.index(name) for name in ("red", "green", "blue")]].astype(float)
    ends = [np.percentile(band[band > 0], (0.5, 99.7), method="nearest") for band in stored]
    shares = [np.clip((band - low) / (high - low), 0, 1) for band, (low, high) in zip(stored, ends, strict=True)]
    shades = np.rint(1 + 254 * np.array(shares) ** (1 / 1.8))
    vivid = np.clip(np.rint(shades.mean(axis=0) + 1.2 * (shades - shades.mean(axis=0))), 1, 255)
    expected = np.where((stored > 0).all(axis=0), vivid, 0)
    with tifffile.TiffFile(tmp_path / "own.tif") as tiff:
        picture = tiff.pages[0].asarray()
    assert np.abs(picture.transpose(2, 0, 1) - expected).max() <= 1
    assert (picture.transpose(2, 0, 1) == expected).mean() > 0.9
    png = imagecodecs.png_decode((tmp_path / "own.png").read_bytes())
    np.testing.assert_array_equal(png[:, :, :3], picture)
    told = json.loads(product(done, "natural.tif.stac.json").read_text())["properties"]["zoompick:curves"]
    for row, (low, high) in zip(told, ends, strict=True):
        # Of the study's picture clouds and shadows tell nothing: its bright end is no brighter.
        first, last = ((value + 0.1) / 0.0001 for value in (row["values"][0], row["values"][-1]))
        assert low - 1 <= first < last <= high + 1
    assert len(product(done, "natural.pgw").read_text().splitlines()) == 6


def test_sidecars_are_valid_items_that_tell_how_it_was_made(done):
    for path in done.glob("products/*/*.json"):
        item = json.loads(path.read_text())
        jsonschema.Draft202012Validator(SCHEMA).validate(item)
        [step] = item["properties"]["zoompick:steps"]
        assert step["step"] in item["properties"]["processing:lineage"]
        for link in item["links"]:
            assert (path.parent / link["href"]).is_file()
            assert not Path(link["href"]).is_absolute()
    clip = json.loads(product(done, "clip.tif.stac.json").read_text())
    assert [band["name"] for band in clip["assets"]["data"]["bands"]] == BANDS
    assert clip["properties"]["datetime"].startswith("2025-12-")


def test_journal_has_a_line_for_every_act(done):
    acts = [json.loads(line)["act"] for line in (done / "journal.jsonl").read_text().splitlines()]
    assert acts[:4] == ["new", "source add", "search", "download"]
    assert acts[4:] == ["stack", "clip", "composite", "composite", "index", "index", "verify"]


def test_a_second_run_does_nothing_again_even_without_the_archive(done, program):
    (done / "sources.json").unlink()
    before = {path: path.stat().st_mtime_ns for path in done.rglob("*.tif")}
    again = program("run", "--json", cwd=done)
    assert again.code == 0, again.err
    told = again.json
    assert not told["searched"]
    assert told["fetched"] == {"files": 0, "bytes": 0}
    assert all(entry["was_current"] for entry in told["products"])
    assert before == {path: path.stat().st_mtime_ns for path in done.rglob("*.tif")}


def test_size_and_time_stamp_vouch_for_a_product_until_somebody_asks(done, program):
    program("run", cwd=done)
    path, acts = product(done, "ndvi.tif"), len((done / "journal.jsonl").read_text().splitlines())
    stamp, data = path.stat().st_mtime_ns, bytearray(path.read_bytes())
    data[-100:] = bytes(100)
    path.write_bytes(data)
    os.utime(path, ns=(stamp, stamp))
    trusting = program("run", "--json", cwd=done).json
    assert all(entry["was_current"] for entry in trusting["products"]) and not trusting["judged"]
    # What did nothing is no act.
    assert len((done / "journal.jsonl").read_text().splitlines()) == acts
    asked = program("verify", "--json", cwd=done)
    assert asked.code == 1 and asked.json["outcome"] == "fail"
    os.utime(path, ns=(stamp + 1, stamp + 1))
    mended = program("run", "--json", cwd=done).json
    assert [Path(e["path"]).name for e in mended["products"] if not e["was_current"]] == ["ndvi.tif"]
    assert mended["judged"] and all(finding["outcome"] == "pass" for finding in mended["findings"])
    (done / "area.geojson").write_text((done / "area.geojson").read_text() + "\n")
    assert program("run", "--json", cwd=done).json["judged"]


def test_products_and_findings_are_the_same_on_processes_and_on_few_or_many_threads(done, tmp_path, monkeypatch):
    study = Study(done)
    brief, area = study.brief(), study.area()
    plan = plan_study(study, brief, area, [entry.scene for entry in shortlist(study)])
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(2, mp_context=context) as pool:
        for name, workers, executor in (("one", "1", None), ("five", "5", None), ("far", "2", pool)):
            monkeypatch.setenv("ZOOMPICK_WORKERS", workers)
            for step in plan.steps:
                again = replace(step, output=tmp_path / name / step.output.name)
                with engine.computed_on(executor) if executor else nullcontext():
                    make(again, Making())
                assert again.output.read_bytes() == step.output.read_bytes(), (name, step.output.name)
        with engine.computed_on(pool):
            found = verify_study(study, brief, area, plan)
    assert [one.to_json() for one in found] == json.loads((done / "checks.json").read_text())["findings"]


def test_only_what_a_change_touches_is_made_again(done, program):
    brief = done / "study.toml"
    brief.write_text(brief.read_text().replace("stretch = [0.5, 99.7]", "stretch = [1, 99]"))
    told = program("run", "--json", cwd=done).json
    assert {entry["step"] for entry in told["products"] if not entry["was_current"]} == {"composite"}
    product(done, "ndvi.tif").write_bytes(b"broken")
    told = program("run", "--json", cwd=done).json
    assert [Path(entry["path"]).name for entry in told["products"] if not entry["was_current"]] == ["ndvi.tif"]


def test_verify_finds_what_was_damaged_since(done, program):
    damaged = product(done, "clip.tif")
    data = bytearray(damaged.read_bytes())
    data[-2000:-1000] = bytes(1000)
    damaged.write_bytes(data)
    [scene_file, *_] = sorted(done.glob("scenes/*/*/*/*-nir.tif"))
    scene_file.write_bytes(scene_file.read_bytes()[:-5000])
    result = program("verify", "--json", cwd=done)
    assert result.code == 1
    failed = {(f["check"], f["subject"].split("/")[-1]) for f in result.json["findings"] if f["outcome"] == "fail"}
    assert {check for check, subject in failed if subject == "clip.tif"} == {"blocks decode", "checksum (sidecar)"}
    assert {check for check, subject in failed if subject != "clip.tif"} == {"blocks decode", "checksums"}
    follows = {f["check"] for f in result.json["findings"] if "mend that first" in f["note"]}
    assert follows == {"as the brief says", "sources unchanged", "shades fit", "computed again"}
    assert json.loads((done / "checks.json").read_text())["findings"] == result.json["findings"]


def test_verify_judges_against_the_brief(done, program):
    brief = done / "study.toml"
    text = brief.read_text()
    brief.write_text(text.replace('["blue", "green", ', '["green", "blue", ').replace("pixel_m = 8", "pixel_m = 10"))
    failed = {f["check"] for f in program("verify", "--json", cwd=done).json["findings"] if f["outcome"] == "fail"}
    assert failed == {"on study grid", "bands in order", "as the brief says"}
    brief.write_text(text)
    area = json.loads((done / "area.geojson").read_text())
    area["geometry"]["coordinates"] = [
        [[-12.2, -38.65], [-12.0, -38.65], [-12.0, -38.55], [-12.2, -38.55], [-12.2, -38.65]]
    ]
    (done / "area.geojson").write_text(json.dumps(area))
    table = program("verify", cwd=done)
    assert table.code == 1
    assert "of the area has no valid pixel" in table.out
    assert max(map(len, table.out.splitlines()[:20])) <= 100


def test_steps_by_hand_give_the_same_products(done, program, tmp_path):
    found = program("search", "--cloud", "100", "--json", cwd=done)
    assert found.code == 0, found.err
    numbers = [n for n, item in enumerate(found.json["features"], 1) if "T11" in item["properties"]["datetime"]]
    assert len(numbers) > 5
    digests = {path.name: path.read_bytes() for path in done.glob("products/*/*.tif")}
    shutil.rmtree(done / "products")
    for command in ("stack", "clip", "composite", "index"):
        assert program(command, cwd=done).code == 0
    assert {path.name: path.read_bytes() for path in done.glob("products/*/*.tif")} == digests
    own = program("composite", "--bands", "swir16,nir,blue", "--stretch", "1,99", "--json", cwd=done)
    assert own.json[0]["bands"] == ["swir16", "nir", "blue"]


def test_plain_files_need_no_study(done, program, tmp_path):
    plain = tmp_path / "plain"
    plain.mkdir()
    scene = next(iter(done.glob("scenes/*/*/*9845*")))
    files = [
        shutil.copy(path, plain)
        for path in scene.glob("*.tif")
        if path.name.endswith(("-red.tif", "-nir.tif", "-swir16.tif"))
    ]
    made = program("stack", *files, "--bands", "nir,red,swir16", "--out", "three.tif", "--json", cwd=plain)
    assert made.code == 0, made.err
    assert (made.json[0]["bands"], made.json[0]["width"]) == (["nir", "red", "swir16"], 1024)
    assert program("stack", *files, "--bands", "red", "--out", "three.tif", cwd=plain).code == 2
    assert program("stack", *files, "--bands", "red", "--out", "three.tif", "--overwrite", cwd=plain).code == 0
    assert program("stack", *files, "--bands", "nir,red", "--pixel", "16", "--out", "coarse.tif", cwd=plain).code == 0
    assert (
        program("stack", *files, "--bands", "red", "--like", "coarse.tif", "--out", "like.tif", cwd=plain).code == 0
    )
    box = ["--box", "-12.06", "-38.6", "-12.05", "-38.59"]
    assert program("clip", "coarse.tif", *box, "--touch", cwd=plain).code == 0
    assert program("index", "coarse-clip.tif", "--recipe", "ndvi", cwd=plain).code == 0
    assert program("composite", "coarse.tif", "--bands", "nir,nir,red", cwd=plain).code == 2
    checked = program(
        "verify",
        "coarse-clip.tif",
        "coarse-clip-ndvi.tif",
        "--bands",
        "nir,red",
        *box,
        "--valid",
        "90",
        "--json",
        cwd=plain,
    )
    failed = [f for f in checked.json["findings"] if f["outcome"] == "fail"]
    assert [(f["check"], f["subject"]) for f in failed] == [("bands in order", "coarse-clip-ndvi.tif")]
    assert checked.code == 1


def test_scenes_go_through_a_pipe_without_a_study(program, archive, tmp_path):
    assert program("source", "add", "pipe", archive).code == 0
    found = program(
        "search",
        "--source",
        "pipe",
        "--box",
        "-12.06",
        "-38.6",
        "-12.05",
        "-38.59",
        "--dates",
        "2025-12-15",
        "--collection",
        "lapwing-l2",
        "--json",
    )
    assert found.code == 0, found.err
    dry = program("download", "-", "--bands", "red", "--dry-run", "--json", stdin=found.out)
    assert [(entry["state"], entry["band"]) for entry in dry.json["files"]] == [("fetch", "red")]
    assert not (tmp_path / "scenes").exists()
    first = program("download", "-", "--bands", "red,classes", "--to", "got", stdin=found.out)
    assert first.code == 0, first.err
    assert len(list((tmp_path / "got").rglob("*.tif"))) == 2
    again = program("download", "-", "--bands", "red,classes", "--to", "got", stdin=found.out)
    assert "nothing was fetched" in again.err
    [classes] = (tmp_path / "got").rglob("*-classes.tif")
    cloud = program("verify", classes, "--box", "-12.06", "-38.6", "-12.05", "-38.59", "--json")
    assert any(f["check"] == "cloud in area" and f["outcome"] == "pass" for f in cloud.json["findings"])


def test_search_table_and_shortlist(study, program):
    table = program("search", "--cloud", "60", cwd=study)
    assert table.code == 0, table.err
    assert "at most 60 % cloud" in table.err
    head = table.out.splitlines()[0].split()
    assert head == ["no.", "date", "time", "platform", "tile", "cloud", "%", "cover", "%", "size"]
    assert max(map(len, table.out.splitlines())) <= 100
    assert program("pick", "1", "3", cwd=study).code == 0
    listed = program("pick", "list", "--json", cwd=study).json["features"]
    assert len(listed) == 2
    assert program("pick", listed[0]["id"], cwd=study).code == 0
    assert program("pick", "drop", "1", cwd=study).code == 0
    assert [item["id"] for item in program("pick", "list", "--json", cwd=study).json["features"]] == [listed[1]["id"]]
    assert listed[1]["id"] in program("pick", cwd=study).out.replace("\n", "")


def study_of(scene: Scene, program, archive: str, folder: Path) -> Path:
    """A study in the middle of a scene's tile, with that scene picked."""
    middle = scene.tile.outline.centroid
    box = [middle.x - 0.006, middle.y - 0.004, middle.x + 0.006, middle.y + 0.004]
    day = scene.seen.when.strftime("%Y-%m-%d")
    made = program("new", folder, "--box", *map(str, box), "--source", "ostrell", "--collection", "lapwing-l2",
                   "--dates", day, "--cloud", "100")  # fmt: skip
    assert made.code == 0, made.err
    program("source", "add", "ostrell", archive, "--here", cwd=folder)
    assert program("search", cwd=folder).code == 0
    assert program("pick", scene.id, cwd=folder).code == 0
    return folder


def fault(name: str) -> Scene:
    return next(scene for scene in passes.scenes() if getattr(scene.fault, name))


def failures(program, study: Path) -> dict[str, str]:
    result = program("verify", "--json", cwd=study)
    assert result.code == 1
    return {
        f["check"]: f["note"] for f in result.json["findings"] if f["outcome"] == "fail" and f["check"] != "file here"
    }


def test_a_band_that_was_never_published_is_caught(program, archive, tmp_path):
    study = study_of(fault("missing"), program, archive, tmp_path / "s")
    got = program("download", cwd=study)
    assert got.code == 5
    assert "published without the band swir16" in got.err
    assert "published without swir16" in failures(program, study)["bands published"]
    stack = program("stack", cwd=study)
    assert stack.code == 2
    assert "There is no band called 'swir16'" in stack.err


def test_a_file_cut_short_is_caught(program, archive, tmp_path):
    study = study_of(fault("cut"), program, archive, tmp_path / "s")
    assert program("download", cwd=study).code == 0
    assert "cut short" in failures(program, study)["blocks decode"]
    stack = program("stack", cwd=study)
    assert (stack.code, "cut short" in stack.err) == (1, True)
    assert not list(study.glob("products/*/*"))


def test_a_wrong_checksum_is_caught(program, archive, tmp_path, shared_cache):
    scene = fault("wrong_digest")
    study = study_of(scene, program, archive, tmp_path / "s")
    got = program("download", cwd=study)
    assert got.code == 5
    assert "SHA-256" in got.err
    assert not list(study.rglob("*-red.tif"))
    assert "-red.tif" in failures(program, study)["files here"]
    assert program("run", cwd=study).code == 5
    [real] = shared_cache.rglob(f"{scene.id}-red.tif")
    shutil.copy(real, next(study.rglob("*-nir.tif")).parent)
    assert program("search", cwd=study).code == 0
    assert program("pick", scene.id, cwd=study).code == 0
    assert "not what its catalogue entry says" in failures(program, study)["checksums"]


def test_a_bad_network_changes_nothing_but_the_time(program, troubled, study):
    program("source", "add", "ostrell", troubled, "--here", cwd=study)
    attempts = 1
    while (result := program("run", "--json", cwd=study)).code != 0:
        assert result.code in (4, 5), result.err
        attempts += 1
        assert attempts < 4
    assert all(finding["outcome"] == "pass" for finding in result.json["findings"])


@pytest.mark.slow
def test_demo_tells_the_story(demo, program):
    study, result = demo
    assert result.code == 0, result.err
    assert "zoompick standin serve" in result.out
    products = study / "products"
    days = sorted(path.name for path in products.iterdir() if path.is_dir())
    assert len(days) == 2
    wet, water = [], []
    for day in days:
        with tifffile.TiffFile(products / day / "ndwi.tif") as tiff:
            ndwi = tiff.pages[0].asarray()
        # What clouds and their shadows hid is no change; the index knows nothing of them.
        seen = tifffile.imread(products / day / "ground.tif", key=0).any(axis=0)
        hidden = 1 - seen.sum() / np.isfinite(ndwi).sum()
        assert (0 < hidden < 0.1) if day == days[0] else hidden == 0, "the second summer is without cloud"
        ndwi[~seen] = np.nan
        wet.append(np.nanmean((ndwi > 0)[np.isfinite(ndwi)]))
        water.append(np.where(np.isfinite(ndwi), ndwi > 0, np.nan))
    assert wet[1] > wet[0] + 0.03
    hectares = np.nansum(water[1] - water[0]) * 64 / 1e4
    told = re.search(r"open water grew by (\d+) ha", result.out)
    assert told and float(told[1]) == pytest.approx(hectares, rel=0.01, abs=0.6)
    picture = imagecodecs.png_decode((products / "wetter.png").read_bytes())
    assert picture.shape[1] == 1280 and len(list(products.glob("clear*.tif"))) == 3
    border = study / "border"
    numbers, counts = np.unique(tifffile.imread(border / "mosaic-scenes.tif", key=0), return_counts=True)
    assert list(numbers) == [0, 1, 2, 3, 4] and counts[1:].min() > 0.1 * counts.sum()
    ids = {path.parent.name for path in border.glob("*/item.json")}
    assert {name.split("-")[3][:3] for name in ids} == {"28s", "29s"}
    again = program("demo", "fen", cwd=study.parent)
    assert again.code == 0 and "0 of 26 products made new" in " ".join(again.err.split())
