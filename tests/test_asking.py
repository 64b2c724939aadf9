"""How people ask: dates, rules, lists that have grown old, clouds that nobody told, orders of lists."""

from __future__ import annotations

import json
from datetime import datetime

import pytest

from helpers import FEN
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.rules import select
from zoompick.errors import NothingFoundError, UnknownNameError, UsageError
from zoompick.scenes.period import Period
from zoompick.scenes.scene import Scene
from zoompick.scenes.scenelist import Entry


def scene(name, when="2025-06-15T11:00:00Z", end=None, **more):
    properties = {"datetime": None if end else when, "platform": "lapwing-a", "eo:cloud_cover": 10.0} | more
    properties |= {"start_datetime": when, "end_datetime": end} if end else {}
    item = {"id": name, "collection": "c", "geometry": FEN, "properties": properties, "assets": {}}
    return Scene.from_item(item, "s")


@pytest.mark.parametrize(
    ("text", "inside", "outside"),
    [
        ("2023-06", ["2023-06-30T23:59:59.25Z", "2023-06-01T00:00:00Z"], ["2023-07-01T00:00:00Z"]),
        ("2023-06-05", ["2023-06-05T23:59:59.999999Z"], ["2023-06-06T00:00:00Z", "2023-06-04T23:59:59.9Z"]),
        ("2025-W51", ["2025-12-15T00:00:00Z", "2025-12-21T23:59:59.5Z"], ["2025-12-14T23:59:59Z"]),
        ("2025-06-01 +8 days", ["2025-06-08T23:59:59Z"], ["2025-06-09T00:00:00Z", "2025-05-31T12:00:00Z"]),
        ("2025-06-01/P8D", ["2025-06-08T23:59:59Z"], ["2025-06-09T00:00:00Z"]),
        ("2025-06-01T12:00:00", ["2025-06-01T12:00:00.7Z"], ["2025-06-01T12:00:01Z"]),
        ("../2023", ["1985-01-01T00:00:00Z"], ["2024-01-01T00:00:00Z"]),
    ],
)
def test_periods_hold_their_last_second(text, inside, outside):
    period = Period.parse(text)
    assert all(period.holds(datetime.fromisoformat(moment)) for moment in inside)
    assert not any(period.holds(datetime.fromisoformat(moment)) for moment in outside)
    start, end = period.interval.split("/")
    for moment in inside:
        told = datetime.fromisoformat(moment)
        assert start == ".." or datetime.fromisoformat(start) <= told
        assert end == ".." or told <= datetime.fromisoformat(end)


def test_days_of_a_month_are_periods_of_their_own():
    assert [str(p) for p in Criteria(periods="2025-06-1,9,17").periods] == [
        f"2025-06-{day:02d} to 2025-06-{day:02d}" for day in (1, 9, 17)]  # fmt: skip


@pytest.mark.parametrize(
    "text", ["2025-W60", "9999-12-31 +8 days", "0001-01-01 +-9 days", "last 9999 years", "2025-06-31"]
)
def test_dates_that_cannot_be(text):
    with pytest.raises(UsageError):
        Period.parse(text)


def test_scenes_with_a_span_match_by_overlap():
    composite = scene("x", "2025-05-28T00:00:00Z", "2025-06-04T23:59:59Z")
    for text, fits in (("2025-06", True), ("2025-05", True), ("2025-06-05", False), ("2025-06-04", True)):
        assert Criteria(periods=text).fits(composite) is fits
    assert Criteria(season="jun").fits(composite) and not Criteria(season="jul").fits(composite)
    assert composite.days == "2025-05-28 to 2025-06-04"
    assert composite.item["properties"]["datetime"] is None


ENTRIES = [
    Entry(scene("a", "2024-11-30T23:00:00Z", **{"eo:cloud_cover": 3.0, "grid:code": "OST-1"}), 90.0),
    Entry(scene("b", "2024-12-01T11:30:00Z", **{"eo:cloud_cover": None, "grid:code": "OST-2"}), 50.0, tags=("good",)),
    Entry(scene("c", "2025-01-05T09:15:00Z", **{"eo:cloud_cover": 40.0, "platform": "Lapwing-B"}), 99.5, 2.0),
    Entry(scene("4", "2025-02-01T10:00:00Z", **{"eo:cloud_cover": 0.0}), 10.0),
]


