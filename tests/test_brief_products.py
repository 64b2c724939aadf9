"""What a brief may ask for beside the usual: days laid on one another, masks, pictures; plans as trees; schema."""

from __future__ import annotations

import json
import re
import runpy
import shutil
import tomllib
from pathlib import Path

import imagecodecs
import jsonschema
import numpy as np
import pytest

from zoompick.errors import BriefError
from zoompick.geo.crs import LONLAT, transform
from zoompick.products.shift import shift_between
from zoompick.raster.opening import open_raster
from zoompick.scenes.deliveries import OneBand
from zoompick.standin import passes
from zoompick.study.brief import KEYS as PLAIN
from zoompick.study.brief import SEVERAL, brief_text, read_brief
from zoompick.study.schema import brief_schema, published

MORE = """
[[mask]]
name = "hidden"
where = "cloud or shadow"

[[mask]]
name = "ground"
where = "cloud or shadow or outside"
grow_m = 16
apply = true

[[compare]]
name = "wetter"
of = "ground"
above = 0
show = "natural"

[[picture]]
name = "green"
of = "ndvi"
range = [-0.2, 0.9]

[[picture]]
name = "where"
of = "wetter"
format = "svg"
outline = false
"""


@pytest.fixture(scope="module")
def _kept(tmp_path_factory):
    return tmp_path_factory.mktemp("kept")


@pytest.fixture
def done(_kept, study, program):
    """A finished study of two summers with masks and pictures, copied for each test."""
    first = _kept / "study"
    if not first.exists():
        brief = study / "study.toml"
        text = re.sub(r"(?m)^dates = .*", 'dates = ["2024-12", "2025-12"]', brief.read_text())
        brief.write_text(text.replace("cloud = 10  ", "cloud = 60  ", 1) + MORE)
        result = program("run", cwd=study)
        assert result.code == 0, result.err + result.out
        shutil.copytree(study, first)
    shutil.rmtree(study)
    shutil.copytree(first, study)
    return study


def pixels(path):
    raster = open_raster(path)
    return raster.read(raster.grid.window)


def test_masks_hold_where_the_class_layers_say(done):
    """Against the scenes' own class layers, laid on the grid by repeating their pixels."""
    days = sorted((done / "products").glob("20*"))
    assert len(days) == 2
    for day in days:
        hidden, ground, stack = (pixels(day / f"{name}.tif") for name in ("hidden", "ground", "stack"))
        clip = pixels(day / "clip.tif")
        grid = open_raster(day / "hidden.tif").grid
        wanted = np.zeros(hidden[0].shape, bool)
        known = np.zeros_like(wanted)
        wanted_day = day.name.replace("-", "")
        for path in sorted(done.glob(f"scenes/*/*/*{wanted_day}*/*classes.tif")):
            layer = open_raster(path)
            codes = layer.read(layer.grid.window)[0].repeat(2, 0).repeat(2, 1)
            col = round((grid.west - layer.grid.west) / 8)
            row = round((layer.grid.north - grid.north) / 8)
            rows, cols = np.arange(grid.height) + row, np.arange(grid.width) + col
            inside = np.ix_((rows >= 0) & (rows < len(codes)), (cols >= 0) & (cols < codes.shape[1]))
            part = codes[np.ix_(rows[(rows >= 0) & (rows < len(codes))], cols[(cols >= 0) & (cols < codes.shape[1])])]
            fresh = ~known[inside] & (part != 0)
            wanted[inside] = np.where(fresh, np.isin(part, (3, 4, 5)), wanted[inside])
            known[inside] |= fresh
        there = hidden[0] != 255
        assert known[there].mean() > 0.99
        assert (hidden[0][there] == wanted[there]).mean() > 0.995
        seen = (ground != 0).any(axis=0)
        assert not (seen & (hidden[0] == 1)).any(), "nothing hidden is left"
        assert (ground[:, seen] == stack[:, seen]).all() and not (seen & (clip == 0).all(axis=0)).any()
        told = json.loads((day / "hidden.tif.stac.json").read_text())["properties"]["classification:classes"]
        assert [row["title"] for row in told] == ["not (cloud or shadow)", "cloud or shadow"]
    change = pixels(done / "products" / "wetter.tif")[0]
    both = [(pixels(day / "ground.tif") != 0).all(axis=0) for day in days]
    assert ((change != 0) == (both[0] & both[1])).mean() > 0.999


