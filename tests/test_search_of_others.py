"""Searches at sources that name, sort, filter and hold things otherwise than our own archive does."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest

from helpers import FEN
from strangers import RING, stranger
from zoompick.discovery import find, footprints, geoparquet
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.footprintfile import FootprintFile
from zoompick.errors import IncompleteError, NothingFoundError
from zoompick.geo.shapes import polygon_of
from zoompick.raster.source import LocalFile
from zoompick.scenes.overpass import days_of, passes_of
from zoompick.scenes.period import Period
from zoompick.scenes.scene import Scene
from zoompick.scenes.source import Source
from zoompick.study.download import DownloadRequest, download_until_here

AREA = polygon_of(FEN)
CQL2 = "http://www.opengis.net/spec/cql2/1.0/conf/cql2-json"
SORT = "https://api.stacspec.org/v1.0.0/item-search#sort"


def holds(test, properties):
    """What an honest server makes of a filter: what an item does not tell fits nothing."""
    if test["op"] in ("and", "or"):
        return {"and": all, "or": any}[test["op"]](holds(one, properties) for one in test["args"])
    value = properties.get(test["args"][0]["property"])
    return value is not None and (value <= test["args"][1] if test["op"] == "<=" else value >= test["args"][1])


def serving(here, items, *conforms, lies=False):
    """Item search with dates, filter, order and pages, as the server claims to have."""
    here.catalogue([])
    here.paths["/"]["conformsTo"] += list(conforms)

    def route(seen):
        if not seen.path.startswith("/search"):
            return NotImplemented
        body = seen.json
        found = [one for one in items if "filter" not in body or holds(body["filter"], one["properties"])]
        begin, _, end = body.get("datetime", "../..").partition("/")
        if begin not in ("", ".."):
            found = [one for one in found if (one["properties"]["datetime"] or "") >= begin]
        if end not in ("", ".."):
            found = [one for one in found if (one["properties"]["datetime"] or "") <= end]
        for order in body.get("sortby", []):
            if not lies:
                found.sort(key=lambda one: one["properties"]["datetime"], reverse=order["direction"] == "desc")
        start = body.get("from", 0)
        page = found[start : start + body["limit"]]
        more = start + body["limit"] < len(found)
        following = {"rel": "next", "href": f"{here.url}/search", "method": "POST", "merge": True,
                     "body": {"from": start + body["limit"]}}  # fmt: skip
        return 200, {}, {"type": "FeatureCollection", "features": page, "links": [following] if more else []}

    here.route = route
    return Source("s", here.url)


@pytest.mark.parametrize("collections", [("c1",), ()])
@pytest.mark.parametrize("name", ["cloud_cover", "cloudCover", "eo:cloud_cover"])
def test_a_server_is_asked_by_the_property_that_its_items_tell(name, collections):
    with stranger() as here:
        items = [here.item(f"s{n}", **{"eo:cloud_cover": None, name: 10.0 * n}) for n in range(8)]
        for one in items:
            one["properties"] = {key: value for key, value in one["properties"].items() if value is not None}
        source = serving(here, items, CQL2)
        found = find.search(source, Criteria(AREA, collections, cloud_max=25))
        assert sorted(one.scene.id for one in found) == ["s0", "s1", "s2"]
        asked = [one.json for one in here.asked("POST", "/search") if one.json["limit"] > 1]
        assert all(name in json.dumps(one["filter"]) for one in asked)


def test_the_first_five_of_a_server_that_sorts_cost_one_page():
    with stranger() as here:
        start = datetime(2025, 1, 1, tzinfo=UTC)
        items = [here.item(f"s{n}", datetime=f"{start + timedelta(days=(n * 37) % 300):%Y-%m-%dT%H:%M:%SZ}")
                 for n in range(300)]  # fmt: skip
        source = serving(here, items, SORT)
        said = []
        found = find.search(source, Criteria(AREA, ("c1",), most=5), said.append)
        assert len(here.asked("POST", "/search")) <= 2, "the next page may be on its way"
        wanted = sorted((one["properties"]["datetime"] for one in items), reverse=True)[:5]
        assert [f"{one.scene.when:%Y-%m-%dT%H:%M:%SZ}" for one in found] == wanted
        assert any("At least" in getattr(one, "text", "") for one in said)
        oldest = find.search(source, Criteria(AREA, ("c1",), most=3, sort="oldest"))
        assert [f"{one.scene.when:%Y-%m-%d}" for one in oldest] == ["2025-01-01", "2025-01-02", "2025-01-03"]


@pytest.mark.parametrize("claims", [(SORT,), ()])
def test_a_server_that_does_not_sort_is_read_to_the_end(claims):
    with stranger() as here:
        start = datetime(2025, 1, 1, tzinfo=UTC)
        items = [here.item(f"s{n}", datetime=f"{start + timedelta(days=(n * 37) % 300):%Y-%m-%dT%H:%M:%SZ}")
                 for n in range(300)]  # fmt: skip
        source = serving(here, items, *claims, lies=True)
        found = find.search(source, Criteria(AREA, ("c1",), most=2))
        assert [f"{one.scene.when:%Y-%m-%d}" for one in found] == ["2025-10-27", "2025-10-26"]


def test_why_nothing_was_found_is_asked_within_the_dates_and_bounded(monkeypatch):
    monkeypatch.setattr("zoompick.discovery.partly._MOST_EXPLAINED", 300)
    with stranger() as here:
        items = [here.item(f"s{n}", datetime=f"20{n % 20 + 10}-06-01T00:00:00Z") for n in range(4000)]
        source = serving(here, items)
        with pytest.raises(NothingFoundError, match=r"Of the scenes that were looked at 30[01] touch"):
            find.search(source, Criteria(AREA, ("c1",), periods=("2031",)))
        assert len(here.asked("POST", "/search")) <= 6
        here.seen.clear()
        with pytest.raises(NothingFoundError, match=r"^200 scenes touch the area with dates .*; 0 with sun"):
            find.search(source, Criteria(AREA, ("c1",), periods=("2015",), sun_min_deg=30))
        bodies = [one.json for one in here.asked("POST", "/search")]
        assert all(one["datetime"].startswith("2015") for one in bodies)


def test_a_server_whose_filter_leaves_out_what_fits_is_told_as_that():
    with stranger() as here:
        items = [here.item("s1", **{"view:sun_elevation": 50})]
        source = serving(here, items, CQL2)
        inner = here.route
        here.route = lambda seen: (
            (200, {}, {"type": "FeatureCollection", "features": [], "links": []})
            if seen.path == "/search" and "filter" in seen.json else inner(seen)
        )  # fmt: skip
        with pytest.raises(NothingFoundError, match="did not send them when it was asked by its own filter") as told:
            find.search(source, Criteria(AREA, ("c1",), sun_min_deg=30))
        assert "0 %" not in str(told.value)


def items_of_spans():
    """A month that reaches over three, a moment, and one that tells no cloud."""

    def one(name, **properties):
        return {"type": "Feature", "id": name, "collection": "c", "assets": {}, "links": [],
                "geometry": {"type": "Polygon", "coordinates": [RING]}, "properties": properties}  # fmt: skip

    return [
        one("winter", datetime=None, start_datetime="2025-01-01T00:00:00Z", end_datetime="2025-03-31T23:59:59Z",
            cloud_cover=5),
        one("moment", datetime="2025-02-10T10:00:00.250Z", **{"eo:cloud_cover": 50}),
        one("untold", datetime="2025-02-11T10:00:00Z"),
    ]  # fmt: skip


@pytest.mark.parametrize("kind", ["geojson", "parquet"])
def test_spans_and_clouds_that_are_not_told_survive_every_kind_of_file(tmp_path, kind):
    path = tmp_path / f"marks.{kind}"
    if kind == "parquet":
        geoparquet.write(items_of_spans(), path)
    else:
        path.write_text(json.dumps({"type": "FeatureCollection", "features": items_of_spans()}))
    source = Source("s", str(path), "footprints")
    reader = FootprintFile(source, LocalFile)

    def ids(**wanted):
        criteria = Criteria(AREA, **wanted)
        scenes = [Scene.from_item(item, "s") for item in reader.search(criteria)]
        return {scene.id: scene for scene in scenes if criteria.fits(scene)}

    february = (Period.parse("2025-02"),)
    found = ids(periods=february)
    assert sorted(found) == ["moment", "untold", "winter"]
    assert f"{found['winter'].until:%Y-%m-%d %H:%M:%S}" == "2025-03-31 23:59:59"
    assert found["moment"].when.microsecond == 250_000
    assert sorted(ids(periods=(Period.parse("2025-04/2025-05"),))) == []
    assert sorted(ids(periods=(Period.parse("2025-03-31"),))) == ["winter"]
    assert sorted(ids(cloud_max=20)) == ["winter"]
    assert sorted(ids(cloud_max=20, unknown_cloud="keep")) == ["untold", "winter"]


def test_columns_of_a_table_that_tell_a_span_are_one(tmp_path):
    rows = [{"type": "Feature", "geometry": {"type": "Polygon", "coordinates": [RING]},
             "properties": {"id": "a", "start_date": "2025-01-05", "end_date": "2025-03-05"}}]  # fmt: skip
    path = tmp_path / "t.geojson"
    path.write_text(json.dumps({"type": "FeatureCollection", "features": rows}))
    (item,) = footprints.items_of(path, "c")
    scene = Scene.from_item(item, "s")
    assert (f"{scene.when:%m-%d}", f"{scene.until:%m-%d}") == ("01-05", "03-05")


def test_an_overpass_over_midnight_is_of_one_day_and_gaps_of_half_an_hour_part_two():
    def taken(when, platform="p"):
        return Scene.from_item(
            {"id": when, "collection": "c", "properties": {"datetime": when, "platform": platform}}, "s"
        )

    scenes = [taken("2025-12-08T23:50:00Z"), taken("2025-12-09T00:10:00Z"), taken("2025-12-09T00:35:00Z"),
              taken("2025-12-09T01:05:00Z"), taken("2025-12-09T00:05:00Z", "q")]  # fmt: skip
    assert days_of(scenes) == ["2025-12-08", "2025-12-08", "2025-12-08", "2025-12-09", "2025-12-09"]
    assert len(set(passes_of(scenes))) == 3


def test_bands_can_be_wanted_by_every_name_that_a_source_shows():
    with stranger() as here:
        item = here.item("s1")
        item["assets"] = {
            f"k{n}": {"href": f"{here.url}/k{n}.tif", "type": "image/tiff", "roles": ["data"],
                      "bands": [{"name": f"K{n}", "eo:common_name": "nir"}]} for n in (8, 9)
        }  # fmt: skip
        source = serving(here, [item])
        for name in ("nir", "K8", "K9", "k9"):
            assert find.search(source, Criteria(AREA, ("c1",), bands=(name,))), name
        with pytest.raises(NothingFoundError, match="none has K7"):
            find.search(source, Criteria(AREA, ("c1",), bands=("K7",)))


def test_a_band_that_was_never_published_ends_a_watched_download(tmp_path, monkeypatch):
    monkeypatch.setattr("zoompick.study.download.time.sleep", lambda seconds: pytest.fail("it waits"))
    with stranger() as here:
        scene = Scene.from_item(here.item("s1"), "s")
        request = DownloadRequest.in_folder(tmp_path, [scene], ("nir",))
        with pytest.raises(IncompleteError, match="nir"):
            download_until_here(request, 60)
