"""The instruments beside Lapwing: what each of them is, its own trouble, and how the client meets it."""

from __future__ import annotations

import hashlib
import json

import h5py
import imagecodecs
import numpy as np
import pytest
import shapely
import tifffile
import urllib3

from helpers import FEN
from zoompick.area import sheets
from zoompick.discovery import find
from zoompick.discovery.criteria import Criteria
from zoompick.errors import NothingFoundError
from zoompick.geo.shapes import polygon_of
from zoompick.net.client import Client
from zoompick.raster.grid import Grid
from zoompick.scenes.bands import bands_of
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.period import Hours, Period
from zoompick.scenes.prices import km2_price
from zoompick.scenes.scene import Scene
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileService
from zoompick.sensors.guide import guide_for_collection
from zoompick.standin import ground, land, world
from zoompick.standin.catalogue import instruments
from zoompick.standin.covers import Cover
from zoompick.standin.search import Query, token_of
from zoompick.standin.store import Store
from zoompick.standin.synthetic import Synthetic

AREA = polygon_of(FEN)
HTTP = urllib3.PoolManager()


def scenes_of(name):
    return instruments()[name].scenes()


def item_of(name, scene, cache):
    return instruments()[name].item(scene, "http://h", Store(cache))


def file_of(name, scene, cache, end):
    path, published = Store(cache).file(instruments()[name], scene, f"{scene.id}{end}")
    assert published.size == path.stat().st_size
    assert published.sha256 == hashlib.sha256(path.read_bytes()).hexdigest()
    return path


@pytest.mark.parametrize("name", list(instruments()))
def test_names_are_unique_known_to_the_guide_and_taken_apart(name):
    scenes = scenes_of(name)
    assert len({scene.id for scene in scenes}) == len(scenes) > 10
    assert [scene.when for scene in scenes] == sorted(scene.when for scene in scenes)
    guide = guide_for_collection(name)
    for scene in scenes:
        assert all(meaning for _, _, meaning in guide.parts_of(scene.id)), scene.id
        assert guide.parts_of(scene.id)
    assert instruments()[name].by_id("none") is None
    assert instruments()[name].by_id(scenes[3].id).id == scenes[3].id