def test_pictures_of_the_brief_are_products_like_others(done, program):
    days = sorted((done / "products").glob("20*"))
    shown = imagecodecs.png_decode((days[0] / "green.png").read_bytes())
    assert shown.shape[1] == 1280 and len(np.unique(shown.reshape(-1, shown.shape[2]), axis=0)) > 100
    assert (done / "products" / "where.svg").read_text().lstrip().startswith("<?xml")
    side = imagecodecs.png_decode((done / "products" / "wetter.png").read_bytes())
    assert side.shape[1] == 1280
    before = {path: path.read_bytes() for path in done.rglob("products/**/*.*") if path.suffix in (".png", ".svg")}
    again = program("run", "--json", cwd=done)
    assert again.code == 0 and all(row["was_current"] for row in again.json["products"])
    (days[0] / "green.png").write_bytes(b"another")
    (done / "products" / "where.svg").unlink()
    judged = program("verify", "--json", cwd=done)
    bad = {(row["subject"], row["check"]) for row in judged.json["findings"] if row["outcome"] == "fail"}
    assert judged.code == 1 and ("where.svg", "file here") in bad
    assert (f"{days[0].name}/green.png", "checksum (sidecar)") in bad
    mended = program("run", "--json", cwd=done)
    assert sum(not row["was_current"] for row in mended.json["products"]) == 2
    assert {path: path.read_bytes() for path in before} == before, "the same picture is the same bytes"
    brief = done / "study.toml"
    brief.write_text(brief.read_text().replace("range = [-0.2, 0.9]", 'range = [-0.1, 0.9]\ncaption = "Plants"'))
    assert "Out of date" in program("status", cwd=done).err
    changed = program("run", "--json", cwd=done).json["products"]
    assert {Path(row["path"]).name for row in changed if not row["was_current"]} == {"green.png"}


def test_what_lies_between_need_not_be_written(done, program):
    """The same bytes without the files between, which are judged all the same."""
    usual = {path.relative_to(done): path.read_bytes() for path in done.glob("products/**/*.tif")}
    findings = len(program("verify", "--json", cwd=done).json["findings"])
    shutil.rmtree(done / "products")
    brief = done / "study.toml"
    brief.write_text(brief.read_text().replace("[products]", "[products]\nintermediate = false"))
    run = program("run", cwd=done)
    assert run.code == 0, run.err + run.out
    made = {path.relative_to(done): path.read_bytes() for path in done.glob("products/**/*.tif")}
    gone = {path.name for path in usual if path not in made}
    # The picture of both dates is drawn of the clips, which stay.
    assert gone == {"stack.tif"} and all(usual[path] == data for path, data in made.items())
    day = sorted((done / "products").glob("20*"))[0]
    told = json.loads((day / "clip.tif.stac.json").read_text())
    assert all("/scenes/" in link["href"] for link in told["links"])
    assert [row["step"] for row in told["properties"]["zoompick:steps"][0]["options"]["of"]] == ["stack"]
    judged = program("verify", "--json", cwd=done).json["findings"]
    kinds = {row["check"] for row in judged if row["subject"] == f"{day.name}/stack.tif (not written)"}
    assert kinds >= {"valid in area", "bands distinct"} and len(judged) < findings
    assert "up to date" in program("status", cwd=done).err
    again = program("run", "--json", cwd=done).json
    assert all(row["was_current"] for row in again["products"]) and not again["judged"]
    brief.write_text(re.sub(r"(?s)\n\[\[compare.*", "\n", brief.read_text()).replace('"ndwi"', '"ndmi"'))
    shutil.rmtree(done / "products")
    assert program("run", cwd=done).code == 0
    names = {path.name for path in done.glob("products/**/*.tif")}
    assert names == {"hidden.tif", "ground.tif", "natural.tif", "infrared.tif", "ndvi.tif", "ndmi.tif"}
    assert (day / "ndvi.tif").read_bytes() == usual[(day / "ndvi.tif").relative_to(done)]
    assert (day / "natural.tif").read_bytes() == usual[(day / "natural.tif").relative_to(done)]
    rows = {(row["check"], row["subject"]): row for row in json.loads((done / "checks.json").read_text())["findings"]}
    again, shades = rows["computed again", f"{day.name}/ndvi.tif"], rows["shades fit", f"{day.name}/natural.tif"]
    assert again["outcome"] == shades["outcome"] == "pass" and "of 0 px" not in again["figure"]
    # What is asked for by itself is written, computed through what is not.
    for words, name, made_of in (["composite", "--recipe", "shortwave"], "shortwave.tif", ["stack", "clip"]), (
        ["stack"], "stack.tif", None
    ):  # fmt: skip
        asked = program(*words, "--json", cwd=done)
        assert asked.code == 0 and len(asked.json) == 2, asked.err
        told = json.loads((day / f"{name}.stac.json").read_text())["properties"]["zoompick:steps"][0]["options"]
        assert ([row["step"] for row in told["of"]] if "of" in told else None) == made_of
    assert (day / "stack.tif").read_bytes() == usual[(day / "stack.tif").relative_to(done)]
    assert not (day / "clip.tif").exists()


