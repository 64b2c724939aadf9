"""Studies and a brief of version 0.1.0: opened, kept, nothing fetched, chosen or made anew that still holds."""

from __future__ import annotations

import json
import os
import shutil
import tarfile
import tomllib
from dataclasses import dataclass, fields, replace
from pathlib import Path

import pytest

from zoompick.discovery.criteria import Criteria
from zoompick.products.kinds.index import IndexRules
from zoompick.scenes.period import Period
from zoompick.study.brief import _OLD_KEYS, KEYS, SEVERAL, read_brief
from zoompick.study.folder import Study
from zoompick.study.searchkey import keys, search_key
from zoompick.study.shortlist import chosen_by, shortlist

DATA = Path(__file__).parent / "data"
THEN, NOWHERE = "http://127.0.0.1:8638", "http://127.0.0.1:9"
"""Where the archive was then, and an address where nothing answers."""


@pytest.fixture
def old(tmp_path) -> Path:
    """Two studies as they were left, time stamps and all: one that ran, one whose scene was ordered."""
    with tarfile.open(DATA / "studies-of-0.1.0.tar.xz") as archive:
        archive.extractall(tmp_path, filter="data")
    for root in (tmp_path / "kept", tmp_path / "bought"):
        for path, stamp in stamps(root):
            os.utime(path, ns=(stamp, stamp))
        at(root, THEN)
    return tmp_path


def at(root: Path, url: str) -> None:
    """Where the study's source is."""
    (root / "sources.json").write_text(json.dumps({"ostrell": {"url": url, "kind": "stac-api", "day": ""}}))


@dataclass
class Later:
    """A condition that no version knows."""

    moon_max: float | None = None


def stamps(root: Path) -> list[tuple[Path, int]]:
    """The time stamps that the study's own records tell; an archive keeps them to the second only."""
    found = {name: row[1] for name, row in json.loads((root / ".vouched.json").read_text()).items()}
    found |= {name: row[1] for name, row in json.loads((root / ".made.json").read_text())["files"].items() if row}
    rows = [(root / name, stamp) for name, stamp in found.items()]
    for record in root.glob("scenes/*/*/*/downloads.json"):
        rows += [(record.parent / name, row["modified_ns"]) for name, row in json.loads(record.read_text()).items()]
    return rows


def contents(root: Path) -> dict[str, bytes]:
    """Scenes and products with their records."""
    paths = [path for folder in ("scenes", "products") for path in (root / folder).rglob("*") if path.is_file()]
    return {path.relative_to(root).as_posix(): path.read_bytes() for path in paths}


CHANGED = {
    "kept": {"ground.tif", "wetter.tif", "wetter-difference.tif"},
    "bought": {"stack.tif", "clip.tif", "natural.tif", "natural.png", "natural.pgw"},
}
"""A mask that grew what lies outside, a stack of files in another system, and what is made of them: their numbers
change by a method of today."""


def is_as_it_was(products: list[dict], name: str) -> bool:
    """True when nothing but what changed its method was made anew."""
    made = {Path(row["path"]).name for row in products if not row["was_current"]}
    return bool(made) and made <= CHANGED[name]


def unchanged(held: dict[str, bytes], name: str) -> dict[str, bytes]:
    """What no method of today changes."""
    return {path: data for path, data in held.items()
            if Path(path).name.removesuffix(".stac.json") not in CHANGED[name]}  # fmt: skip


REASONS = {
    "kept": "distances are measured on the ground now, and what lies outside does not grow",
    "bought": "between reference systems fractions of pixels are exact now",
}


@pytest.mark.parametrize("name", ["kept", "bought"])
def test_an_older_study_is_opened_and_nothing_is_done_anew(old, program, name):
    root = old / name
    before, picked = contents(root), [entry.scene.key for entry in shortlist(Study(root))]
    status = program("status", cwd=root)
    assert status.code == 0 and "up to date" in status.err, status.err
    said = " ".join(status.err.split())
    assert f"Out of date: {REASONS[name]}: " in said
    done = program("run", "--json", cwd=root)
    assert done.code == 0, done.err
    assert is_as_it_was(done.json["products"], name) and not done.json["searched"]
    assert (
        unchanged(contents(root), name) == unchanged(before, name)
        and [entry.scene.key for entry in shortlist(Study(root))] == picked
    )
    told = [line for line in done.err.splitlines() if "earlier version" in line]
    assert len(told) == (name == "kept"), "a choice by hand has no key"
    again = program("run", cwd=root)
    assert again.code == 0 and "earlier version" not in again.err
    assert "out of date" not in program("status", cwd=root).err.lower(), "once"
    assert program("verify", "--json", cwd=root).json["outcome"] in ("pass", "warn")


def test_an_older_study_keeps_its_lists_its_lock_and_its_orders(old, program):
    kept, bought = old / "kept", old / "bought"
    before = contents(kept)
    locked = program("run", "--locked", "--json", cwd=kept)
    assert locked.code == 1 and {Path(row["path"]).name for row in locked.json["differing"]} <= CHANGED["kept"]
    assert unchanged(contents(kept), "kept") == unchanged(before, "kept")
    assert len(program("pick", "list", "--json", cwd=kept).json["features"]) == 2
    assert [row["act"] for row in program("history", "--json", cwd=kept).json][:3] == ["new", "search", "download"]
    found = json.loads((kept / "found.json").read_text())["features"]
    assert len(found) == 3 and program("scene", "1", cwd=kept).code == 0
    orders = program("order", "status", cwd=bought)
    assert "fetched" in orders.out and "0.03 crowns" in orders.out
    marks = program("pick", "list", cwd=bought).out
    assert "#before" in marks and "sluice" in marks


