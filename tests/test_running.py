"""A run in parts, a run that fails in part, a run that trusts nothing, and the same run elsewhere."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest

from conftest import copied, knows
from zoompick.files import multihash_of


@pytest.fixture
def study(clean_study, tmp_path) -> Path:
    return copied(clean_study, tmp_path / "s")


@pytest.fixture
def bare(clean_study, archive, tmp_path) -> Path:
    """The same study before anything was fetched or made."""
    root = tmp_path / "bare"
    root.mkdir()
    for name in ("study.toml", "area.geojson", "shortlist.json"):
        shutil.copy2(clean_study / name, root / name)
    return knows(root, archive)


def products(root: Path) -> dict[str, str]:
    """Digest of each product that is no record."""
    return {path.relative_to(root).as_posix(): multihash_of(path) for path in sorted(root.glob("products/**/*"))
            if path.is_file() and not path.name.endswith(".json")}  # fmt: skip


def rewritten(path: Path, change) -> None:
    told = json.loads(path.read_text())
    change(told)
    path.write_text(json.dumps(told))


def test_a_run_in_stages(bare, program):
    at = {"cwd": bare}
    assert program("run", "--until", "download", **at).code == 0
    assert not products(bare) and len(list(bare.glob("scenes/*/*/*/*.tif"))) == 56
    assert program("run", "--only", "stack", **at).code == 0
    assert {Path(name).name for name in products(bare)} == {"stack.tif"}
    done = program("run", "--from", "clip", "--until", "index", "--json", **at).json
    assert {Path(row["path"]).stem for row in done["products"]} == {"clip", "ground", "natural", "ndvi", "ndwi"}
    assert done["findings"] == [] and not done["searched"]
    assert program("run", "--only", "verify", **at).code == 0 and (bare / "checks.json").exists()
    for words, said in (
        (("--from", "indx"), "index"), (("--from", "index", "--until", "clip"), "comes before"),
        (("--only", "clip", "--from", "stack"), "some alone"),
    ):  # fmt: skip
        wrong = program("run", *words, **at)
        assert wrong.code == 2 and said in wrong.err, wrong.err


def test_a_scene_that_fails_does_not_stop_the_others(bare, program):
    def lost(told) -> None:
        for feature in told["features"]:
            if "20241220" in feature["id"]:
                feature["assets"]["red"]["href"] += ".gone"

    rewritten(bare / "shortlist.json", lost)
    done = program("run", cwd=bare)
    assert done.code == 5 and "failed: scenes" in done.err and "failed: products/2024-12-20/stack.tif" in done.err
    assert "red" in done.err and "Traceback" not in done.err
    made = products(bare)
    assert not any("2024-12-20" in name for name in made)
    assert {f"products/2025-12-15/{name}.tif" for name in ("stack", "clip", "ground", "natural", "ndvi")} <= set(made)
    told = program("run", "--json", cwd=bare)
    assert told.code == 5 and {Path(row["path"]).name for row in told.json["failed"]} >= {"scenes", "stack.tif"}
    text = (bare / "study.toml").read_text().replace("[verify]", "stop_at_failure = true\n\n[verify]")
    (bare / "study.toml").write_text(text)
    shutil.rmtree(bare / "products")
    stopped = program("run", cwd=bare)
    assert stopped.code == 5 and not products(bare)


def test_what_is_made_of_a_product_that_failed_is_not_made_of_the_old_one(study, program):
    before = products(study)
    [one, *_] = sorted(study.glob("scenes/*/*/*20251215*/*-red.tif"))
    one.unlink()
    one.write_bytes(b"II*\0broken")
    record = one.parent / "downloads.json"
    rewritten(record, lambda told: told.pop(one.name))
    item = json.loads((study / "shortlist.json").read_text())
    for feature in item["features"]:
        feature["assets"]["red"]["href"] += ".gone" if "20251215" in feature["id"] else ""
    (study / "shortlist.json").write_text(json.dumps(item))
    done = program("run", cwd=study)
    assert done.code == 5, done.err
    assert products(study) == before
    told = {Path(row["path"]).name: row["what"] for row in program("run", "--json", cwd=study).json["failed"]}
    assert "stack.tif" in told["clip.tif"] and "could not be made" in told["clip.tif"]


def test_a_thorough_run_trusts_no_time_stamp(study, program):
    assert program("run", cwd=study).code == 0
    index = study / "products" / "2025-12-15" / "ndvi.tif"
    state, data = index.stat(), bytearray(index.read_bytes())
    data[len(data) // 2] ^= 255
    index.unlink()
    index.write_bytes(data)
    os.utime(index, ns=(state.st_atime_ns, state.st_mtime_ns))
    plain = program("run", "--json", cwd=study).json
    assert all(row["was_current"] for row in plain["products"]) and not plain["judged"]
    again = program("run", "--thorough", "--json", cwd=study).json
    assert [Path(row["path"]).name for row in again["products"] if not row["was_current"]] == ["ndvi.tif"]
    assert again["judged"] and {row["outcome"] for row in again["findings"]} == {"pass"}


def test_the_same_brief_elsewhere_makes_the_same_bytes(clean_study, bare, program):
    """One worker here, four there; files come band by band, the last scene's first."""
    for workers, band in (("4", "swir16"), ("1", "nir"), ("3", "classes")):
        came = program("download", "--bands", band, cwd=bare, env={"ZOOMPICK_WORKERS": workers})
        assert came.code == 0, came.err
    one = program("run", cwd=bare, env={"ZOOMPICK_WORKERS": "1"})
    assert one.code == 0, one.err
    assert products(bare) == products(clean_study)
    shutil.rmtree(bare / "products")
    assert program("run", cwd=bare, env={"ZOOMPICK_WORKERS": "4"}).code == 0
    assert products(bare) == products(clean_study)