def test_a_plan_is_a_tree_of_what_is_made_of_what(done, program):
    shown = program("run", "--plan", cwd=done)
    assert shown.code == 0, shown.err
    first = sorted((done / "products").glob("20*"))[0].name
    lines = shown.out.splitlines()
    place = next(n for n, line in enumerate(lines) if line.startswith(f"{first}/stack.tif  stack of"))
    assert lines[place + 1].endswith(f"{first}/clip.tif  clip") and lines[place + 1].startswith("├")
    picture = next(line for line in lines if line.endswith(f"{first}/green.png  picture"))
    above = lines[lines.index(picture) - 1]
    assert above.endswith(f"{first}/ndvi.tif  index") and len(picture) - len(picture.lstrip("│ └├─")) > 5
    assert any(line.startswith("wetter.tif  change of") and line.count("ground.tif") == 2 for line in lines)
    trees = program("run", "--plan", "--json", cwd=done).json["trees"]

    def count(nodes):
        return sum(1 + count(node["below"]) for node in nodes)

    assert count(trees) == len(list(done.rglob("products/**/*.stac.json")))
    before = sorted((path, path.stat().st_mtime_ns) for path in done.rglob("*"))
    program("run", "--plan", cwd=done)
    assert sorted((path, path.stat().st_mtime_ns) for path in done.rglob("*")) == before


