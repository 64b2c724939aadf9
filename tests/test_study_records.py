"""The brief, lists of scenes, the journal, the lock, safe files."""

from __future__ import annotations

import dataclasses
import errno
import json
import os
import subprocess
import sys
from dataclasses import replace

import pytest

from zoompick import files, records, settings
from zoompick.area.model import Area
from zoompick.discovery.rules import select
from zoompick.errors import (
    BriefError,
    BusyError,
    DataError,
    DiskError,
    NothingFoundError,
    StudyError,
    UnknownNameError,
    UsageError,
)
from zoompick.journal import act
from zoompick.patterns import NamePattern
from zoompick.products.kinds.clip import ClipRules
from zoompick.products.kinds.composite import CompositeRules
from zoompick.scenes import fetched as record
from zoompick.scenes import sources
from zoompick.scenes.scenelist import from_collection, read_list, to_collection, write_list
from zoompick.study.brief import SEVERAL, brief_text, read_brief
from zoompick.study.folder import Study
from zoompick.study.new import NewStudy, new_study
from zoompick.study.shortlist import BY_HAND, keep, undo

FILLED = brief_text(
    {
        ("study", "name"): "Fen",
        ("search", "source"): "ostrell",
        ("search", "collections"): ["lapwing-l2"],
        ("search", "dates"): ["2025-12", "2026"],
    }
)


def brief_of(tmp_path, text):
    path = tmp_path / "study.toml"
    path.write_text(text)
    return read_brief(path)


def test_the_template_is_a_valid_brief(tmp_path):
    brief = brief_of(tmp_path, FILLED)
    assert (brief.name, brief.source, brief.collections) == ("Fen", "ostrell", ("lapwing-l2",))
    assert [str(period) for period in brief.periods] == ["2025-12-01 to 2025-12-31", "2026-01-01 to 2026-12-31"]
    shades, cut = brief.one(CompositeRules), brief.one(ClipRules)
    assert (brief.crs, brief.pixel_m, shades.stretch, cut.touch) == (None, 8, "0.5,99.7", False)


def test_an_empty_brief_has_defaults(tmp_path):
    brief = brief_of(tmp_path, "")
    assert (brief.search.cloud_max, brief.cover, brief.periods, brief.bands) == (
        20,
        99,
        (),
        ("blue", "green", "red", "nir"),
    )


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("cloud = 20  ", "cloud = 150  ", r"line 14: \[search\] cloud = 150 .* between 0 and 100"),
        ("cloud = 20  ", 'cloud = "20"  ', "must be a number"),
        ("cloud = 20  ", "clouds = 20  ", r"line 14: \[search\] clouds is not known. Did you mean cloud"),
        ("[clip]", "[clips]", r"\[clips\] is not known. Did you mean clip"),
        ('["2025-12", "2026"]', '"2026/2025"', "end before they begin"),
        ('["2025-12", "2026"]', "7", "text or a list"),
        ("pixel_m = 8", "pixel_m = 0", "is in metres"),
        ("pixel_m = 8", "pixel_m = true", "must be a number"),
        ('crs = "auto"', 'crs = "moon"', "EPSG"),
        ("touch = false", 'touch = "no"', "true or false"),
        ("stretch = [0.5, 99.7]", "stretch = [98, 2]", "below the second"),
        ("stretch = [0.5, 99.7]", "stretch = [2]", "two percentiles"),
        ('["ndvi", "ndwi"]', '["ndvi", "ndvi"]', "twice"),
        ('["ndvi", "ndwi"]', '"ndvi"', "list of names"),
        ('"Fen"', "7", "text in quotes"),
        ("[grid]", "[grid", "cannot be read"),
    ],
)
def test_mistakes_in_the_brief_are_told_with_their_line(tmp_path, old, new, words):
    assert old in FILLED
    with pytest.raises(BriefError, match=words):
        brief_of(tmp_path, FILLED.replace(old, new))


