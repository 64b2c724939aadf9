"""Dates, scenes from items of both STAC versions, choosing, explaining."""

from __future__ import annotations

import math
import random
from datetime import UTC, datetime

import pytest
import shapely

from helpers import UTM
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.explain import nothing_found
from zoompick.discovery.gather import Gathering
from zoompick.errors import DataError, SourceError, UnknownNameError, UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.given import percent
from zoompick.net.links import links_of
from zoompick.scenes import sources
from zoompick.scenes.bands import format_called
from zoompick.scenes.period import Period
from zoompick.scenes.pictures import quicklook_of
from zoompick.scenes.scene import Scene

DAY = "%Y-%m-%dT%H:%M:%S"


@pytest.mark.parametrize(
    ("text", "start", "end"),
    [
        ("2025-12-15", "2025-12-15T00:00:00", "2025-12-15T23:59:59"),
        ("2025-02", "2025-02-01T00:00:00", "2025-02-28T23:59:59"),
        ("2024-02", "2024-02-01T00:00:00", "2024-02-29T23:59:59"),
        ("2025", "2025-01-01T00:00:00", "2025-12-31T23:59:59"),
        ("2025-12/2026-02", "2025-12-01T00:00:00", "2026-02-28T23:59:59"),
        ("2025-12-01/..", "2025-12-01T00:00:00", None),
        ("../2025", None, "2025-12-31T23:59:59"),
        ("2025-12-15T10:00:00+02:00/2026", "2025-12-15T08:00:00", "2026-12-31T23:59:59"),
    ],
)
def test_dates_as_people_write_them(text, start, end):
    period = Period.parse(text)
    assert [moment and moment.strftime(DAY) for moment in (period.start, period.end)] == [start, end]


@pytest.mark.parametrize(
    "text", ["", "..", "../..", "soon", "2025-13", "2025-02-30", "2025/2026/2027", "25-1-1", "2026/2025"]
)
def test_dates_that_cannot_be(text):
    with pytest.raises(UsageError):
        Period.parse(text)


@pytest.mark.parametrize("value", [-1, 150, float("nan")])
def test_percentages_are_between_0_and_100(value):
    with pytest.raises(UsageError, match="not between"):
        percent(value, "cloud limit")


def item(number=1, **properties):
    west = properties.pop("west", -12.1)
    bands = properties.pop("bands", ("red", "nir"))
    square = [[[west, -38.7], [west + 0.1, -38.7], [west + 0.1, -38.6], [west, -38.6], [west, -38.7]]]
    known = {
        "datetime": "2025-12-15T11:17:24Z",
        "platform": "lapwing-a",
        "eo:cloud_cover": 3.0,
        "proj:code": "EPSG:32728",
    }
    return {
        "type": "Feature",
        "id": f"scene-{number}",
        "collection": "lapwing-l2",
        "geometry": {"type": "Polygon", "coordinates": square},
        "properties": known | properties,
        "links": [{"rel": "self", "href": "http://archive.test/items/scene"}],
        "assets": {
            name: {
                "href": f"../files/{name}.tif",
                "type": "image/tiff",
                "roles": ["data"],
                "bands": [{"eo:common_name": name}],
            }
            for name in bands
        },
    }


def test_a_scene_of_stac_1_1():
    entry = item(**{"grid:code": "OST-28S9845", "processing:version": "02"})
    entry["assets"]["red"] |= {
        "raster:scale": 0.0001,
        "raster:offset": -0.1,
        "file:size": 12,
        "file:checksum": "1220" + "ab" * 32,
        "gsd": 8,
    }
    scene = Scene.from_item(entry, "here")
    assert (scene.day, scene.tile, scene.version, scene.crs, scene.source) == (
        "2025-12-15",
        "28S9845",
        "02",
        UTM,
        "here",
    )
    red = scene.bands["red"]
    assert (red.scale, red.offset, red.size, red.sha256, red.pixel_m) == (0.0001, -0.1, 12, "ab" * 32, 8)
    assert red.href == "http://archive.test/files/red.tif"
    assert scene.size is None