def test_the_coarse_land_mask_is_the_worlds(shared_cache):
    cover = np.asarray(world.layers(shared_cache).cover)
    step = land.STEP
    dry = (cover != Cover.SEA).reshape(world.HEIGHT // step, step, world.WIDTH // step, step).mean(axis=(1, 3))
    assert np.abs(dry - land.mask()).max() <= 0.5 / 255 + 1e-6


@pytest.mark.slow
def test_siskin_cloud_is_told_for_the_frame_and_for_its_land(shared_cache):
    told = [item_of("siskin-l2", scene, shared_cache)["properties"] for scene in scenes_of("siskin-l2")]
    differences = [abs(p["eo:cloud_cover"] - p["ost:cloud_cover_land"]) for p in told]
    assert sum(difference > 20 for difference in differences) >= 10
    mixed = [20 < p["eo:cloud_cover"] < 80 and d > 15 for p, d in zip(told, differences, strict=True)]
    scene = scenes_of("siskin-l2")[mixed.index(True)]
    properties = item_of("siskin-l2", scene, shared_cache)["properties"]
    classes = tifffile.imread(file_of("siskin-l2", scene, shared_cache, "-classes.tif"))
    seen = classes > 0
    assert properties["eo:cloud_cover"] == pytest.approx(100 * np.isin(classes, (4, 5))[seen].mean(), abs=2)
    # The frame's corners hold nothing; its footprint tells where.
    assert 0.6 < seen.mean() < 0.95
    frame = sheets.named(scene.facts["frame"])
    assert shapely.equals(frame.polygon, scene.footprint)
    red = tifffile.imread(file_of("siskin-l2", scene, shared_cache, "-red.tif"))
    assert ((red > 0) == seen).all()


@pytest.mark.slow
def test_a_format_is_chosen_where_bands_come_in_several(program, archive, tmp_path):
    """The same values by either way; what no scene comes in is refused before anything is asked."""
    day = {"collections": ["siskin-l2"], "datetime": "2024-11-05T00:00:00Z/2024-11-06T00:00:00Z", "limit": 1}
    [item] = Client().json(f"{archive}/search", day)["features"]
    assert list(bands_of(item, "hdf5")) == list(bands_of(item)) and not bands_of(item, "netcdf")
    piped = json.dumps({"type": "FeatureCollection", "features": [item]})
    for words in (("--file-format", "H5", "--bands", "red,classes"), ("--bands", "red,classes")):
        assert program("download", "-", "--to", "here", *words, stdin=piped).code == 0
    container, *rasters = sorted((tmp_path / "here").glob("*/siskin*"), key=lambda path: path.suffix)
    assert [container.suffix, *(path.suffix for path in rasters)] == [".h5", ".tif", ".tif"]
    with h5py.File(container) as file:
        for path in rasters:
            assert np.array_equal(file[path.stem.rpartition("-")[2]], tifffile.imread(path))
    refused = program("download", "-", "--to", "there", "--file-format", "jp2", stdin=piped)
    assert refused.code == 2 and "No scene here is offered as 'jp2'" in refused.err
    assert "They come as geotiff and hdf5" in refused.err and not (tmp_path / "there").exists()
    empty = program("download", "-", "--file-format", "tif", stdin='{"type": "FeatureCollection", "features": []}')
    assert empty.code == 3 and "No scene is picked" in empty.err


def test_a_limit_on_cloud_over_land_is_another_one(archive):
    every = find.search(Source("o", archive), Criteria(AREA, ("siskin-l2",)))
    clear = find.search(Source("o", archive), Criteria(AREA, ("siskin-l2",), cloud_land_max=10))
    wanted = {e.scene.id for e in every if e.scene.cloud_land_percent <= 10}
    assert {e.scene.id for e in clear} == wanted
    assert any(e.scene.cloud_percent > 20 for e in clear)


@pytest.mark.slow
def test_curlew_sheets_hold_four_bands_and_tell_no_cloud(shared_cache, archive, tmp_path):
    scene = next(s for s in scenes_of("curlew-sheets") if s.id == "curlew-2025-c232-5722")
    item = item_of("curlew-sheets", scene, shared_cache)
    assert item["properties"]["datetime"] is None
    assert "eo:cloud_cover" not in item["properties"]
    path = file_of("curlew-sheets", scene, shared_cache, ".tif")
    with tifffile.TiffFile(path) as tiff:
        page = tiff.pages[0]
        assert (page.imagewidth, page.imagelength, page.samplesperpixel) == (2500, 2500, 4)
        assert page.tags[33922].value[3:5] == (232_000.0, 5_723_000.0)
        pixels = tiff.pages[0].asarray()
    # Four different bands in the order that the item tells.
    bands = bands_of(item)
    assert [(band.name, band.index) for band in bands.values()] == [("red", 0), ("green", 1), ("blue", 2), ("nir", 3)]
    assert len({band.href for band in bands.values()}) == 1
    beside = tmp_path / path.name
    beside.write_bytes(path.read_bytes())
    (tmp_path / "item.json").write_text(json.dumps(item))
    layers = open_layers([beside])
    assert [layer.name for layer in layers] == ["red", "green", "blue", "nir"]
    for number, layer in enumerate(layers):
        assert np.array_equal(layer.raster.read(layer.raster.grid.window)[0], pixels[number])
    with pytest.raises(NothingFoundError, match="none tells") as caught:
        find.search(Source("o", archive), Criteria(AREA, ("curlew-sheets",), cloud_max=10))
    assert "leave `cloud` out" in caught.value.todo


@pytest.mark.slow
def test_neighbouring_sheets_join(shared_cache):
    """Two strips of 25 m either side of the line between two sheets, each made by itself."""
    seen = next(s for s in scenes_of("curlew-sheets") if s.id == "curlew-2025-c232-5722").seen
    strips = [Grid(ground.UTM, 0.4, 0.4, west, 5_722_700.0, 63, 600) for west in (233_000 - 63 * 0.4, 233_000.0)]
    left, right = (ground.see(seen, strip, shared_cache).band("red") for strip in strips)
    across = np.abs(left[:, -1] - right[:, 0]).mean()
    within = np.abs(left[:, -1] - left[:, -2]).mean()
    unrelated = np.abs(left[:, -1] - np.roll(right[:, 0], 40)).mean()
    assert across < 1.25 * within < 0.8 * unrelated


def test_a_file_of_several_bands_is_fetched_once(program, archive, tmp_path):
    program("source", "add", "sheets", archive)
    found = program("search", "--source", "sheets", "--box", "-12.0685", "-38.6095", "-12.068", "-38.609",
                    "--collection", "curlew-sheets", "--dates", "2025", "--json")  # fmt: skip
    assert found.code == 0, found.err
    dry = program("download", "-", "--bands", "red,nir", "--dry-run", "--json", stdin=found.out)
    assert len(dry.json["files"]) == len(found.json["features"])


@pytest.mark.slow
def test_tern_granules_are_long_and_by_night_without_reflected_light(shared_cache, archive):
    scenes = scenes_of("tern-ocean")
    night, day = (next(s for s in scenes if s.facts["is_day"] == is_day) for is_day in (False, True))
    for scene, names in ((night, {"sst"}), (day, {"sst", "chlorophyll", "turbidity"})):
        item = item_of("tern-ocean", scene, shared_cache)
        assert set(bands_of(item)) == names
        assert (item["properties"]["view:sun_elevation"] > 0) == scene.facts["is_day"]
        with h5py.File(file_of("tern-ocean", scene, shared_cache, ".nc")) as file:
            assert names <= set(file)
            outline = shapely.MultiPoint(np.column_stack([file["lon"][:].ravel(), file["lat"][:].ravel()])).envelope
            assert outline.intersection(scene.footprint.envelope).area / outline.area > 0.98
            cloudy = (file["flags"][:] & 1).astype(bool)
            assert item["properties"]["eo:cloud_cover"] == pytest.approx(100 * cloudy.mean(), abs=0.1)
            assert (file["sst"][:][cloudy] == file["sst"].attrs["_FillValue"]).all()
            assert file["sst"].dims[0].keys() == ["along"]
    nights = find.search(Source("o", archive), Criteria(AREA, ("tern-ocean",), hours=Hours.parse("0-4")))
    assert nights
    assert all(entry.scene.when.hour < 4 for entry in nights)
    with_green = find.search(Source("o", archive), Criteria(AREA, ("tern-ocean",), bands=("chlorophyll",)))
    assert all(entry.scene.sun_elevation_deg > 0 for entry in with_green)


@pytest.mark.slow
def test_dunlins_shortwave_detector_fails_on_a_known_day(shared_cache, archive):
    scenes = scenes_of("dunlin-l1")
    before = next(s for s in reversed(scenes) if s.when.year == 2023 and s.when.month < 6)
    after = next(s for s in scenes if s.when > before.when and s.when.month > 6)
    for scene, is_dead in ((before, False), (after, True)):
        item = item_of("dunlin-l1", scene, shared_cache)
        assert len(bands_of(item)) == (7 if is_dead else 12)
        with h5py.File(file_of("dunlin-l1", scene, shared_cache, ".h5")) as file:
            names = [f"{group}/{name}" for group in file for name in file[group] if name not in ("x", "y")]
            assert len(names) == 12
            assert (file["swir/s1"][:] == 65535).all() == is_dead
            assert file["swir/s1"].attrs["status"] == ("failed" if is_dead else "good")
            assert file["vnir/v1"].shape[0] == pytest.approx(6 * file["thermal/t2"].shape[0], abs=8)
            kelvin = file["thermal/t2"][:]
            kelvin = kelvin[kelvin < 65535] * file["thermal/t2"].attrs["scale_factor"]
            assert 240 < np.median(kelvin) < 320
    found = find.search(Source("o", archive), Criteria(AREA, ("dunlin-l1",), bands=("swir16",)))
    assert max(entry.scene.day for entry in found) < "2023-06-01"
    assert {entry.scene.access for entry in found} == {"ask"}


@pytest.mark.slow
def test_gannet_costs_money_and_only_its_quicklooks_are_free(archive, program, tmp_path):
    entries = find.search(Source("o", archive), Criteria(AREA, ("gannet-vhr",), access=("priced",)))
    scene = entries[0].scene
    assert {km2_price(entry.scene).amount for entry in entries} <= {9.0, 12.5, 15.0}
    answer = HTTP.request("GET", scene.bands["red"].href)
    assert answer.status == 403
    assert "order it" in answer.json()["description"]
    look = scene.item["assets"]["quicklook"]["href"]
    assert HTTP.request("GET", look).data.startswith(b"\x89PNG")
    program("source", "add", "shop", archive)
    shown = program("source", "show", "shop")
    assert "9 to 15 crowns a km2" in shown.out
    assert "largest area 25 km2" in shown.out
    checked = program("source", "check", "shop")
    assert checked.code == 0
    assert "order it" in " ".join(checked.out.split())


def test_made_up_scenes_in_any_number(shared_cache):
    assert Store(shared_cache).file(Synthetic(10), Synthetic(10).by_id("made-0000003"), "made-0000003.tif") is None
    many, store = Synthetic(20_000), Store(shared_cache)
    everything = [many.item(many.by_id(f"made-{number:07d}"), "http://h", store) for number in range(0, 20_000, 41)]
    query = Query.parse({"bbox": [-30, -20, 10, 40], "limit": 500, "datetime": "2018-01-01T00:00:00Z/..",
                         "filter": {"op": "<=", "args": [{"property": "eo:cloud_cover"}, 30]}})  # fmt: skip
    count, page = many.page(query, "http://h", store)
    assert len(page) == min(500, count)
    box = shapely.box(-30, -20, 10, 40)
    found, offset = set(), 0
    while offset < count:
        _, page = many.page(Query.parse({"limit": 500} | {
            "bbox": [-30, -20, 10, 40], "datetime": "2018-01-01T00:00:00Z/..", "filter": query.filter,
            "token": token_of(offset),
        }), "http://h", store)  # fmt: skip
        found |= {item["id"] for item in page}
        offset += 500
    for item in everything:
        scene = Scene.from_item(item)
        fits = scene.footprint.intersects(box) and scene.cloud_percent <= 30 and scene.when.year >= 2018
        assert (scene.id in found) == fits


def test_more_matches_than_are_kept_in_memory_come_in_the_same_order(monkeypatch, archive):
    criteria = Criteria(AREA, ("lapwing-l2", "siskin-l2"), (Period.parse("2025-11/2026-02"),))
    usual = find.search_all([Source("o", archive)], criteria).entries
    monkeypatch.setattr("zoompick.discovery.gather.FEW", 3)
    lazy = find.search_all([Source("o", archive)], criteria).entries
    assert not isinstance(lazy, list)
    assert [e.scene.key for e in lazy] == [e.scene.key for e in usual]
    assert [round(e.cover_percent, 4) for e in lazy] == [round(e.cover_percent, 4) for e in usual]
    assert lazy[5].scene.item == usual[5].scene.item
    assert [e.scene.id for e in lazy[2:4]] == [e.scene.id for e in usual[2:4]]


@pytest.mark.slow
def test_picture_tiles_of_all_three_kinds_of_service(archive, program):
    for name, address in (
        ("wmts", f"{archive}/tiles/wmts"),
        ("json", f"{archive}/tiles/aerial/tilejson.json"),
        ("xyz", f"{archive}/tiles/natural/{{z}}/{{x}}/{{y}}.png"),
    ):
        assert program("source", "add", name, address).code == 0
        layers = TileService(name, address, Client()).layers()
        assert all(at.startswith(archive) for layer in layers for at in layer.addresses.values())
        shown = program("source", "show", name)
        assert shown.code == 0, shown.err
        searched = program("search", "--source", name, "--box", "-12.1", "-38.7", "-12", "-38.6")
        assert searched.code == 2
        assert "no scenes to search" in searched.err
        checked = program("source", "check", name)
        assert checked.code == 0, checked.out
        assert checked.out.count("tiles of") == len(layers)
    [natural, _, aerial] = TileService("wmts", f"{archive}/tiles/wmts", Client()).layers()
    levels = [matrix.name for matrix in natural.grid.matrices]
    assert (levels[0], levels[-1], aerial.grid.matrices[-1].name) == ("6", "14", "18")
    # Ground sample distance at the equator: the circumference over 256 pixels and 2 to the level.
    assert aerial.grid.matrices[-1].pixel == pytest.approx(40_075_016.686 / 256 / 2**18, rel=1e-6)
    assert "Ostrell survey" in aerial.attribution
    assert natural.bounds[0] < -12 < natural.bounds[2]


def test_a_tile_shows_the_ground_it_names(archive):
    # Tile of a place after the formula of the tile matrix set standard, computed here by itself.
    lon, lat, zoom = -11.97, -38.60, 12
    x = int((lon + 180) / 360 * 2**zoom)
    y = int((1 - np.arcsinh(np.tan(np.radians(lat))) / np.pi) / 2 * 2**zoom)
    by_path = HTTP.request("GET", f"{archive}/tiles/wmts/natural/WebMercatorQuad/{zoom}/{y}/{x}.png")
    by_query = HTTP.request("GET", f"{archive}/tiles/wmts", fields={
        "service": "WMTS", "request": "GetTile", "layer": "natural", "style": "default", "format": "image/png",
        "tilematrixset": "WebMercatorQuad", "tilematrix": str(zoom), "tilerow": str(y), "tilecol": str(x),
    })  # fmt: skip
    plain = HTTP.request("GET", f"{archive}/tiles/natural/{zoom}/{x}/{y}.png")
    assert by_path.data == by_query.data == plain.data
    whole = imagecodecs.png_decode(plain.data).astype(float)
    assert whole.shape == (256, 256, 3)
    # The four tiles of the next level show the same ground twice as large.

    def finer(row, col):
        address = f"{archive}/tiles/natural/{zoom + 1}/{2 * x + col}/{2 * y + row}.png"
        return imagecodecs.png_decode(HTTP.request("GET", address).data)

    parts = [[finer(row, col) for col in (0, 1)] for row in (0, 1)]
    large = np.vstack([np.hstack(row) for row in parts]).astype(float)
    small = large.reshape(256, 2, 256, 2, 3).mean(axis=(1, 3))
    assert np.corrcoef(small.ravel(), whole.ravel())[0, 1] > 0.9
    for address, status in (("natural/15/0/0.png", 404), ("natural/5/0/0.png", 404), ("none/8/1/1.png", 404),
                            ("natural/8/1/1.gif", 404), ("natural/8/999/1.png", 404)):  # fmt: skip
        assert HTTP.request("GET", f"{archive}/tiles/{address}").status == status
