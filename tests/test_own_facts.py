"""Facts of the user's own, in a study and for all studies: used like ours, and told with their line when wrong."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from helpers import foreign_tiff, grid, noise
from zoompick.errors import FactsError
from zoompick.records import line_of
from zoompick.scenes.deliveries import open_layers
from zoompick.sensors.guide import guide_for_collection, guide_for_file

PAGE = (Path(__file__).parents[1] / "docs" / "own-data.md").read_text()
BLOCKS = dict(
    zip(("guides", "classes", "recipes", "schemes"), re.findall(r"```toml\n(.*?)```", PAGE, re.S), strict=True)
)


@pytest.fixture
def folder(tmp_path, monkeypatch):
    """A study with every example of the page in it."""
    (tmp_path / "study.toml").write_text("")
    for kind, text in BLOCKS.items():
        (tmp_path / kind).mkdir()
        (tmp_path / kind / "own.toml").write_text(text)
    monkeypatch.chdir(tmp_path)
    return tmp_path


def test_the_examples_of_the_page_work(folder, program):
    guide = guide_for_file("heron-20250101-nir.tif")
    assert guide is guide_for_collection("heron-l2") and guide.classes.cloud == {3, 4}
    for band in ("red", "nir", "rededge", "swir16"):
        foreign_tiff(folder / f"heron-20250101-{band}.tif", noise((1, 64, 64)), grid(64, 64), nodata="0")
    names = [layer.name for layer in open_layers(sorted(folder.glob("heron-*.tif")))]
    assert names[:2] == ["nir", "red"]
    shown = program("area", "fen-b2", cwd=folder)
    assert shown.code == 0 and "fen-b2 is a fen sheet" in shown.err
    assert "fen-b2" in program("area", "where", cwd=folder).out
    bands = [f"heron-20250101-{band}.tif" for band in ("swir16", "rededge", "red", "nir")]
    assert program("stack", *bands, "--out", "all.tif", cwd=folder).code == 0
    made = program("index", "all.tif", "--recipe", "rededge-ratio", "--json", cwd=folder)
    assert made.code == 0 and made.json[0]["bands"] == ["rededge-ratio"]
    assert program("composite", "all.tif", "--recipe", "harvest", cwd=folder).code == 0
    (folder / "guides" / "own.toml").write_text(BLOCKS["guides"].split("[classes]")[0].replace(
        "[[band]]", 'classes = "own"\n\n[[band]]', 1))  # fmt: skip
    assert guide_for_collection("heron-l2").classes.fill == {255}


@pytest.mark.parametrize(
    ("kind", "old", "new", "line", "words"),
    [
        ("guides", "pixel_m = 5\nwavelength_um = 0.84", 'pixel_m = "5"', "pixel_m", "Expected float, got str"),
        ("guides", 'name = "Heron"', 'nam = "Heron"', "nam ", "nam is not known here. There is name, collections"),
        ("guides", "wavelength_um = 0.84", "wavelength = 0.84", "wavelength =", "There is name, pixel_m"),
        ("guides", "(?P<band>", "(?P<bund>", "file_pattern", "no group called band"),
        ("guides", "snow = [5]", "sleet = [5]", "[classes]", "no meaning of a class"),
        ("classes", "cloud = [2]", 'cloud = "2"', "[codes]", "Expected array, got str"),
        ("recipes", '["swir16", "rededge", "red"]', '["red"]', "bands", "three bands, not 1"),
        ("recipes", "(nir - rededge)", "open(nir)", "formula", "no function called"),
        ("recipes", "[index.rededge-ratio]", "[index.ndvi]", "[index.ndvi]", "recipe ndvi already"),
        ("schemes", 'kind = "degrees"', 'kind = "circles"', "kind", "Invalid enum value 'circles'"),
        ("schemes", "cols = 4\n", "", "[[scheme]]", "tells no cols"),
        ("schemes", "(?P<row>", "(?P<row", "pattern", "pattern cannot be read"),
        ("schemes", "cols = 4", "cols = 4 4", "cols", "at line"),
    ],
)  # fmt: skip
def test_mistakes_are_told_with_their_line(folder, program, kind, old, new, line, words):
    path = folder / kind / "own.toml"
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new))
    index = ["index", "x.tif", "--recipe", "ndwi"]
    command = {"schemes": ["area", "fen-b2"], "recipes": index}.get(kind, ["verify", "x.tif"])
    if kind == "classes":
        guide = folder / "guides" / "own.toml"
        guide.write_text('classes = "own"\n' + guide.read_text().split("[classes]")[0])
    foreign_tiff(folder / "x.tif", noise((1, 64, 64)), grid(64, 64), nodata="0")
    told = program(*command, cwd=folder)
    said = " ".join(told.err.split())
    number = next(
        n for n, text in reversed(list(enumerate(path.read_text().splitlines(), 1))) if text.startswith(line)
    )
    assert told.code == 2 and words.split(" There is")[0] in said, said
    assert f"{kind}/own.toml" in said and re.search(rf"line {number}\b", said), said
    assert "Traceback" not in said


def test_lines_of_places():
    text = 'a = 1\n[[b]]\nc = 1\n[[b]]\nd = 2\nc = 3\n[e.f]\n"g" = 4\n'
    places = {"$.a": 1, "$.b[0].c": 3, "$.b[1].c": 6, "$.b[1]": 4, "$.e.f.g": 8, "$.b[1].none": 4, "$.z": 1}
    assert {place: line_of(text, place) for place in places} == places
    assert issubclass(FactsError, ValueError) is False


def test_a_recipe_that_changed_makes_its_product_out_of_date(study, program):
    """And only its product; a run makes it anew, and all is up to date again."""
    (study / "recipes").mkdir()
    own = study / "recipes" / "own.toml"
    own.write_text('[index.wetter]\ntitle = "Wetter"\nformula = "(green - nir) / (green + nir)"\n')
    brief = study / "study.toml"
    brief.write_text(re.sub(r'recipes = \["ndvi", "ndwi"\]', 'recipes = ["ndvi", "wetter"]', brief.read_text()))
    done = program("run", "--until", "index", cwd=study)
    assert done.code == 0, done.err

    def states() -> dict[str, str]:
        told = program("status", "--json", cwd=study).json["products"]
        return {Path(name).stem: state for name, state in told.items()}

    before = states()
    assert before["wetter"] == before["ndvi"] == "up to date"
    own.write_text(own.read_text().replace("(green - nir)", "(green - swir16)").replace("+ nir", "+ swir16"))
    assert states() == before | {"wetter": "out of date"}
    assert program("run", "--until", "index", cwd=study).code == 0 and states() == before