def test_a_scene_of_stac_1_0():
    entry = item(**{"proj:epsg": 32729, "proj:code": None, "eo:cloud_cover": None})
    entry["assets"] = {
        "B4": {
            "href": "http://other.test/b4.tif",
            "type": "image/tiff; application=geotiff",
            "roles": ["data"],
            "eo:bands": [{"name": "B4", "common_name": "red"}],
            "raster:bands": [{"scale": 0.5, "offset": 2}],
        },
        "mask": {
            "href": "m.tif",
            "type": "image/tiff",
            "roles": ["data"],
            "classification:classes": [{"value": 1, "name": "cloud"}],
        },
        "preview": {"href": "p.png", "type": "image/png", "roles": ["thumbnail"]},
        "broken": {"title": "no href"},
    }
    scene = Scene.from_item(entry)
    assert set(scene.bands) == {"red", "classes"}
    assert (scene.bands["red"].scale, scene.bands["red"].offset) == (0.5, 2)
    assert scene.crs == Crs(32729)
    assert scene.cloud_percent is None


@pytest.mark.parametrize("change", [{"datetime": None}, {"datetime": "yesterday"}])
def test_items_that_cannot_be_used(change):
    with pytest.raises(SourceError):
        Scene.from_item(item(**change))
    with pytest.raises(SourceError):
        Scene.from_item({"properties": {"datetime": "2025-01-01T00:00:00Z"}})


ODD = [None, 7, True, "x", [], {}, [[]], "http://[bad", [None] * 6, ["1"] * 6]


@pytest.mark.parametrize(
    "key", ["roles", "href", "bands", "type", "file:size", "file:checksum", "gsd", "raster:scale"]
)
@pytest.mark.parametrize("odd", ODD)
def test_odd_members_of_an_asset_harm_only_that_asset(key, odd):
    entry = item()
    entry["assets"]["red"][key] = odd
    scene = Scene.from_item(entry)
    assert scene.bands["nir"].href == "http://archive.test/files/nir.tif"


@pytest.mark.parametrize("odd", ODD)
def test_odd_links_and_pictures_are_as_if_there_were_none(odd):
    entry = item() | {"links": odd}
    entry["assets"]["quick"] = {"href": "q.png", "type": "image/png", "roles": ["thumbnail"],
                                "proj:shape": odd, "proj:transform": odd}  # fmt: skip
    scene = Scene.from_item(entry)
    assert scene.bands["nir"].href == "../files/nir.tif"
    assert not quicklook_of(scene).is_exact
    assert links_of({"links": [odd, {"rel": odd}, {"href": odd if odd != "x" else ""}]}, "self") == []


def test_what_an_item_without_geometry_covers_is_not_known():
    scene = Scene.from_item(item() | {"geometry": None})
    assert not scene.has_footprint()
    (cover,) = Criteria(shapely.box(-12.1, -38.7, -12, -38.6)).covers([scene])
    assert math.isnan(cover)


def scenes(*entries):
    return [Scene.from_item(entry) for entry in entries]


AREA = shapely.box(-12.1, -38.7, -11.9, -38.6)


def test_twins_share_platform_time_and_tile():
    old, new = (
        item(1, **{"processing:version": "01", "grid:code": "OST-A"}),
        item(2, **{"processing:version": "02", "grid:code": "OST-A"}),
    )
    gathered = Gathering(lambda scene, cover: scene.id)
    gathered.add(scenes(old, new), [100.0, 100.0])
    assert gathered.sorted(newest_only=True, cover_min=0) == ["scene-2"]
    assert len(gathered.sorted(newest_only=False, cover_min=0)) == 2


def test_nothing_found_says_which_filter_did_it():
    near = scenes(item(1), item(2, **{"eo:cloud_cover": 60.0}))
    winter = Period.parse("2025-07")
    extent = [Bounds(-12.2, -38.7, -11.8, -38.4)]
    for criteria, touching, words in [
        (Criteria(AREA, (), (winter,)), near, "0 with dates 2025-07-01 to 2025-07-31; they are from 2025-12-15"),
        (Criteria(AREA, cloud_max=1), near, "0 with at most 1 % cloud; the clearest has 3: scene-1"),
        (Criteria(AREA, cover_min=90), near, "none covers 90 % of it; the most is 50 %"),
        (Criteria(shapely.box(3, 3, 4, 4)), [], "The source has scenes in -12.20"),
        (Criteria(shapely.box(-38.7, -12.2, -38.6, -12.1)), [], "was latitude given first"),
    ]:
        assert words in str(nothing_found(criteria, touching, extent))