def entry(number):
    item = {"id": f"s{number}", "properties": {"datetime": "2025-12-15T00:00:00Z"}, "assets": {}}
    return item | {"zoompick:pick": {"source": "a", "cover": 12.5}}


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ('[[blend]]\nby = "mean"\n\n[[blend]]\nname = "b"\nby = "men"', 6, "median, mean"),
        ("[[compare]]\nabve = 0", 2, "Did you mean above"),
        ('[[compare]]\nindex = "ndwi"', 1, "one of them"),
        ("[[compare]]\nabove = 0\nby = 1", 1, "one of them"),
        ('[[mosaic]]\nhide = ["clod"]', 2, "cloud"),
        ("[[mosaic]]\ngrow_m = -4", 2, "0 or more"),
        ('[mosaic]\nfeather_m = "x"', 2, "number"),
        ("mosaic = 3", 1, "must be a section"),
        ("[[blend]]\n[[blend]]", 0, "two products are called 'blend'"),
    ],
)
def test_sections_that_may_stand_several_times(tmp_path, text, line, words):
    (tmp_path / "study.toml").write_text(text)
    with pytest.raises(BriefError, match=words) as caught:
        read_brief(tmp_path / "study.toml")
    assert not line or f"line {line}:" in str(caught.value)


def test_several_products_of_one_kind(tmp_path):
    (tmp_path / "study.toml").write_text(
        '[[blend]]\n[[blend]]\nname = "max"\nby = "highest=ndvi"\n[mosaic]\norder = "oldest"'
    )
    found = [one for one in read_brief(tmp_path / "study.toml").sections if one.kind in SEVERAL]
    assert [(one.kind, one.name) for one in found] == [
        ("mosaic", "mosaic"),
        ("blend", "blend"),
        ("blend", "max"),
    ]
    told = (found[0].rules.order, found[1].rules.by, found[2].rules.by)
    assert told == ("oldest", "median", "highest=ndvi")


def test_lists_of_scenes_survive_the_disk(tmp_path):
    entries = from_collection({"features": [entry(1), entry(2)]}, "here")
    write_list(tmp_path / "list.json", entries)
    again = read_list(tmp_path / "list.json")
    assert to_collection(again) == to_collection(entries)
    assert (again[0].scene.source, again[0].cover_percent) == ("a", 12.5)
    assert read_list(tmp_path / "none.json") == []


def test_selecting_by_number_and_id():
    entries = from_collection({"features": [entry(n) for n in range(1, 12)]}, "here")
    assert [e.scene.id for e in select(entries, ["2", "s11"], "it")] == ["s2", "s11"]
    for word in ("0", "12"):
        with pytest.raises(UsageError, match="has 11 scenes"):
            select(entries, [word], "it")
    with pytest.raises(UnknownNameError, match="Did you mean"):
        select(entries, ["s99"], "it")


@pytest.mark.parametrize("value", [None, [], {"features": 3}, {"features": [7]}, {"features": [{"id": "x"}]}])
def test_what_is_no_list_of_scenes(value):
    with pytest.raises(DataError):
        from_collection(value, "standard input")


def test_the_journal_tells_how_each_act_ended(tmp_path):
    journal = tmp_path / "journal.jsonl"
    with act(journal, "first", count=3) as doing:
        doing.note(bytes=7)
    with pytest.raises(UsageError), act(journal, "second"):
        raise UsageError("It was wrong.", "Do better.")
    with pytest.raises(KeyboardInterrupt), act(journal, "third"):
        raise KeyboardInterrupt
    with act(None, "nowhere"):
        pass
    lines = [json.loads(line) for line in journal.read_text().splitlines()]
    assert [(line["act"], line["outcome"]) for line in lines] == [
        ("first", "done"),
        ("second", "failed"),
        ("third", "stopped"),
    ]
    assert (lines[0]["count"], lines[0]["bytes"], lines[1]["reason"]) == (3, 7, "It was wrong.")


