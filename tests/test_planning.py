"""Decisions before anything is done: the steps of a study, what a download takes, how many files at a time."""

from __future__ import annotations

import json
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest
import shapely

from zoompick.area.model import Area
from zoompick.errors import BriefError, DiskError, SourceError, UnknownNameError
from zoompick.events import Advanced
from zoompick.fetch import get, outlook
from zoompick.fetch.download import Limits, check_room, download
from zoompick.fetch.windows import Survey
from zoompick.files import human_time
from zoompick.geo.shapes import bounds_of, project
from zoompick.net.client import Client
from zoompick.products.kinds.index import IndexRules
from zoompick.products.kinds.mask import MaskRules
from zoompick.products.rules import Section
from zoompick.scenes.fetchplan import DownloadPlan, Fetch
from zoompick.scenes.scene import Scene
from zoompick.study import needs, plan
from zoompick.study.brief import Brief, read_brief
from zoompick.study.folder import Study

AREA = Area("fen", shapely.box(-12.08, -38.63, -12.04, -38.60))


def scene(name: str, day: str, platform: str = "lapwing-a", bands=("red", "nir"), **more) -> Scene:
    assets = {
        band: {"href": f"http://h/{name}/{band}.tif", "type": "image/tiff", "roles": ["data"], "file:size": 1000}
        for band in bands
    }
    item = {"type": "Feature", "id": name, "collection": "lapwing-l2", "links": [], "assets": assets,
            "geometry": shapely.geometry.mapping(AREA.polygon),
            "properties": {"datetime": f"{day}T11:00:00Z", "platform": platform} | more}  # fmt: skip
    return Scene.from_item(item, "ostrell")


@pytest.fixture
def brief(tmp_path) -> Brief:
    path = tmp_path / "study.toml"
    path.write_text("")
    found = replace(read_brief(path), bands=("red", "nir"), name="study")
    return found.changed(IndexRules(("ndvi",)))


SCENES = [scene("late", "2026-01-05"), scene("west", "2025-12-15"), scene("east", "2025-12-15", "lapwing-b")]

# A study


def test_steps_follow_from_brief_and_shortlist(tmp_path, brief):
    """All stacks, then clip before index day by day; scenes of a day fill each other's gaps in the order given."""
    study = Study(tmp_path)
    decided = plan.plan_study(study, brief, AREA, SCENES)
    assert list(decided.days) == ["2025-12-15", "2026-01-05"]
    assert [step.name for step in decided.steps] == ["stack"] * 2 + ["clip", "index"] * 2
    first, second = plan.plan_study(study, brief, AREA, SCENES, "stack").steps
    assert (first, second) == decided.steps[:2]
    assert [path.parent.name for path in first.inputs] == ["west", "west", "east", "east"]
    assert [path.name for path in first.inputs] == ["red.tif", "nir.tif"] * 2
    made: set[Path] = set()
    for step in decided.steps:
        assert all(path in made or "scenes" in path.parts for path in step.inputs)
        made.add(step.output)
    assert len(made) == len(decided.steps)


def test_a_mask_over_classes_needs_scenes_with_a_class_layer(tmp_path, brief):
    """Told with its line before anything is fetched; a rule over bands alone, or a guess, needs none."""
    for where, lacks in (("cloud or outside", True), ("red > 0.3", False), ("bright_cloud or outside", False)):
        wish = replace(brief, sections=(*brief.sections, Section("m", MaskRules(where), {"where": 7})))
        if lacks:
            with pytest.raises(BriefError, match=r"line 7: .* needs a class layer that tells cloud.* have none"):
                plan.plan_study(Study(tmp_path), wish, AREA, SCENES)
        else:
            steps = plan.plan_study(Study(tmp_path), wish, AREA, SCENES).steps
            assert sum(step.name == "mask" for step in steps) == 2


def test_the_study_grid_holds_the_area_and_lies_on_round_numbers(brief):
    grid = needs.study_grid(brief, AREA)
    box = bounds_of(project(AREA.polygon, grid.crs))
    assert grid.crs.epsg == 32728 and grid.pixel_x == 8
    # A thousandth of a pixel beyond a line does not open a new row.
    assert -0.008 <= box.west - grid.west < 8 and -0.008 <= grid.north - box.north < 8
    assert (grid.west % 8, grid.north % 8) == (0, 0)
    degrees = needs.study_grid(replace(brief, crs=type(grid.crs)(4326)), AREA)
    assert degrees.pixel_x == pytest.approx(8 / 111_320) and degrees.crs.is_geographic


def test_recipes_need_their_bands(tmp_path, brief):
    study = Study(tmp_path)
    with pytest.raises(BriefError, match=r"ndvi needs the band nir"):
        plan.plan_study(study, replace(brief, bands=("red",)), AREA, [])
    with pytest.raises(UnknownNameError, match="ndvy"):
        plan.plan_study(study, brief.changed(IndexRules(("ndvy",))), AREA, [])
    assert plan.plan_study(study, brief, AREA, []).steps == ()


def test_folders_of_days_never_meet(brief):
    named = replace(brief, folder=type(brief.folder).parse("{satellite} {year}"))
    days = plan.by_day([*SCENES, scene("more", "2026-03-01")])
    names = plan.folder_names(named, AREA, days)
    assert len(set(names)) == len(names) == 3
    assert names[0].startswith("lapwing-a") and names[0].endswith("2025")


# A download


def wanted(scenes, bands, folder=Path("f"), **more):
    return needs.plan_for(scenes, bands, {entry.key: folder / entry.id for entry in scenes}, **more)