def test_a_choice_of_an_older_study_does_not_hold_for_another_brief(old, program):
    root = old / "kept"
    brief = root / "study.toml"
    brief.write_text(brief.read_text().replace("cloud = 20 ", "cloud = 10 "))
    at(root, NOWHERE)
    asked = program("run", cwd=root)
    assert asked.code == 4 and NOWHERE.partition("//")[2] in asked.err, "it searches, and nobody answers"


def test_a_key_is_the_meaning_of_what_was_asked(old):
    study = Study(old / "kept")
    brief, area = study.brief(), study.area()
    now, before = keys(brief, area)
    assert chosen_by(study) == before != now
    same = replace(brief.search, collections=list(brief.search.collections), periods=brief.search.periods[::-1],
                   cloud_max=20, sort="newest", season="12-2")  # fmt: skip
    assert search_key(replace(brief, search=same), area) == now
    named = replace(brief, name="Another").changed(IndexRules(("ndvi",)))
    assert search_key(named, area) == now, "what is made does not decide which scenes are chosen"
    others = [
        replace(brief, search=replace(brief.search, cloud_max=21)),
        replace(brief, search=replace(brief.search, platforms=())),
        replace(brief, search=replace(brief.search, periods=(Period.parse("2025-12"),))),
        replace(brief, cover=90), replace(brief, bands=("red",)), replace(brief, source="other"),
    ]  # fmt: skip
    assert len({search_key(one, area) for one in others} | {now}) == len(others) + 1


def test_a_condition_that_a_later_version_knows_changes_no_key(old, monkeypatch):
    """As a later version would have it: one more field in the criteria, at its default."""
    study = Study(old / "kept")
    brief, area = study.brief(), study.area()
    now = keys(brief, area)
    more = [*fields(Criteria), *fields(Later)]
    monkeypatch.setattr("zoompick.study.searchkey.fields", lambda kind: more if kind is Criteria else fields(kind))
    monkeypatch.setattr(Criteria, "moon_max", None, raising=False)
    assert keys(brief, area) == now


def test_a_brief_with_every_key_is_read_as_it_was_meant():
    path = DATA / "brief-of-0.1.0.toml"
    given, brief = tomllib.loads(path.read_text()), read_brief(path)
    for (section, old), new in _OLD_KEYS.items():
        for row in given[section] if isinstance(given[section], list) else [given[section]]:
            row |= {new: row.pop(old)} if old in row else {}
    assert len(brief.old_words) == len(_OLD_KEYS)
    assert "[search] scene_cover is called cover_min now; the old word works for one version more." in brief.old_words
    assert {(section, key) for section, key in KEYS if key not in given.get(section, {})} == set()
    for kind, rows in SEVERAL.items():
        assert {key for entry in given[kind] for key in entry} >= set(rows) - {"of", "resampling"}
    bare = Criteria()
    at_default = {one.name for one in fields(Criteria) if getattr(brief.search, one.name) == getattr(bare, one.name)}
    assert at_default == {"area", "look_inside", "ids"}, "every other condition was told"
    assert (brief.pixel_m, brief.cover, brief.valid, brief.intermediate) == (16, 95, 90, False)
    assert brief.limits == ("shift_px=0.3",) and brief.folder.text == "{year}/{date}"
    assert [one.name for one in brief.sections if one.kind in SEVERAL] == [
        "ground",
        "together",
        "clear",
        "wetter",
        "greener",
        "sheet",
    ]


def test_a_study_that_moved_keeps_what_it_has(old, program, tmp_path):
    moved = shutil.move(old / "kept", tmp_path / "elsewhere")
    done = program("run", "--json", cwd=moved)
    assert done.code == 0 and is_as_it_was(done.json["products"], "kept"), done.err


@pytest.mark.parametrize(
    ("words", "old", "new"),
    [
        (("calendar", "--picture", "c.png"), "--picture", "--out"),
        (("area", "show", "--picture=a.png"), "--picture", "--out"),
        (("align", "a.tif", "--to", "b.tif"), "--to", "--reference"),
        (("blend", "a.tif", "--every", "month"), "--every", "--per"),
        (("compare", "a.tif", "b.tif", "--by", "1"), "--by", "--change-min"),
        (("order", "wait", "--limit", "1"), "--limit", "--wait-max"),
        (("unpack", "a.zip", "--only", "*"), "--only", "--files"),
        (("verify", "a.tif", "--only", "blocks", "--limit", "hole=3"), "--limit", "--threshold"),
    ],
)
def test_old_options_are_taken_and_the_new_ones_told(tmp_path, program, words, old, new):
    done = program(*words, cwd=tmp_path)
    assert f"{old} is called {new} now; the old word works for one version more." in done.err
    assert "no such option" not in done.err.lower() and "is not an option" not in done.err


def test_a_span_without_a_unit_is_taken_as_before_and_told(old, program):
    done = program("order", "wait", "--every", "2", "--limit", "1", cwd=old / "kept")
    assert "--every 2 is taken for 2s: give the unit, too." in done.err
    assert "--wait-max 1 is taken for 1min" in done.err
    assert program("download", "--watch", "soon", cwd=old / "kept").code == 2
