"""The search: dates and filters, several sources, footprint files and their index, static catalogs, cloud inside."""

from __future__ import annotations

import csv
import inspect
import io
import json
import threading
from datetime import UTC, datetime
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer

import numpy as np
import pytest
import shapely

from helpers import FEN
from zoompick.cli.search import search as search_command
from zoompick.discovery import clouds, find, footprints, geoparquet, index
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.filters import BY_RULE, ROWS
from zoompick.discovery.footprintfile import FootprintFile
from zoompick.discovery.passes import next_passes
from zoompick.discovery.rules import select
from zoompick.errors import FormatError, NothingFoundError, SourceError, UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import polygon_of
from zoompick.net.client import Client
from zoompick.net.ranges import Cost, RemoteFile
from zoompick.net.refusals import UnreachableError
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.scenes.period import Hours, Period, Season
from zoompick.scenes.scene import Scene
from zoompick.scenes.scenelist import Entry
from zoompick.scenes.source import Source
from zoompick.scenes.sources import checked
from zoompick.standin import passes
from zoompick.standin.catalogue import instruments
from zoompick.standin.store import Store
from zoompick.study.brief import read_brief

AREA = polygon_of(FEN)
NOW = datetime(2026, 3, 10, 15, tzinfo=UTC)


@pytest.mark.parametrize(
    ("text", "start", "end"),
    [
        ("last 30 days", "2026-02-08", "2026-03-10"),
        ("last 2 weeks", "2026-02-24", "2026-03-10"),
        ("2025-12-15 +-10 days", "2025-12-05", "2025-12-25"),
        ("2025-12-15 ± 1d", "2025-12-14", "2025-12-16"),
    ],
)
def test_dates_from_now_and_around_a_day(text, start, end):
    period = Period.parse(text, NOW)
    assert (period.start.strftime("%Y-%m-%d"), period.end.strftime("%Y-%m-%d")) == (start, end)


def test_seasons_and_hours_go_over_their_ends():
    months = [month for month in range(1, 13) if Season.parse("nov-feb").holds(datetime(2025, month, 5, tzinfo=UTC))]
    assert months == [1, 2, 11, 12]
    assert Season.parse("3") == Season(3, 3)
    night = Hours.parse("22:30-2")
    assert [h for h in range(24) if night.holds(datetime(2025, 1, 1, h, 40, tzinfo=UTC))] == [0, 1, 22, 23]
    for wrong in ("13-2", "abc", "1-2-3", ""):
        with pytest.raises(UsageError):
            Season.parse(wrong)
    with pytest.raises(UsageError):
        Hours.parse("25-26")


def scene(number: int = 1, **told) -> Scene:
    properties = {"datetime": "2025-12-15T11:17:24Z", "platform": "lapwing-a", "instruments": ["imager"],
                  "eo:cloud_cover": 12, "view:sun_elevation": 60, "view:off_nadir": 4, "gsd": 8,
                  "processing:level": "L2", "created": "2025-12-16T00:00:00Z"} | told  # fmt: skip
    asset = {"href": "http://x.test/red.tif", "type": "image/tiff", "roles": ["data"]}
    return Scene.from_item({"id": f"s{number}", "collection": "c", "properties": properties, "geometry": FEN,
                            "assets": {"red": asset}})  # fmt: skip


