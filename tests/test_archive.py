"""The simulated archive: world, scenes, planted faults, API; read by other hands than the client's."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path

import jsonschema
import numpy as np
import pytest
import tifffile
import urllib3

from zoompick.standin import lapwing, passes, search, weather
from zoompick.standin.catalogue import instruments
from zoompick.standin.faults import Faults
from zoompick.standin.noise import enlarged, fractal, hashed
from zoompick.standin.store import Store
from zoompick.standin.sun import Sun

SCHEMA = json.loads((Path(__file__).parent / "data" / "stac-item.schema.json").read_text())
HTTP = urllib3.PoolManager()
BOX = [-12.09, -38.64, -12.03, -38.59]


def get(url, **fields):
    return HTTP.request("GET", url, fields=fields).json()


def post(url, **body):
    return HTTP.request("POST", f"{url}/search", json=body).json()


def fault(name):
    return next(scene for scene in passes.scenes() if getattr(scene.fault, name))


def made(scene, cache, *keys):
    """Files of a scene, opened by another library."""
    store = Store(cache)
    found = {}
    for key in keys or lapwing.keys(scene):
        path, _ = store.file(instruments()["lapwing-l2"], scene, f"{scene.id}-{key}.tif")
        found[key] = path
    return found


def test_two_threads_make_whatever_is_asked(tmp_path):
    """Forty requests at once must not take the memory of forty scenes; who asks for the same gets the same."""
    store, lock, together, most, writes = Store(tmp_path), threading.Lock(), 0, 0, []

    def ask(label):
        def write(folder):
            nonlocal together, most
            with lock:
                together, most = together + 1, max(most, together + 1)
                writes.append((label, threading.current_thread().name))
            time.sleep(0.01)
            with lock:
                together -= 1
            if label == "s1" and sum(label == "s1" for label, _ in writes) == 1:
                raise OSError("no room")
            if label == "s2":  # what it makes needs another scene
                store.made("inner", lambda folder: (folder / "a").write_text("inner"))
            (folder / "a").write_text(label)

        return store.made(label, write)["a"][0].read_text()

    with ThreadPoolExecutor(24) as pool:
        asked = [pool.submit(ask, f"s{n % 12}") for n in range(24)]
        failed = [future.exception() for future in asked if future.exception()]
        assert all(str(error) == "no room" for error in failed)
        assert 1 <= len(failed) <= 2
    assert most == 2
    assert [ask(f"s{n}") for n in range(12)] == [f"s{n}" for n in range(12)]
    assert sorted(label for label, _ in writes) == sorted([f"s{n}" for n in range(12)] + ["s1"])
    assert len({name for _, name in writes}) <= 2
    assert (tmp_path / store.made("inner", lambda folder: None)["a"][0]).read_text() == "inner"


def test_there_are_enough_scenes_of_every_kind():
    scenes = passes.scenes()
    assert len(scenes) >= 60
    assert len({scene.id for scene in scenes}) == len(scenes)
    assert {scene.seen.satellite for scene in scenes} == {"a", "b"}
    assert {scene.tile.name[:3] for scene in scenes} == {"28s", "29s"}
    assert {scene.seen.when.year for scene in scenes} == {2024, 2025, 2026}
    clouds = sorted(weather.cloud_percent(scene.seen, scene.tile) for scene in scenes)
    assert clouds[0] == 0
    assert clouds[-1] == 100
    assert 10 < clouds[len(clouds) // 2] < 90
    assert sum(scene.share < 0.97 for scene in scenes) > 20
    twins = [s for s in scenes if sum((t.seen, t.tile) == (s.seen, s.tile) for t in scenes) == 2]
    assert [scene.baseline for scene in twins] == ["01", "02"]
    assert twins[0].offset != twins[1].offset
    for name in ("missing", "cut", "wrong_digest", "shifted"):
        assert sum(bool(getattr(scene.fault, name)) for scene in scenes) == 1


def test_tiles_lie_on_their_lattices_and_overlap():
    for tile in passes.tiles():
        assert tile.grid.west % 48 == 0
        assert (tile.grid.north - 8192) % 48 == 0
        assert (tile.grid.width, tile.grid.height, tile.grid.pixel_x) == (1024, 1024, 8)
    first, second = passes.tiles()[:2]
    assert second.grid.west - first.grid.west == 7680


@pytest.mark.parametrize("when", ["2024-12-20T11:17:00", "2025-06-21T12:00:00", "2025-03-20T15:30:00"])
def test_the_sun_stands_where_a_second_formula_says(when):
    """The Astronomical Almanac's low-precision formulas (page C5), worked here independently."""
    moment = datetime.fromisoformat(when).replace(tzinfo=UTC)
    n = (moment - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86400
    g = np.radians(357.528 + 0.9856003 * n)
    ecliptic = np.radians(280.460 + 0.9856474 * n + 1.915 * np.sin(g) + 0.020 * np.sin(2 * g))
    tilt = np.radians(23.439 - 4e-7 * n)
    declination = np.arcsin(np.sin(tilt) * np.sin(ecliptic))
    ascension = np.arctan2(np.cos(tilt) * np.sin(ecliptic), np.cos(ecliptic))
    hour = np.radians((18.697374558 + 24.06570982441908 * n) % 24 * 15 - 12.0) - ascension
    lat = np.radians(-38.6)
    up = np.sin(lat) * np.sin(declination) + np.cos(lat) * np.cos(declination) * np.cos(hour)
    azimuth = (
        np.degrees(np.arctan2(-np.sin(hour), np.tan(declination) * np.cos(lat) - np.sin(lat) * np.cos(hour))) % 360
    )
    sun = Sun.at(moment, -12.0, -38.6)
    assert sun.elevation_deg == pytest.approx(np.degrees(np.arcsin(up)), abs=0.5)
    assert sun.azimuth_deg == pytest.approx(azimuth, abs=1.0)


def test_noise_is_seeded_and_falls_with_frequency():
    field = fractal((256, 256), 3.0, 5)
    np.testing.assert_array_equal(field, fractal((256, 256), 3.0, 5))
    assert not np.array_equal(field, fractal((256, 256), 3.0, 6))
    power = np.abs(np.fft.rfft2(field)[:128, 0]) ** 2
    assert power[1:5].mean() > 30 * power[20:40].mean()
    ramp = np.arange(8, dtype="float32")[None].repeat(8, 0)
    np.testing.assert_allclose(enlarged(ramp, 2)[4, 1:-1], np.arange(0.25, 7, 0.5))
    numbers = hashed(np.arange(20000), 3)
    assert abs(numbers.mean() / 32767.5 - 1) < 0.02
    assert np.unique(numbers).size > 15000


@pytest.mark.parametrize("number", [3, 61, 150, 222, 301, 390])
def test_cloud_figures_agree_with_the_class_layers(shared_cache, number):
    scene = passes.scenes()[number]
    with tifffile.TiffFile(made(scene, shared_cache, "classes")["classes"]) as tiff:
        classes = tiff.pages[0].asarray()
    seen = classes != lapwing.FILL
    cloudy = np.isin(classes, (lapwing.THIN, lapwing.THICK))
    assert abs(100 * cloudy[seen].mean() - weather.cloud_percent(scene.seen, scene.tile)) <= 2
    assert seen.mean() == pytest.approx(scene.share, abs=0.01)


def test_pixels_are_reflectance_in_the_stated_units_and_the_same_every_time(shared_cache, tmp_path):
    old, new = [s for s in passes.scenes() if sum((t.seen, t.tile) == (s.seen, s.tile) for t in passes.scenes()) == 2]
    with (
        tifffile.TiffFile(made(old, shared_cache, "red")["red"]) as a,
        tifffile.TiffFile(made(new, shared_cache, "red")["red"]) as b,
    ):
        first, second = (tiff.pages[0].asarray().astype(float) for tiff in (a, b))
    first, second = (first * passes.SCALE + old.offset), (second * passes.SCALE + new.offset)
    assert np.abs(first - second).max() < 2 * passes.SCALE
    assert 0.02 < np.median(first) < 0.9
    lapwing.make(new, tmp_path, shared_cache)
    for key, path in made(new, shared_cache).items():
        assert (tmp_path / f"{new.id}-{key}.tif").read_bytes() == path.read_bytes()


def test_each_band_has_its_own_pixels_and_ground(shared_cache):
    scene = passes.scenes()[3]
    sizes = {}
    for key, path in made(scene, shared_cache).items():
        with tifffile.TiffFile(path) as tiff:
            page = tiff.pages[0]
            sizes[key] = page.imagewidth
            assert page.tags[33550].value[0] == lapwing.PIXEL_M[key]
            assert page.tags[33922].value[3] == scene.tile.grid.west
    assert (sizes["red"], sizes["swir16"], sizes["coastal"], sizes["classes"]) == (1024, 512, 171, 512)


def test_the_shifted_band_lies_one_and_a_half_pixels_off(shared_cache):
    scene = fault("shifted")
    arrays = {}
    for key in ("green", "red"):
        with tifffile.TiffFile(made(scene, shared_cache, key)[key]) as tiff:
            arrays[key] = tiff.pages[0].asarray()[300:556, 300:556].astype(float)
    inner = arrays["red"][8:-8, 8:-8].ravel()
    alike = {
        (row, col): np.corrcoef(inner, np.roll(arrays["green"], (-row, -col), (0, 1))[8:-8, 8:-8].ravel())[0, 1]
        for row in range(-4, 5)
        for col in range(-4, 5)
    }
    assert max(alike, key=alike.get) in {(1, 1), (1, 2), (2, 1), (2, 2)}


def test_planted_faults_are_in_the_data(shared_cache, archive):
    cut = fault("cut")
    with tifffile.TiffFile(made(cut, shared_cache)[cut.fault.cut]) as tiff:
        page = tiff.pages[0]
        end = max(o + c for o, c in zip(page.dataoffsets, page.databytecounts, strict=True))
        assert end > made(cut, shared_cache)[cut.fault.cut].stat().st_size
    missing = get(f"{archive}/collections/lapwing-l2/items/{fault('missing').id}")
    assert "swir16" not in missing["assets"]
    wrong = fault("wrong_digest")
    path = made(wrong, shared_cache)["red"]
    item = get(f"{archive}/collections/lapwing-l2/items/{wrong.id}")
    assert item["assets"]["red"]["file:checksum"] != "1220" + hashlib.sha256(path.read_bytes()).hexdigest()


def test_landing_page_and_collection(archive):
    landing = get(f"{archive}/")
    assert {link["rel"] for link in landing["links"]} >= {"self", "root", "conformance", "data", "search"}
    assert any("item-search" in name for name in get(f"{archive}/conformance")["conformsTo"])
    offered = get(f"{archive}/collections")["collections"]
    assert [entry["id"] for entry in offered] == list(instruments())
    for collection in reversed(offered):
        assert collection == get(f"{archive}/collections/{collection['id']}")
    assert collection["stac_version"] == "1.1.0"
    assert set(collection["item_assets"]) == set(lapwing.PIXEL_M)


def test_items_are_valid(archive):
    validator = jsonschema.Draft202012Validator(SCHEMA)
    for name, instrument in instruments().items():
        features = post(archive, limit=500, collections=[name])["features"]
        assert len(features) == min(500, len(instrument.scenes()))
        for item in features[:: 1 + len(features) // 60]:
            validator.validate(item)
            assert item["bbox"][0] < item["bbox"][2]
            assert item["links"][0]["rel"] == "self"


def test_a_made_scene_tells_sizes_and_digests(archive, shared_cache):
    scene = passes.scenes()[3]
    files = made(scene, shared_cache)
    item = get(f"{archive}/collections/lapwing-l2/items/{scene.id}")
    for key, path in files.items():
        asset = item["assets"][key]
        answer = HTTP.request("GET", asset["href"])
        digest = hashlib.sha256(path.read_bytes()).digest()
        assert answer.data == path.read_bytes()
        assert (asset["file:size"], asset["file:checksum"]) == (len(answer.data), "1220" + digest.hex())
        assert answer.headers["Repr-Digest"] == f"sha-256=:{base64.b64encode(digest).decode()}:"
        assert answer.headers["Last-Modified"]


def test_ranges_and_conditions(archive, shared_cache):
    scene = passes.scenes()[3]
    url = f"{archive}/files/{scene.id}/{scene.id}-red.tif"
    whole = HTTP.request("GET", url)
    etag = whole.headers["ETag"]
    part = HTTP.request("GET", url, headers={"Range": "bytes=100-199", "If-Range": etag})
    assert (part.status, part.data) == (206, whole.data[100:200])
    assert part.headers["Content-Range"] == f"bytes 100-199/{len(whole.data)}"
    assert HTTP.request("GET", url, headers={"Range": "bytes=100-", "If-Range": '"other"'}).status == 200
    assert HTTP.request("HEAD", url).headers["Content-Length"] == str(len(whole.data))
    assert HTTP.request("GET", f"{archive}/files/{scene.id}/../../secret").status == 404
    assert HTTP.request("GET", f"{archive}/files/none/none.tif").status == 404


@pytest.mark.parametrize("method", ["GET", "POST"])
def test_paging_gives_every_item_once(archive, method):
    seen, page = [], None
    while True:
        if page is None and method == "GET":
            page = get(f"{archive}/search", limit=37, bbox=",".join(map(str, BOX)))
        elif page is None:
            page = post(archive, limit=37, bbox=BOX)
        else:
            link = next((link for link in page["links"] if link["rel"] == "next"), None)
            if link is None:
                break
            page = (
                get(link["href"]) if method == "GET" else HTTP.request("POST", link["href"], json=link["body"]).json()
            )
        seen += [item["id"] for item in page["features"]]
    assert len(seen) == len(set(seen)) == page["numberMatched"] > 37


QUERIES = {
    "ids": ({"ids": [passes.scenes()[0].id]}, lambda i: i["id"] == passes.scenes()[0].id),
    "dates": ({"datetime": "2025-12-01T00:00:00Z/.."}, lambda i: i["properties"]["datetime"] >= "2025-12-01"),
    "other collection": ({"collections": ["none"]}, lambda i: False),
    "cloud": (
        {"filter": {"op": "<=", "args": [{"property": "eo:cloud_cover"}, 20]}},
        lambda i: i["properties"]["eo:cloud_cover"] <= 20,
    ),
    "both": (
        {"filter": {"op": "and", "args": [
            {"op": "=", "args": [{"property": "platform"}, "lapwing-b"]},
            {"op": "between", "args": [{"property": "view:sun_elevation"}, 60, 66]}]}},
        lambda i: i["properties"]["platform"] == "lapwing-b" and 60 <= i["properties"]["view:sun_elevation"] <= 66,
    ),
    "like and not": (
        {"filter": {"op": "not", "args": [{"op": "like", "args": [{"property": "grid:code"}, "OST-28S%"]}]}},
        lambda i: not i["properties"]["grid:code"].startswith("OST-28S"),
    ),
    "missing property": ({"filter": {"op": "<>", "args": [{"property": "no:such"}, 1]}}, lambda i: False),
}  # fmt: skip


@pytest.mark.parametrize("name", QUERIES)
def test_searches_give_what_matches_and_nothing_else(archive, name):
    query, fits = QUERIES[name]
    own = {"collections": ["lapwing-l2"]}
    everything = post(archive, limit=500, **own)["features"]
    found = post(archive, limit=500, **(own | query))["features"]
    assert {item["id"] for item in found} == {item["id"] for item in everything if fits(item)}


def test_sorting(archive):
    query = [{"field": "properties.eo:cloud_cover", "direction": "asc"}, {"field": "id", "direction": "desc"}]
    found = post(archive, limit=100, sortby=query, collections=["lapwing-l2"])["features"]
    keys = [item["properties"]["eo:cloud_cover"] for item in found]
    assert keys == sorted(keys)
    ties = [item["id"] for item in found if item["properties"]["eo:cloud_cover"] == 0]
    assert ties == sorted(ties, reverse=True)


@pytest.mark.parametrize(
    "body",
    [
        {"limit": "many"}, {"limit": 0}, {"bbox": [1, 2]}, {"datetime": "yesterday"}, {"token": "bad!"},
        {"intersects": {"a": 1}},
        {"filter": {"op": "frobnicate", "args": [1, 2]}}, {"filter": "cloud < 3"},
        {"bbox": BOX, "intersects": {"type": "Point", "coordinates": [0, 0]}},
    ],
)  # fmt: skip
def test_queries_against_the_standard_are_refused(archive, body):
    answer = HTTP.request("POST", f"{archive}/search", json=body)
    assert answer.status == 400
    assert "description" in answer.json()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("latency:0.1", ""), ("cut", ""), ("flood:1", "no known trouble"), ("busy:lots", "is no number"),
        ("cut:-1", "below nothing"), ("cut:nan", "below nothing"),
    ],
)  # fmt: skip
def test_troubles_by_name(text, said):
    if not said:
        assert Faults.parse([text]) != Faults()
        return
    with pytest.raises(ValueError, match=said):
        Faults.parse([text])


def test_three_valued_logic():
    item = {"id": "x", "collection": "c", "geometry": None, "properties": {"a": 1, "when": "2025-01-01T00:00:00Z"}}
    unknown = {"op": "=", "args": [{"property": "b"}, 1]}
    known = {"op": "=", "args": [{"property": "a"}, 1]}
    assert search.holds({"op": "or", "args": [unknown, known]}, item) is True
    assert search.holds({"op": "and", "args": [unknown, known]}, item) is None
    assert search.holds({"op": "isNull", "args": [{"property": "b"}]}, item) is True
    assert search.holds({"op": "in", "args": [{"property": "a"}, [1, 2]]}, item) is True
    assert (
        search.holds({"op": ">", "args": [{"property": "when"}, {"timestamp": "2024-12-31T23:00:00Z"}]}, item) is True
    )
