"""Looking and picking through the program: scene, calendar, look, and the shortlist's words."""

from __future__ import annotations

import json

import imagecodecs
import numpy as np
import pytest


@pytest.fixture
def searched(study, program):
    """A study in which much was found."""
    assert program("search", "--dates", "2024-11/2026-02", "--cloud", "100", cwd=study).code == 0
    return study


def test_scene_tells_all_in_order(searched, program):
    told = program("scene", "3", "--inside", cwd=searched)
    labels = [line.split()[0] for line in told.out.splitlines() if line.strip()]
    order = ["scene", "platform", "taken", "where", "cloud", "access", "pixels", "address", "band", "blue", "next"]
    places = [labels.index(label) for label in order]
    assert places == sorted(places)
    assert "inside the area" in told.out and "an estimate" in told.out
    assert "baseline: processing baseline" in told.out
    assert "1 requests" in told.err
    assert max(len(line) for line in told.out.splitlines() if not line.startswith("address")) <= 100


def test_calendar_shows_months_days_and_gaps(searched, program):
    months = program("calendar", "--out", "cal.png", cwd=searched)
    assert months.out.splitlines()[0].split()[:3] == ["year", "jan", "feb"]
    assert "longest gap" in months.out
    days = program("calendar", "--days", "--json", cwd=searched).json["periods"]
    found = json.loads((searched / "found.json").read_text())["features"]
    assert set(days) == {item["properties"]["datetime"][:10] for item in found}
    for day, figure in days.items():
        clouds = [i["properties"]["eo:cloud_cover"] for i in found if i["properties"]["datetime"].startswith(day)]
        assert (figure["scenes"], figure["least_cloud_percent"]) == (len(clouds), round(min(clouds), 1))
    assert imagecodecs.png_decode((searched / "cal.png").read_bytes()).shape[1] == 1280


def test_contact_sheets_maps_and_the_terminal(searched, program):
    few = "date=2025-12-15"
    assert program("look", few, "--out", "a.png", cwd=searched).code == 0
    bands = program("look", few, "--bands", "nir,red,green", "--out", "b.png", cwd=searched)
    assert bands.code == 0 and "requests" in bands.err
    assert program("look", few, "--map", "--out", "c.png", cwd=searched).code == 0
    for name in ("a.png", "b.png", "c.png"):
        pixels = imagecodecs.png_decode((searched / name).read_bytes())
        assert np.unique(pixels.reshape(-1, pixels.shape[2]), axis=0).shape[0] > 500
    shown = program("look", few, "--terminal", cwd=searched)
    assert "▀" in shown.out and "2025-12-15" in shown.out
    listed = json.loads((searched / "found.json").read_text())["features"]
    numbers = [n for n, item in enumerate(listed, 1) if item["properties"]["datetime"].startswith("2025-12-15")]
    told = [int(line.split()[0]) for line in shown.out.splitlines() if "2025-12-15" in line]
    assert told == numbers and numbers[0] > 1, "numbers are those of the search, so that they can be picked"
    for words, told in (
        (["--bands", "red,nir"], "2 bands make no picture"),
        (["--bands", "rad"], "Did you mean red"),
    ):
        wrong = program("look", few, *words, cwd=searched)
        assert wrong.code == 2 and told in wrong.err


def test_picking_by_range_rule_and_cover(searched, program):
    def listed():
        return program("pick", "list", "--json", cwd=searched).json["features"]

    assert program("pick", "2-4", "7", cwd=searched).code == 0
    assert len(listed()) == 4
    assert program("pick", "cloud<=1", "--instead", cwd=searched).code == 0
    assert all(item["properties"]["eo:cloud_cover"] <= 1 for item in listed())
    cover = program("pick", "--cover", "--instead", "--within", "0.5", "--one-platform", cwd=searched)
    assert "cover 100.00 % of the area" in cover.err and "proved the cheapest" in cover.err
    chosen = listed()
    assert len({item["properties"]["datetime"] for item in chosen}) == 1
    assert program("pick", "tag", "good", cwd=searched).code == 0
    assert program("pick", "note", "calm water", "1", cwd=searched).code == 0
    table = program("pick", cwd=searched).out
    assert "#good; calm" in " ".join(table.split())
    assert program("pick", "export", "list.csv", cwd=searched).code == 0
    assert program("pick", "drop", "tag=good", cwd=searched).code == 0
    assert listed() == []
    assert program("pick", "import", "list.csv", cwd=searched).code == 0
    assert [item["id"] for item in listed()] == [item["id"] for item in chosen]
    assert program("pick", "undo", cwd=searched).code == 0
    assert listed() == []
    assert "pairs, the most alike first" in program("pick", "--pairs", "2025-09-01", cwd=searched).err
    assert program("pick", "--pairs", "2025-09-01", "--take", "1", cwd=searched).code == 0
    assert len({item["properties"]["datetime"][:10] for item in listed()}) == 2
    assert program("pick", "--clearest-per", "year", "--instead", cwd=searched).code == 0
    assert len({item["properties"]["datetime"][:4] for item in listed()}) == 3


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--cover", "1"], "one way at a time"),
        (["--cover", "--weights", "1,x,2"], "cannot be used"),
        (["--cover", "--limit", "0"], "cover nothing"),
        (["--clearest-per", "wek"], "There is no group"),
        (["--pairs", "soon"], "cannot be read"),
        (["cloud<=few"], "is no number"),
        (["cloud<0"], "No scene of the last search"),
        (["900-901"], "There is no number"),
    ],
)
def test_picks_that_cannot_be(searched, program, words, told):
    wrong = program("pick", *words, cwd=searched)
    assert wrong.code in (2, 3) and told in " ".join(wrong.err.split())


def test_the_brief_holds_every_filter_and_the_command_line_overrides_one(study, program):
    brief = study / "study.toml"
    text = brief.read_text().replace("cover = 99", 'season = "dec-jan"\nsun = 50\nhas = ["swir16"]\ncover = 99', 1)
    brief.write_text(text)
    found = program("search", "--sun", "40", "--dates", "2024/2026", cwd=study)
    said = " ".join(found.err.split())
    assert "season dec-jan" in said and "sun at least 40° high" in said and "bands swir16" in said
    brief.write_text(text.replace('season = "dec-jan"', 'season = "winter"'))
    wrong = program("search", cwd=study)
    assert wrong.code == 2 and "season = 'winter' cannot be used" in " ".join(wrong.err.split())


def test_sources_are_checked_and_shown(study, program, archive):
    good = program("source", "check", "ostrell", cwd=study)
    assert good.code == 0 and good.out.count("pass") >= 4
    program("source", "add", "dead", "http://127.0.0.1:9", "--here", cwd=study)
    dead = program("source", "check", "dead", cwd=study, env={"ZOOMPICK_RETRIES": "0"})
    assert dead.code == 4 and "A moved source" in " ".join(dead.out.split())
    assert "Near infrared" in program("source", "show", "ostrell", cwd=study).out