@pytest.mark.parametrize(
    ("wish", "passes_it", "told"),
    [
        ({"cloud_max": 12}, {"cloud_max": 11}, "clearest has 12: s1"),
        ({"cloud_land_max": 50}, {"cloud_land_max": 40}, "clearest has 44"),
        ({"sun_min_deg": 60}, {"sun_min_deg": 61}, "highest has 60"),
        ({"off_nadir_max_deg": 4}, {"off_nadir_max_deg": 3}, "nearest has 4"),
        ({"pixel_max_m": 8}, {"pixel_max_m": 7}, "finest has 8"),
        ({"platforms": ("LAPWING-A",)}, {"platforms": ("b",)}, "they are of platform lapwing-a"),
        ({"instruments": ("imager",)}, {"instruments": ("radar",)}, "they are of instrument imager"),
        ({"levels": ("L2",)}, {"levels": ("L1",)}, "they are of level L2"),
        ({"access": ("priced",)}, {"access": ("open",)}, "they are of access priced"),
        ({"bands": ("red",)}, {"bands": ("red", "nir")}, "none has nir"),
        ({"season": Season(12, 2)}, {"season": Season(6, 8)}, "they are from 2025-12-15"),
        ({"hours": Hours(11, 12)}, {"hours": Hours(1, 2)}, "between 11:17 and 11:17"),
        (
            {"published": (Period.parse("2025-12-16"),)},
            {"published": (Period.parse("2024"),)},
            "Leave `published` out",
        ),
    ],
)
def test_each_filter_passes_and_explains(wish, passes_it, told):
    one = scene(**{"x:cloud_cover_land": 44, "x:price_km2": 3.5})
    assert Criteria(AREA, **wish).fits(one)
    failing = Criteria(AREA, **passes_it)
    assert not failing.fits(one)
    assert told in str(find.explain.nothing_found(failing, [one], []))
    assert failing.in_force()


@pytest.mark.parametrize(
    ("field", "value", "words"),
    [
        ("cloud_max", 2000, "not between 0 and 100"), ("cloud_max", "20", "must be a number"),
        ("cloud_land_max", float("nan"), "not between"), ("cover_min", True, "must be a number"),
        ("sun_min_deg", float("inf"), "no number"), ("pixel_max_m", 0, "not above 0"),
        ("bands", ("red", "red"), "named twice"), ("access", ("free",), "access"),
        ("periods", ("2025-13",), "2025-13"), ("season", "winter", "winter"),
        ("versions", "oldest", "versions"), ("collections", 7, "list of names"),
    ],
)  # fmt: skip
def test_criteria_check_themselves(field, value, words):
    with pytest.raises(UsageError, match=words) as refused:
        Criteria(AREA, **{field: value})
    assert refused.value.what.startswith(f"{field} = {value!r} cannot be used.")


def test_texts_are_read_and_never_become_letters():
    wish = Criteria(AREA, "lapwing-l2", "2025-12", season="dec-feb", bands="red,nir", platforms=["a"])
    assert (wish.collections, wish.bands, wish.platforms) == (("lapwing-l2",), ("red", "nir"), ("a",))
    assert wish.season == Season(12, 2) and wish == Criteria(AREA, ("lapwing-l2",), (Period.parse("2025-12"),),
                                                             season=Season(12, 2), bands=("red", "nir"),
                                                             platforms=("a",))  # fmt: skip


def test_every_filter_of_the_table_reaches_options_brief_rules_and_queries(tmp_path):
    """A row is enough: nothing else names filters."""
    options = inspect.signature(search_command).parameters
    assert {row.field for row in ROWS if row.option} <= set(options)
    values = {"dates": "2025", "cloud": 30, "season": "dec-feb", "hours": "9-12", "published": "2025", "has": ["red"],
              "collections": ["c"], "platforms": ["p"], "instruments": ["i"], "levels": ["l"], "access": ["open"],
              "versions": "all", "cover_min": 5, "cloud_area": 5, "cloud_land": 5, "sun": 5, "off_nadir": 5,
              "pixel_max": 5, "unknown_cloud": "drop", "sort": "oldest", "limit": 7}  # fmt: skip
    assert set(values) == {row.key for row in ROWS if row.key}
    lines = [f"{key} = {json.dumps(value)}" for key, value in values.items()]
    (tmp_path / "study.toml").write_text("\n".join(["[search]", *lines]))
    wish = read_brief(tmp_path / "study.toml").search
    assert all(getattr(wish, row.field) not in (None, (), 0) for row in ROWS if row.key)
    assert {name for name, _, _ in wish.limits()} == {"eo:cloud_cover", "view:sun_elevation", "view:off_nadir", "gsd"}
    rules = [rule for rule, row in BY_RULE.items() if row.is_number and rule != "size"]
    entry = Entry(scene(**{"x:cloud_cover_land": 44}), 50, 3)
    assert all(select([entry], [f"{rule}>=0"], "it") == [entry] for rule in rules)
    with pytest.raises(NothingFoundError, match="cloud-land<10"):
        select([entry], ["cloud-land<10"], "it")
    assert select([entry], ["instrument=IMAGER"], "it") == [entry]