def test_bands_are_named_checked_and_told_where_they_lack():
    decided = wanted(SCENES, ("red", "swir16"))
    assert [entry.path for entry in decided.fetch] == [Path("f") / s.id / "red.tif" for s in SCENES]
    assert decided.lacking == tuple((entry.id, "swir16") for entry in SCENES)
    assert {entry.band for entry in wanted(SCENES, ()).fetch} == {"red", "nir"}
    with pytest.raises(UnknownNameError, match="Did you mean red"):
        wanted(SCENES, ("rad",))
    assert needs.with_classes(("red",), SCENES) == ["red"]


def test_what_is_sold_is_put_aside_and_priced(tmp_path):
    sold = scene("sold", "2026-02-01", **{"x:price_km2": 2.0, "x:currency": "crowns"})
    decided = wanted([SCENES[0], sold], ("red",), tmp_path, area=AREA.polygon)
    assert [entry.scene for entry in decided.fetch] == ["late"] and decided.on_order == (("sold", "priced"),)
    ready = get.Ready(Survey(decided, {}, {}), Limits(4, {}), Client())
    journal = tmp_path / "journal.jsonl"
    lines = [{"act": "download", "source": "ostrell", "bytes": 2_000_000, "seconds": 4}] * 3
    lines += [{"act": "download", "source": "other", "bytes": 9_000_000, "seconds": 1}]
    lines += [{"act": "download", "source": "ostrell", "bytes": 10, "seconds": 90}, {"act": "search", "seconds": 1}]
    journal.write_text("".join(json.dumps(line) + "\n" for line in lines))
    told = outlook.outlook(ready, [SCENES[0], sold], AREA.polygon, journal)
    assert (told.files, told.total_bytes) == (1, 1000) and told.seconds == pytest.approx(1000 / 500_000)
    [price] = told.prices
    assert price.amount == pytest.approx(2 * told.bought_km2) and told.bought_km2 == pytest.approx(11.6, abs=0.1)
    assert "To fetch: 1 file, 1.0 kB; 1 s at the rate" in told.words() and "To be bought: 23" in told.words()
    assert told.to_json()["price"] == {"amount": round(price.amount, 2), "currency": "crowns"}


def fetches(count: int, collection: str, folder: Path, size: int | None = 10) -> tuple[Fetch, ...]:
    return tuple(
        Fetch("s", f"b{n}", f"http://h/{collection}/{n}", folder / f"{collection}-{n}", size, None, collection)
        for n in range(count)
    )


def test_no_collection_is_asked_for_more_files_at_a_time_than_it_allows(tmp_path):
    """Each has its own limit, and one does not wait for another."""
    now, most, lock = {"slow": 0, "free": 0}, {"slow": 0, "free": 0}, threading.Lock()
    together = threading.Event()

    def one(entry, client, told):
        with lock:
            now[entry.collection] += 1
            most[entry.collection] = max(most[entry.collection], now[entry.collection])
            if all(now.values()):
                together.set()
        time.sleep(0.02)
        with lock:
            now[entry.collection] -= 1
        told(Advanced("x", 5))
        return 5

    entries = fetches(6, "slow", tmp_path) + fetches(12, "free", tmp_path)
    events = []
    outcome = download(DownloadPlan(entries, (), ()), Client(), one, Limits(3, {"slow": 1}), events.append)
    assert most["slow"] == 1 and 1 < most["free"] <= 3 and together.is_set()
    assert (len(outcome.done), outcome.received_bytes) == (18, 90)
    assert sum(e.amount for e in events if isinstance(e, Advanced) and e.task == "download") == 90
    assert Limits(4, {"c": 9, "d": 0}).of("c") == 4 and Limits(4, {"d": 0}).of("d") == 1


def test_failures_are_gathered_and_a_full_disk_ends_it(tmp_path):
    def one(entry, client, told):
        if entry.band == "b1":
            raise SourceError("gone", "")
        if entry.band == "b3":
            raise DiskError("full", "")
        return 1

    entries = fetches(3, "c", tmp_path)
    outcome = download(DownloadPlan(entries, (), ()), Client(), one, Limits(2, {}))
    assert [entry.band for entry, _ in outcome.failed] == ["b1"] and len(outcome.done) == 2
    decided = DownloadPlan(entries, (), (("s", "swir"),), (("x", "ask"),))
    assert "2 of 3 files are here; s, b1: gone" in get.incomplete(decided, outcome).what
    assert get.failures(outcome) == [("", "", "", "b1: gone")]
    good = replace(outcome, failed=())
    assert "x is given on request" in get.incomplete(decided, good).what
    assert "without the band swir" in get.incomplete(replace(decided, on_order=()), good).what
    assert get.incomplete(replace(decided, on_order=(), lacking=()), good) is None
    with pytest.raises(DiskError, match="full"):
        download(DownloadPlan(fetches(4, "c", tmp_path), (), ()), Client(), one, Limits(1, {}))


def test_room_counts_what_is_here_already(tmp_path):
    [entry] = fetches(1, "c", tmp_path / "not" / "yet", 10**17)
    with pytest.raises(DiskError, match=r"needs 100000.0 TB, but only"):
        check_room(DownloadPlan((entry,), (), ()))
    check_room(DownloadPlan((replace(entry, under_way=10**17 - 5),), (), ()))
    check_room(DownloadPlan((), (entry,), ()))


@pytest.mark.parametrize(
    ("seconds", "text"), [(0.2, "1 s"), (89, "89 s"), (90, "2 min"), (3600, "60 min"), (12_000, "3 h 20 min")]
)
def test_times_for_people(seconds, text):
    assert human_time(seconds) == text