def test_criteria_are_checked_here_too():
    [scene] = scenes(item(1))
    assert Criteria(AREA, cloud_max=3).fits(scene)
    assert not Criteria(AREA, cloud_max=2.9).fits(scene)
    [unknown] = scenes(item(1, **{"eo:cloud_cover": None}))
    assert not Criteria(AREA, cloud_max=100).fits(unknown)
    two = Criteria(AREA, periods=(Period.parse("2025-01"), Period.parse("2025-12")))
    assert two.in_time(scene)
    assert two.span().interval == "2025-01-01T00:00:00Z/2026-01-01T00:00:00Z"
    assert not two.in_time(scenes(item(1, datetime="2025-06-01T00:00:00Z"))[0])
    assert scene.when == scene.until == datetime(2025, 12, 15, 11, 17, 24, tzinfo=UTC)
    ends = {"start_datetime": "2025-12-02T00:00:00Z", "end_datetime": "2025-12-16T00:00:00Z"}
    [flight] = scenes(item(1, datetime=None, **ends))
    within, after = (Criteria(AREA, periods=(Period.parse(day),)) for day in ("2025-12-10", "2025-12-17"))
    assert within.in_time(flight) and not after.in_time(flight)


def test_sources_are_layered_and_checked(tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path / "own"))
    study = tmp_path / "study"
    sources.add(sources.checked("a", "http://one.test"), sources.sources_file(None))
    sources.add(sources.checked("b", "http://two.test"), sources.sources_file(None))
    assert not sources.add(sources.checked("a", "http://three.test"), sources.sources_file(study))
    assert sources.add(sources.checked("a", "http://four.test"), sources.sources_file(study))
    assert {name: entry.url for name, entry in sources.known(study).items()} == {
        "a": "http://four.test",
        "b": "http://two.test",
    }
    with pytest.raises(UsageError, match="There are 2 sources"):
        sources.named("", sources.known(None))
    with pytest.raises(UnknownNameError):
        sources.named("c", sources.known(None))
    with pytest.raises(UsageError, match="No source is known"):
        sources.named("", {})
    for name, url in (("Big Name", "http://x.test"), ("x", "ftp://x.test"), ("x", "nowhere")):
        with pytest.raises(UsageError):
            sources.checked(name, url)
    sources.sources_file(study).write_text('{"a": 5}')
    with pytest.raises(DataError, match="does not hold sources"):
        sources.known(study)


def test_gathering_many_keeps_each_once_and_the_newest():
    """Against a plain computation: duplicates, reprocessed twins, order."""
    rng = random.Random(5)
    made, expected = [], {}
    for number in range(300):
        day, version = rng.randrange(1, 29), rng.choice(["01", "02", "03"])
        told = {"datetime": f"2025-12-{day:02d}T11:00:00Z", "processing:version": version, "platform": "p"}
        scene = scenes(item(number % 120, **told))[0]
        made.append(scene)
    gathered = Gathering(lambda scene, cover: (scene.id, scene.when, scene.version))
    for start in range(0, 300, 37):
        part = made[start : start + 37]
        gathered.add(part, [100.0] * len(part))
    first = {}
    for scene in made:
        first.setdefault(scene.key, []).append(scene)
    everything = gathered.sorted(newest_only=False, cover_min=0)
    assert len(everything) == len(first) == 120
    assert [entry[1] for entry in everything] == sorted(entry[1] for entry in everything)
    kept = {
        key: next(s for s in group if (s.id, s.when, s.version) in set(everything)) for key, group in first.items()
    }
    for scene in kept.values():
        held = expected.get(scene.acquisition)
        expected[scene.acquisition] = scene if held is None or scene.version > held.version else held
    newest = gathered.sorted(newest_only=True, cover_min=0)
    assert {entry[1:] for entry in newest} == {(scene.when, scene.version) for scene in expected.values()}
    assert len(newest) == len(expected)


@pytest.mark.parametrize(
    ("word", "form"),
    [
        ("tif", "geotiff"),
        ("GeoTIFF", "geotiff"),
        (".h5", "hdf5"),
        ("jp2", "jpeg2000"),
        ("nc", "netcdf"),
        ("paper", ""),
    ],
)
def test_formats_as_people_call_them(word, form):
    assert format_called(word) == form