def test_a_scene_that_does_not_tell_passes_no_limit():
    silent = Scene.from_item({"id": "x", "properties": {"datetime": "2025-01-01T00:00:00Z", "eo:cloud_cover": "few"},
                              "bbox": [-12.1, -38.7, 0, -12, -38.6, 90], "geometry": None})  # fmt: skip
    assert silent.cloud_percent is None and silent.footprint.bounds == (-12.1, -38.7, -12, -38.6)
    for wish in ({"cloud_max": 100}, {"sun_min_deg": 0}, {"platforms": ("a",)}, {"published": (Period(None, None),)}):
        assert not Criteria(AREA, **wish).fits(silent)


def items(count: int, seed: int = 3) -> list[dict]:
    rng = np.random.default_rng(seed)
    found = []
    for number in range(count):
        lon, lat = rng.uniform(-14, -10), rng.uniform(-40, -37)
        turn = rng.uniform(0, 1.5)
        corners = [(lon + 0.1 * np.cos(turn + a), lat + 0.1 * np.sin(turn + a)) for a in np.arange(5) * np.pi / 2]
        when = datetime.fromtimestamp(1.7e9 + rng.uniform(0, 6e7), UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        properties = {"datetime": when, "eo:cloud_cover": round(float(rng.uniform(0, 100)), 1), "platform": "p"}
        ring = [[round(x, 7), round(y, 7)] for x, y in corners]
        found.append({"id": f"f{number}", "collection": "many", "properties": properties, "assets": {},
                      "geometry": {"type": "Polygon", "coordinates": [[*ring[:4], ring[0]]]}})  # fmt: skip
    return found


def test_the_index_gives_the_hits_of_a_brute_force_scan(tmp_path):
    given = items(3000)
    target = tmp_path / "many.sqlite"
    assert index.build(target, given) == 3000
    found = index.FootprintIndex(target)
    area, period = shapely.box(-12.4, -38.9, -11.7, -38.2), Period.parse("2024-03/2024-09")
    criteria = Criteria(area, periods=(period,), cloud_max=30)
    brute = {i["id"] for i in given if criteria.fits(s := Scene.from_item(i)) and s.footprint.intersects(area)}
    begins, ends = int(period.start.timestamp()), int(period.end.timestamp())
    back = list(found.items([Bounds(*area.bounds)], begins, ends, 30))
    exact = {item["id"] for item in back if polygon_of(item["geometry"]).intersects(area)}
    assert exact == brute and len(brute) > 5
    by_id = {item["id"]: item for item in given}
    for item in back:
        assert item["properties"] == by_id[item["id"]]["properties"]
        np.testing.assert_allclose(
            item["geometry"]["coordinates"], by_id[item["id"]]["geometry"]["coordinates"], atol=1e-7
        )


def test_footprint_files_of_any_maker_are_sources(tmp_path, program):
    rows = [{"type": "Feature", "properties": {"Scene_ID": f"t{n}", "Acq_Date": f"2025-12-1{n}", "CloudCover": 10 * n,
             "path": f"t{n}.tif"}, "geometry": FEN} for n in range(4)]  # fmt: skip
    (tmp_path / "tiles.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": rows}))
    assert program("source", "add", "tiles", "tiles.geojson").code == 0
    box = ["--box", "-12.07", "-38.62", "-12.05", "-38.61"]
    found = program("search", "--source", "tiles", *box, "--cloud", "20", "--format", "csv")
    table = list(csv.DictReader(io.StringIO(found.out)))
    assert [row["id"] for row in table] == ["t2", "t1", "t0"]
    assert [float(row["cloud_percent"]) for row in table] == [20, 10, 0]
    reader = FootprintFile(Source("tiles", str(tmp_path / "tiles.geojson"), "footprints"), open)
    assert [c["id"] for c in reader.collections()] == ["tiles"]
    (tmp_path / "tiles.geojson").unlink()
    assert program("search", "--source", "tiles", *box).code == 1
    with pytest.raises(FormatError):
        list(footprints.items_of(tmp_path / "none.shp", "x"))