def test_a_study_is_found_from_below_and_made_once(tmp_path):
    study = Study.create(tmp_path / "a", FILLED)
    below = study.products("2025-12-15")
    below.mkdir(parents=True)
    assert Study.find(below) == study
    assert Study.find(tmp_path) is None
    with pytest.raises(StudyError, match="There is no study"):
        Study.need(tmp_path)
    with pytest.raises(StudyError, match="is a study already"):
        Study.create(tmp_path / "a", FILLED)
    with pytest.raises(StudyError, match="no area yet"):
        study.area()
    (tmp_path / "file").write_text("")
    with pytest.raises(StudyError, match="is a file"):
        Study.create(tmp_path / "file", FILLED)


def test_two_processes_never_work_in_one_study(tmp_path):
    study = Study.create(tmp_path / "a", FILLED)
    code = "import pathlib\nfrom zoompick import files\n"
    code += f"with files.exclusive(pathlib.Path({str(study.root)!r})): print('in')"
    with study.locked():
        blocked = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        with pytest.raises(BusyError, match="Another zoompick"), files.exclusive(study.root):
            pass
    assert "BusyError" in blocked.stderr
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout == "in\n"


def test_leftovers_of_a_killed_run_are_swept(tmp_path):
    study = Study.create(tmp_path / "a", FILLED)
    part = study.root / "scenes" / ".x.tif.abc.part"
    part.parent.mkdir()
    part.write_bytes(b"half")
    with study.locked():
        assert not part.exists()


def test_writing_is_all_or_nothing(tmp_path):
    path = tmp_path / "new" / "a.txt"
    files.write_text(path, "one")
    with pytest.raises(RuntimeError), files.writing(path) as stream:
        stream.write(b"half of two")
        raise RuntimeError
    assert path.read_text() == "one"
    assert [p.name for p in path.parent.iterdir()] == ["a.txt"]
    assert path.stat().st_mode & 0o077 == 0o066 & ~umask() & 0o077


def umask():
    value = os.umask(0)
    os.umask(value)
    return value


@dataclasses.dataclass(frozen=True)
class Row:
    name: str
    count: int = 0
    share: float = 0.0
    note: str | None = None
    parts: tuple[str, ...] = ()


def test_a_row_of_json_is_held_against_its_fields():
    assert records.of_row(Row, {"name": "a", "share": 1, "parts": ["b"]}) == Row("a", share=1, parts=("b",))
    for row in ([], None, {}, {"name": None}, {"name": "a", "count": "3"}, {"name": "a", "more": 1},
                {"name": "a", "note": 1}, {"name": "a", "parts": "b"}, {"name": "a", "count": 1.5}):  # fmt: skip
        with pytest.raises(TypeError):
            records.of_row(Row, row)


@pytest.mark.parametrize(
    "text",
    ["[]", "null", "3", '{"a": []}', '{"a": {"band": "red"}}', '{"a": {"band": "b", "url": "u", "multihash": 7}}'],
)
def test_a_record_of_downloads_that_is_none_counts_as_nothing_here(tmp_path, text):
    (tmp_path / "downloads.json").write_text(text)
    assert record.read(tmp_path) == {}


@pytest.mark.parametrize("text", ["[]", "3", '{"a": {"url": null}}', '{"a": {"kind": "tiles"}}', '{"a": "u"}'])
def test_a_file_of_sources_that_holds_none_is_told(tmp_path, text):
    (tmp_path / "sources.json").write_text(text)
    with pytest.raises(DataError, match="does not hold sources"):
        sources.load(tmp_path / "sources.json")


def test_no_room_becomes_our_error(tmp_path):
    with pytest.raises(DiskError, match="no room left"), files.disk_errors(tmp_path):
        raise OSError(errno.ENOSPC, "No space left on device")
    with pytest.raises(DiskError, match="cannot be written"), files.disk_errors(tmp_path):
        raise PermissionError(errno.EACCES, "Permission denied")