@pytest.mark.parametrize(
    ("words", "chosen"),
    [
        (["date>2024-11"], "bc4"), (["date>=2024-11"], "abc4"), (["date<2024-12"], "a"), (["date<=2024-12"], "ab"),
        (["date=2024-12"], "b"), (["date=2024-W48"], "ab"), (["date!=2025"], "ab"), (["date>2024-11-30"], "bc4"),
        (["cloud<=3"], "a4"), (["cloud<=3", "cover>=50"], "a"), (["1-3", "cloud<=3"], "a"), (["c", "4"], "c4"),
        (["cloud<=3 or cover>=99"], "ac4"), (["tile=1 or tile=2"], "ab"), (["tile=1|tag=good"], "ab"),
        (["satellite=lapwing-b"], "c"), (["platform=lapwing-*"], "abc4"), (["platform!=lapwing-a"], "c"),
        (["in-area<5"], "c"), (["time>=11:00"], "ab"), (["id=a"], "a"), (["source=s"], "abc4"),
        (["cloud < 1 %"], "4"),
        (["2"], "b"), (["a", "date>2000"], "a"), (["4"], "4"),
    ],
)  # fmt: skip
def test_numbers_and_ids_name_and_rules_narrow(words, chosen):
    assert "".join(entry.scene.id for entry in select(ENTRIES, words, "the list")) == chosen


@pytest.mark.parametrize(
    ("words", "error", "said"),
    [
        (["clowd<5"], UnknownNameError, "Did you mean cloud"), (["date>soon"], UsageError, "cannot be read"),
        (["cloud<few"], UsageError, "is no number"), (["1", "cloud>50"], NothingFoundError, "among those named"),
        (["5-2"], UsageError, "runs backwards"), (["nobody"], UnknownNameError, "no scene"),
        (["99999999999999999999"], UsageError, "no number"), (["cloud<1 or x=2"], UnknownNameError, "field"),
    ],
)  # fmt: skip
def test_rules_that_cannot_be(words, error, said):
    with pytest.raises(error, match=said):
        select(ENTRIES, words, "the list")


def test_clouds_that_nobody_told():
    told, untold = scene("a"), scene("b", **{"eo:cloud_cover": None})
    strict, lenient = Criteria(cloud_max=20), Criteria(cloud_max=20, unknown_cloud="keep")
    assert strict.fits(told) and not strict.fits(untold) and strict.fails_untold(untold)
    assert lenient.fits(untold) and not lenient.fails_untold(untold)
    assert strict.limits() and not lenient.limits()
    assert not Criteria(cloud_max=5).fails_untold(told)
    with pytest.raises(UsageError, match="There is drop, keep"):
        Criteria(unknown_cloud="perhaps")


def test_order_and_length_of_a_list(study, program):
    words = ("search", "--json", "--dates", "2025-12", "--cloud", "100")

    def rows(*more):
        found = program(*words, *more, cwd=study).json["features"]
        return [(row["properties"]["datetime"], row["properties"]["eo:cloud_cover"], row["id"]) for row in found]

    newest = rows()
    times = [row[0] for row in newest]
    assert times == sorted(times, reverse=True) and len(times) > 6
    assert [row[0] for row in rows("--sort", "oldest")] == sorted(times)
    clouds = [row[1] for row in rows("--sort", "clearest")]
    assert clouds == sorted(clouds)
    assert rows("--limit", "3") == newest[:3]
    one = newest[4][2]
    assert [row[2] for row in rows("--id", one)] == [one]
    refused = program(*words, "--sort", "size", cwd=study)
    assert refused.code == 2 and "There is no order" in refused.err


def test_an_old_list_is_not_picked_from_by_number(study, program, archive):
    assert program("search", "--dates", "2025-12", cwd=study).code == 0
    assert program("pick", "1", cwd=study).code == 0
    failed = program("search", "--dates", "1990", cwd=study)
    assert failed.code == 3
    for words in (("pick", "1"), ("scene", "1")):
        refused = program(*words, cwd=study)
        assert refused.code == 2 and "did not end well" in refused.err
    assert program("pick", "cloud<=10", cwd=study).code == 0
    assert program("search", "--dates", "2025-12", cwd=study).code == 0
    assert program("pick", "1", cwd=study).code == 0
    assert program("area", "--box", -12.07, -38.62, -12.05, -38.61, cwd=study).code == 0
    assert "the area has changed" in program("pick", "1", cwd=study).err
    assert program("search", "--dates", "2025-12", cwd=study).code == 0
    assert (
        program("source", "add", "ostrell", archive.replace("127.0.0.1", "localhost"), "--here", cwd=study).code == 0
    )
    assert "ostrell has moved" in " ".join(program("pick", "1", cwd=study).err.split())


def test_a_shortlist_moves_with_its_source(study, program, archive):
    assert program("search", "--dates", "2025-12-15", cwd=study).code == 0
    assert program("pick", "1", cwd=study).code == 0
    moved = archive.replace("127.0.0.1", "localhost")
    assert program("source", "add", "ostrell", moved, "--here", cwd=study).code == 0
    listed = json.dumps(program("pick", "list", "--json", cwd=study).json)
    assert moved in listed and archive not in listed
    assert program("download", "--bands", "red", "--window", cwd=study).code == 0