def test_geoparquet_keeps_the_items(tmp_path):
    given = items(5)
    geoparquet.write(given, tmp_path / "a.parquet")
    back = list(footprints.items_of(tmp_path / "a.parquet", "x"))
    assert [(b["id"], b["collection"], b["properties"]) for b in back] == [
        (g["id"], "many", g["properties"]) for g in given
    ]


@pytest.fixture
def static(tmp_path):
    """A static catalog on a server of its own: two collections, one far away, a link to another host."""

    def write(name, value):
        (tmp_path / name).write_text(json.dumps(value))

    def child(rel, href):
        return {"rel": rel, "href": href}

    write("catalog.json", {"type": "Catalog", "id": "root", "links": [
        child("child", "near.json"), child("child", "far.json"), child("child", "http://other.test/x.json"),
        child("child", "catalog.json")]})  # fmt: skip
    for name, box in (("near", [-12.2, -38.7, -11.9, -38.5]), ("far", [10, 10, 11, 11])):
        write(f"{name}.json", {"type": "Collection", "id": name, "extent": {"spatial": {"bbox": [box]}},
                               "links": [child("item", f"{name}-1.json")]})  # fmt: skip
    item = {"type": "Feature", "id": "one", "collection": "near", "geometry": FEN, "links": [],
            "properties": {"datetime": "2025-12-15T11:00:00Z"}, "assets": {}}  # fmt: skip
    write("near-1.json", item)
    handler = partial(SimpleHTTPRequestHandler, directory=tmp_path)
    handler.log_message = lambda *words: None
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/catalog.json"
    server.shutdown()


def test_a_static_catalog_is_crawled_within_its_host(static):
    notes = []
    source = checked("s", static)
    assert source.kind == "stac-catalog"
    found = find.search_all([source], Criteria(AREA), notes.append)
    assert [entry.scene.id for entry in found.entries] == ["one"]
    assert any("other hosts" in getattr(note, "text", "") for note in notes)
    # The far collection's item does not exist: it would fail if the extent had not ruled it out.


def test_several_sources_are_merged_and_one_that_fails_keeps_the_rest(archive, static):
    criteria = Criteria(AREA, periods=(Period.parse("2025-12-15"),))
    alone = find.search(Source("ostrell", archive), criteria)
    sources = [Source("ostrell", archive), checked("s", static), Source("gone", "http://127.0.0.1:9")]
    together = find.search_all(sources, criteria)
    assert {e.scene.id for e in together.entries} == {"one", *(e.scene.id for e in alone)}
    assert [type(problem) for problem in together.problems] == [UnreachableError]
    with pytest.raises(SourceError, match="cannot be reached"):
        find.search_all([sources[2]], criteria)


def test_of_reprocessed_twins_the_newest_unless_both_are_asked_for(archive):
    changed = datetime(2025, 10, 1, tzinfo=UTC)
    twins = [s for s in passes.scenes() if s.baseline == "02" and s.seen.when < changed]
    day = Period.parse(twins[0].seen.when.strftime("%Y-%m-%d"))
    area = twins[0].footprint.buffer(-0.01)
    one = find.search(Source("o", archive), Criteria(area, periods=(day,)))
    both = find.search(Source("o", archive), Criteria(area, periods=(day,), versions="all"))
    extra = {e.scene.id for e in both} - {e.scene.id for e in one}
    assert len(extra) == 1 and next(iter(extra)).endswith("b01")