@pytest.mark.parametrize("text", ["{", "\xff", ""])
def test_json_that_is_none(tmp_path, text):
    (tmp_path / "a.json").write_bytes(text.encode("latin-1"))
    with pytest.raises(DataError, match="not valid JSON"):
        files.read_json(tmp_path / "a.json")


@pytest.mark.parametrize(("count", "text"), [(0, "0 B"), (999, "999 B"), (31_810_714, "31.8 MB"), (2.5e12, "2.5 TB")])
def test_bytes_for_people(count, text):
    assert files.human_bytes(count) == text


def test_settings_come_from_file_and_environment(tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path))
    (tmp_path / "settings.toml").write_text("tile_px = 256\nretries = 9\n")
    monkeypatch.setenv("ZOOMPICK_RETRIES", "1")
    assert (settings.whole("tile_px"), settings.whole("retries"), settings.number("read_timeout_s")) == (
        256,
        1,
        120.0,
    )
    monkeypatch.setenv("ZOOMPICK_TILE_PX", "wide")
    with pytest.raises(UsageError, match=r"'wide' .from the environment., expected a whole number"):
        settings.whole("tile_px")


@pytest.mark.parametrize(
    ("pattern", "name"),
    [
        ("{date}", "2025-12-15"),
        ("{study}-{year}{month}{day}-{satellite}", "fen-20251215-lapwing-a"),
        ("{collection}-{version}-{level}", "lapwing-l2"),
        ("set", "set"),
    ],
)
def test_product_folders_are_named_by_a_pattern(pattern, name):
    fields = {"date": "2025-12-15", "year": "2025", "month": "12", "day": "15", "platform": "lapwing-a",
              "study": "fen", "collection": "lapwing-l2"}  # fmt: skip
    assert NamePattern.parse(pattern).filled(fields) == name


@pytest.mark.parametrize("pattern", ["", "{date", "da}te", "{when}"])
def test_a_pattern_that_cannot_be_is_refused(pattern):
    with pytest.raises(UsageError):
        NamePattern.parse(pattern)


def test_a_brief_names_the_field_that_does_not_exist(tmp_path):
    path = tmp_path / "study.toml"
    path.write_text('[products]\nfolder = "{dat}"\n')
    with pytest.raises(BriefError, match=r"line 2: .products. folder") as caught:
        read_brief(path)
    assert "Did you mean date or day?" in caught.value.todo


def test_undo_keeps_what_changed_and_leads_back_step_by_step(tmp_path):
    study = new_study(tmp_path / "fen", NewStudy("Fen", Area.from_box(-12.1, -38.7, -12, -38.6)))
    scenes = from_collection({"features": [entry(number) for number in range(30)]}, "here")
    steps = [scenes[:20], scenes[5:], [replace(scenes[7], tags=("good",)), *scenes[8:]], scenes[::-1], []]
    for entries in steps:
        keep(study, entries, BY_HAND)
    sizes = [path.stat().st_size for path in sorted(study.undo_folder.glob("*.json"))]
    assert sizes[3] < sizes[4] / 5, "another order keeps no scene again"
    for before in [*steps[:-1][::-1], []]:
        assert [(one.scene.id, one.tags) for one in undo(study)] == [(one.scene.id, one.tags) for one in before]
    with pytest.raises(NothingFoundError):
        undo(study)


def test_a_list_that_an_earlier_version_kept_whole_comes_back(tmp_path):
    study = new_study(tmp_path / "fen", NewStudy("Fen", Area.from_box(-12.1, -38.7, -12, -38.6)))
    one, two = (from_collection({"features": [entry(number)]}, "here") for number in (1, 2))
    keep(study, one, BY_HAND)
    (study.undo_folder / "shortlist-000002.json").write_text(json.dumps(to_collection(two)))
    assert [entry.scene.id for entry in undo(study)] == [two[0].scene.id]