def test_days_are_laid_on_one_another_and_planted_bands_back(program, archive, tmp_path):
    """The archive's scene whose green band lies 1.5 pixels off, mended by a run."""
    fault = next(scene for scene in passes.scenes() if scene.fault.shifted)
    grid = fault.tile.grid
    lons, lats = transform(np.array([2000, 6000]) + grid.west, grid.north - np.array([6000, 2000]), grid.crs, LONLAT)
    made = program("new", "s", "--box", lons[0], lats[0], lons[1], lats[1], "--source", "o", "--collection",
                   "lapwing-l2", "--dates", f"{fault.seen.when:%Y-%m-%d}", "--cloud", "90")  # fmt: skip
    assert made.code == 0, made.err
    study = tmp_path / "s"
    program("source", "add", "o", archive, "--here", cwd=study)
    brief = study / "study.toml"
    text = brief.read_text().replace("[verify]", "[unused]", 1).split("[unused]")[0]
    brief.write_text(
        text + '[verify]\ncloud = 100\nvalid = 50\n[align]\nto = "first"\nband = "red"\neach_band = true\n'
    )
    done = program("run", cwd=study)
    assert done.code == 0, done.err + done.out
    [folder] = (study / "products").iterdir()
    rows = json.loads((folder / "aligned.tif.stac.json").read_text())["properties"]["zoompick:aligned"]
    by_band = {row["band"]: row for row in rows}
    assert by_band["green"]["moved"] and not by_band["red"]["moved"]
    assert [abs(by_band["green"][axis]) for axis in ("cols", "rows")] == pytest.approx([1.5, 1.5], abs=0.1)
    aligned = open_raster(folder / "aligned.tif")
    names = [band.name for band in aligned.bands]
    green, red = (OneBand(aligned, names.index(n), aligned.bands[names.index(n)]) for n in ("green", "red"))
    left = shift_between(red, green)
    assert left.is_sure and left.size_px < 0.1
    assert "moved by" in done.err
    brief.write_text(brief.read_text().replace('to = "first"', 'to = "2031-01-01"'))
    refused = program("run", cwd=study)
    assert refused.code == 2 and "no scene of that day is picked" in " ".join(refused.err.split())


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ('[[picture]]\n\nof = "moon"', 3, "The brief makes stack, clip"),
        ('[[picture]]\nof = "aligned"', 2, "The brief makes stack, clip"),
        ('[align]\nto = "first"\n[[picture]]\nof = "moon"', 4, "The brief makes stack, aligned, clip"),
        ('[[blend]]\nname = "b"\n[[picture]]\nof = "b-date"', 4, "clip, b, b-count"),
        ('[[blend]]\nname = "b"\nby = "newest"\n[[picture]]\nof = "c"', 5, "clip, b, b-count, b-date"),
        ('[composite]\nof = "bare"', 2, "It must be clip"),
        ('[index]\nrecipes = ["ndvi"]\n[[picture]]\nname = "ndvi"\nof = "clip"', 4, "two products are called 'ndvi'"),
        ('[[mask]]\nname = "m"\n[[compare]]\nabove = 0\nof = "m"', 5, "It must be clip"),
        ('[align]\nto = "sometime"', 2, "first, last or a day"),
        ("[[picture]]\nrange = [2, 1]", 2, "below the second"),
        ('[[picture]]\nof = "clip"\nformat = "bmp"', 3, "png, jpg, pdf, svg"),
    ],
)
def test_mistakes_are_told_with_their_line(tmp_path, text, line, words):
    (tmp_path / "study.toml").write_text(text)
    with pytest.raises(BriefError, match=words) as caught:
        read_brief(tmp_path / "study.toml")
    assert f"line {line}:" in str(caught.value)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[[mask]]\nwhere = "cloud or ("', "line {line}: [[mask]] where"),
        ('[[picture]]\ncolours = "pink"', "line {line}: [[picture]] colours = 'pink'"),
        ('[[compare]]\nabove = 0\nshow = "natrual"', "Did you mean natural"),
        ('[[compare]]\nabove = 0\nindex = "nbr2"', "Did you mean nbr"),
        ('[[compare]]\nabove = 0\nindex = "nbr"', "needs the band swir22"),
    ],
)
def test_what_cannot_be_made_is_told_before_anything_is_fetched(study, program, text, words):
    brief = study / "study.toml"
    brief.write_text(f"{brief.read_text()}\n{text}\n")
    refused = program("run", cwd=study)
    line = len(brief.read_text().splitlines())
    assert refused.code in (2, 3) and words.format(line=line) in " ".join(refused.err.split()), refused.err
    assert not (study / "scenes").exists()


# The schema for editors


def test_the_published_schema_is_that_of_the_tables(program, tmp_path):
    assert json.loads(published()) == brief_schema()
    script = runpy.run_path(str(Path(__file__).parents[1] / "scripts" / "schema.py"))
    assert script["PAGE"].read_text(encoding="utf-8") == script["page"]()
    jsonschema.Draft202012Validator.check_schema(brief_schema())
    assert program("new", "s").code == 0
    assert (tmp_path / "s" / "study.schema.json").read_text() == published()
    assert (tmp_path / "s" / "study.toml").read_text().startswith("#:schema study.schema.json\n")
    own = tmp_path / "t"
    own.mkdir()
    (own / "study.schema.json").write_text("mine")
    assert program("new", "t").code == 0 and (own / "study.schema.json").read_text() == "mine"


def test_what_the_schema_refuses_the_brief_refuses(tmp_path):
    """And what is read passes the schema: a correct value and a wrong one of every key that has any shape."""
    schema = jsonschema.Draft202012Validator(brief_schema())
    path = tmp_path / "study.toml"
    assert not list(schema.iter_errors(tomllib.loads(brief_text({}) + MORE)))
    wrong = {"string": 7, "number": "x", "integer": 1.5, "boolean": "no", "array": "x"}
    tried = 0
    for section, keys in brief_schema()["properties"].items():
        own = keys["anyOf"][1]["properties"] if "anyOf" in keys else keys["properties"]
        for name, told in own.items():
            value = wrong.get(told.get("type"), {"no": 1})
            assert list(schema.iter_errors({section: {name: value}})), (section, name)
            text = "{no = 1}" if isinstance(value, dict) else json.dumps(value)
            path.write_text(f"[{section}]\n{name} = {text}\n")
            with pytest.raises(BriefError):
                read_brief(path)
            tried += 1
    assert tried == len(PLAIN) + sum(map(len, SEVERAL.values())) > 70
    assert list(schema.iter_errors({"serch": {}})) and list(schema.iter_errors({"search": {"clouds": 1}}))