def test_cloud_inside_the_area_costs_few_bytes_and_is_right(archive, shared_cache):
    days = Period.parse("2025-12-15"), Period.parse("2025-12-31")
    criteria = Criteria(AREA, ("lapwing-l2",), days, look_inside=True)
    entries = find.search(Source("o", archive), criteria)
    store = Store(shared_cache)
    for entry in entries[:6]:
        made = passes.by_id()[entry.scene.id]
        path, _ = store.file(instruments()["lapwing-l2"], made, f"{made.id}-classes.tif")
        raster = open_raster(path)
        polygon = find.clouds.project(AREA, raster.grid.crs)
        pixels = raster.read(raster.grid.window)[0]
        mask = PolygonMask(polygon, raster.grid).read(raster.grid.window) & (pixels > 0)
        exact = 100 * np.isin(pixels[mask], (4, 5)).mean() if mask.any() else None
        assert (entry.cloud_area_percent is None) == (exact is None)
        if exact is not None and mask.sum() > 2000:
            assert entry.cloud_area_percent == pytest.approx(exact, abs=2)
    looked = clouds.look_inside([e.scene for e in entries], AREA, Client())
    assert looked.requests <= 3 * len(entries)
    assert looked.received_bytes <= 64_000 * len(entries)
    limit = Criteria(AREA, ("lapwing-l2",), periods=(Period.parse("2025-12-31"),), cloud_area_max=0.001)
    with pytest.raises(NothingFoundError, match="were looked into; 0 have at most"):
        find.search(Source("o", archive), limit)


def test_remote_files_are_read_by_ranges(archive, shared_cache):
    made = passes.scenes()[40]
    path, _ = Store(shared_cache).file(instruments()["lapwing-l2"], made, f"{made.id}-red.tif")
    cost = Cost()
    remote = RemoteFile(f"{archive}/files/{made.id}/{path.name}", Client(), cost)
    data = path.read_bytes()
    assert remote.size == len(data)
    for offset, length in ((0, 10), (100, 5000), (200_000, 40_000), (len(data) - 10, 100)):
        assert remote.read(offset, length) == data[offset : offset + length]
    assert cost.requests <= 4 and cost.received < len(data) / 4


def test_next_passes_are_estimated_from_those_seen():
    seen = [scene(n, datetime=f"2025-{month:02d}-{day:02d}T11:00:00Z", **{"grid:code": "OST-A"})
            for n, (month, day) in enumerate([(1, 1), (1, 17), (2, 2), (3, 6), (3, 22)])]  # fmt: skip
    likely = next_passes(seen[0], seen, datetime(2025, 4, 1, tzinfo=UTC))
    assert (likely.revisit_days, likely.observed) == (16, 5)
    assert likely.days == ("2025-04-07", "2025-04-23", "2025-05-09")
    # Each track by its own repeat; silent without tracks, and where no gap comes back.
    track = {"sat:relative_orbit": 7}
    other = [scene(20 + n, datetime=f"2025-03-{day:02d}T11:00:00Z", **track) for n, day in enumerate((3, 8, 13, 28))]
    both = next_passes(seen[0], [*seen, *other], datetime(2025, 4, 1, tzinfo=UTC))
    assert both.revisit_days == 5 and both.days == ("2025-04-02", "2025-04-07", "2025-04-12")
    bare = [scene(40 + n, datetime=f"2025-01-{1 + 5 * n:02d}T11:00:00Z") for n in range(5)]
    assert next_passes(bare[0], bare, datetime(2025, 4, 1, tzinfo=UTC)) is None
    odd = [
        scene(50 + n, datetime=f"2025-01-{day:02d}T11:00:00Z", **track) for n, day in enumerate((1, 4, 11, 13, 29))
    ]
    assert next_passes(odd[0], odd, datetime(2025, 4, 1, tzinfo=UTC)) is None
    assert next_passes(seen[0], seen[:2], NOW) is None