def test_the_doctor_looks_at_everything_and_tells_no_secret(tmp_path, program, archive):
    at = {"cwd": tmp_path, "env": {"ZOOMPICK_CONFIG": str(tmp_path / "config")}}
    assert program("source", "add", "o", archive, **at).code == 0
    assert program("source", "login", "o", "--user", "visitor", stdin="ostrell\n", **at).code == 0
    with (tmp_path / "config" / "sources.json").open() as stream:
        told = json.load(stream)
    (tmp_path / "config" / "sources.json").write_text(
        json.dumps({**told, "gone": {**told["o"], "url": "http://127.0.0.1:9"}})
    )
    done = program("doctor", "--json", **at)
    assert done.code == 0 and "visitor" not in done.out + done.err and '"ostrell"' not in done.out
    rows = {(row["check"], row["subject"]): row for row in done.json["findings"]}
    assert rows["source", "o"]["outcome"] == "pass" and rows["source", "gone"]["outcome"] == "warn"
    assert rows["log-in", "o"]["figure"] == "file" and rows["reference systems", "EPSG register"]["outcome"] == "pass"
    assert {key[1] for key in rows if key[0] == "codec"} >= {"deflate", "zstd", "lzw", "jpeg", "webp", "lerc"}
    assert rows["version", "numpy"]["limit"].count("<") == 1
    assert "to look after" in program("doctor", **at).err


def test_products_are_a_catalog_that_can_be_walked_and_searched(study, program):
    assert program("run", cwd=study).code == 0
    catalog = json.loads((study / "catalog.json").read_text())
    hrefs = [link["href"] for link in catalog["links"] if link["rel"] == "item"]
    assert catalog["type"] == "Catalog" and len(hrefs) == len(list(study.glob("products/**/*.stac.json")))
    for href in hrefs:
        item = json.loads((study / href).read_text())
        assert item["type"] == "Feature" and (study / href).parent.joinpath(item["assets"]["data"]["href"]).is_file()
    before = (study / "catalog.json").stat().st_mtime_ns
    assert program("run", cwd=study).code == 0
    assert (study / "catalog.json").stat().st_mtime_ns == before
    added = program("source", "add", "own", "catalog.json", cwd=study)
    assert added.code == 0, added.err
    box = ("--box", "-12.2", "-38.8", "-11.8", "-38.4")
    found = program("search", "--source", "own", *box, "--dates", "2025-12", "--json", cwd=study.parent)
    assert program("source", "remove", "own", cwd=study).code == 0
    ids = {feature["id"] for feature in found.json["features"]}
    assert {"2025-12-15-stack", "2025-12-15-ndvi"} <= ids and not any("2024" in one for one in ids)
