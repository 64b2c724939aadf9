"""What files and items say of themselves: places in TIFF keys, band facts, offers of collections, sidecars."""

from __future__ import annotations

import json
import math
from datetime import UTC, datetime

import numpy as np
import pytest
import shapely
import tifffile
from pyproj import CRS, Proj

from helpers import Memory, grid, item_of, noise
from zoompick import foreign
from zoompick.cli import facts
from zoompick.errors import FormatError
from zoompick.files import multihash_of
from zoompick.geo.crs import Crs
from zoompick.geo.sizes import area_km2
from zoompick.net.client import Client
from zoompick.raster import tiffmeta
from zoompick.raster.geokeys import GeoTags, placed_by, tags_for
from zoompick.raster.grid import Grid
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band
from zoompick.raster.tiffmeta import Metadata, nodata_text, xml_for
from zoompick.raster.write import write_geotiff
from zoompick.scenes import fields, offer
from zoompick.scenes.prices import price_of
from zoompick.scenes.scene import Scene
from zoompick.scenes.sidecar import Origin, read_sidecar, sidecar_of, write_sidecar

# Places

_DIRECTORY = (1, 1, 1, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32728)


@pytest.mark.parametrize("epsg", [4326, 32728, 32601, 3857, 3031, 3413])
def test_a_grid_survives_its_tiff_keys(epsg, tmp_path):
    """Also as another reader understands them."""
    pixel = 0.0001 if epsg == 4326 else 12.5
    place = Grid(Crs(epsg), pixel, pixel * 2, -12.25, -38.5, 40, 30)
    assert placed_by(tags_for(place), 40, 30, "a").grid == place
    path = tmp_path / "a.tif"
    write_geotiff(Memory(noise((1, 30, 40)), place), path)
    assert open_raster(path).grid == place
    with tifffile.TiffFile(path) as tiff:
        told = tiff.geotiff_metadata
    assert told["ModelPixelScale"][:2] == [pixel, 2 * pixel] and told["ModelTiepoint"][3:5] == [-12.25, -38.5]
    key = "GeographicTypeGeoKey" if epsg == 4326 else "ProjectedCSTypeGeoKey"
    assert int(told[key]) == epsg


OUTSIDE = {
    "tmerc +lon_0=-12 +k=0.9999 +x_0=10000 +ellps=intl": 1,
    "merc +lon_0=10 +k=0.97": 7,
    "merc +lat_ts=30": 7,
    "lcc +lat_1=-37 +lat_2=-40 +lat_0=-38 +lon_0=-12 +x_0=500000 +y_0=1e6": 8,
    "lcc +lat_1=-37 +lat_2=-40 +lat_0=-38 +lon_0=-12 +x_0=500000 +y_0=1e6 +units=us-ft": 8,
    "lcc +lat_1=-38 +lat_0=-38 +lon_0=-12 +k_0=0.9998": 9,
    "laea +lat_0=-38 +lon_0=-12": 10,
    "aea +lat_1=-37 +lat_2=-40 +lat_0=-38 +lon_0=-12": 11,
    "aeqd +lat_0=-38 +lon_0=-12": 12,
    "stere +lat_0=-40 +lon_0=5": 14,
    "stere +lat_0=-90 +lat_ts=-70 +lon_0=12": 15,
    "stere +lat_0=-90 +k=0.98 +lon_0=12": 15,
    "sterea +lat_0=-38 +lon_0=-12 +k=0.9999 +x_0=155000": 16,
    "eqc +lat_ts=10": 17,
    "cass +lat_0=-38 +lon_0=-12": 18,
    "sinu +lon_0=-12.5 +R=6371007.181": 24,
    "cea +lat_ts=31": 28,
}


def _placed(system: object) -> np.ndarray:
    return np.array(Proj(system)([-11.9, -12.3, -13], [-38, -37, -39]))


@pytest.mark.parametrize(("told", "method"), OUTSIDE.items())
def test_systems_outside_the_register_are_written_and_read(tmp_path, told, method):
    exact = CRS.from_user_input(f"+proj={told}")
    for form in ("WKT2_2019", "WKT1_GDAL", "WKT1_ESRI"):
        crs = Crs.parse(exact.to_wkt(form))
        assert crs.epsg == 0 and Crs.parse(crs.code) == crs
        np.testing.assert_allclose(_placed(CRS.from_wkt(crs.text)), _placed(exact), atol=1e-6)
    crs = Crs.parse(exact.to_wkt())
    place = Grid(crs, 10.0, 10.0, 1000.0, 2000.0, 40, 30)
    write_geotiff(Memory(noise((1, 30, 40)), place), tmp_path / "a.tif")
    assert open_raster(tmp_path / "a.tif").grid == place
    with tifffile.TiffFile(tmp_path / "a.tif") as tiff:
        keys = tiff.geotiff_metadata
    assert int(keys["ProjCoordTransGeoKey"]) == method and int(keys["ProjectedCSTypeGeoKey"]) == 32767


def test_a_system_told_by_keys_as_others_write_them(tmp_path):
    # Sinusoidal of a sphere told by both axes, its meridian under another key, in kilometres, without a name.
    entries = [(1024, 0, 1, 1), (1025, 0, 1, 1), (2048, 0, 1, 32767), (2057, 34736, 1, 0), (2058, 34736, 1, 1),
               (3072, 0, 1, 32767), (3075, 0, 1, 24), (3076, 0, 1, 9036), (3080, 34736, 1, 2)]  # fmt: skip
    flat = (1, 1, 0, len(entries), *(number for entry in entries for number in entry))
    tags = [(34735, "H", len(flat), flat, True), (34736, "d", 3, (6371007.181, 6371007.181, -12.5), True),
            (33550, "d", 3, (0.01, 0.01, 0.0), True), (33922, "d", 6, (0, 0, 0, 3.0, -4200.0, 0), True)]  # fmt: skip
    tifffile.imwrite(tmp_path / "a.tif", noise((30, 40)), extratags=tags)
    found = open_raster(tmp_path / "a.tif").grid
    exact = CRS.from_user_input("+proj=sinu +lon_0=-12.5 +R=6371007.181 +units=km")
    np.testing.assert_allclose(_placed(CRS.from_wkt(found.crs.code)), _placed(exact), atol=1e-9)
    assert found.pixel_m == pytest.approx(10)


def test_a_system_of_ones_own_goes_through_the_commands(tmp_path, program):
    exact = CRS.from_user_input("+proj=laea +lat_0=-38 +lon_0=-12")
    (tmp_path / "own.prj").write_text(exact.to_wkt("WKT1_ESRI"))
    place = Grid(Crs(32729), 10, 10, 280_000, 5_790_000, 120, 90)
    write_geotiff(Memory(noise((1, 90, 120)), place, 0, (Band("red"),)), tmp_path / "red.tif")
    for name, crs in (("a", "own.prj"), ("b", exact.to_wkt())):
        made = program("stack", "red.tif", "--crs", crs, "--pixel", 10, "--out", name, cwd=tmp_path)
        assert made.code == 0, made.err
    assert (tmp_path / "a.tif").read_bytes() == (tmp_path / "b.tif").read_bytes()
    grid = open_raster(tmp_path / "a.tif").grid
    np.testing.assert_allclose(_placed(CRS.from_wkt(grid.crs.text)), _placed(exact), atol=1e-6)
    told = json.loads((tmp_path / "a.tif.stac.json").read_text())["properties"]
    assert told["proj:code"] is None and CRS.from_wkt(told["proj:wkt2"]).coordinate_operation.method_name.startswith(
        "Lambert Az"
    )
    assert program("verify", "a.tif", cwd=tmp_path).code == 0
    drawn = program("picture", "a.tif", "--out", "a.png", cwd=tmp_path)
    assert drawn.code == 0, drawn.err
    (tmp_path / "odd.prj").write_text(CRS.from_user_input("+proj=ortho +lat_0=-38 +lon_0=-12").to_wkt())
    refused = program("stack", "red.tif", "--crs", "odd.prj", "--pixel", 10, "--out", "c", cwd=tmp_path)
    assert refused.code == 2 and "Orthographic" in refused.err and not (tmp_path / "c.tif").exists()
    assert program("stack", "red.tif", "--crs", "none.prj", "--out", "c", cwd=tmp_path).code == 2


def test_points_stand_in_the_middle_of_their_pixels():
    directory = list(_DIRECTORY)
    directory[directory.index(1025) + 3] = 2
    tags = GeoTags((8.0, 8.0, 0.0), (0.0, 0.0, 0.0, 100.0, 200.0, 0.0), (), directory)
    place = placed_by(tags, 4, 4, "a").grid
    assert (place.west, place.north) == (96, 204)
    anchored = GeoTags((8.0, 8.0, 0.0), (2.0, 3.0, 0.0, 100.0, 200.0, 0.0), (), _DIRECTORY)
    place = placed_by(anchored, 4, 4, "a").grid
    assert (place.west, place.north) == (84, 224)


@pytest.mark.parametrize(
    ("tags", "said"),
    [
        (GeoTags(), "without a georeference"),
        (GeoTags(directory=_DIRECTORY), "not where its pixels lie"),
        (GeoTags((8.0, 0.0, 0.0), (0.0,) * 6, (), _DIRECTORY), "no extent"),
        (GeoTags((), (), (8.0, 4.0, 0, 0, 2.0, 1.0, 0, 0), _DIRECTORY), "no extent"),
        (GeoTags((8.0, 8.0), (0.0,) * 6, (), (1, 1, 0, 1, 3072, 0, 1, 32767)), "by an EPSG number"),
        (GeoTags((8.0, 8.0), (0.0,) * 6, (), (1, 1)), "by an EPSG number"),
    ],
)
def test_places_that_are_not_told_are_refused(tags, said):
    with pytest.raises(FormatError, match=said):
        placed_by(tags, 10, 10, "a.tif")


# Bands in files


@pytest.mark.parametrize("name", ["red", 'a < b & "c"', "Röhricht", "  spaced  ", "x" * 300])
def test_names_and_units_survive_the_metadata_tag(name):
    bands = (Band(name, 0.0001, -0.1, "1"), Band("nir"))
    read = Metadata.parse(xml_for(bands, _statistics(2), True), "")
    found = read.bands_of(2)
    assert found[0] == Band(name.strip(), 0.0001, -0.1, "1") and found[1].name == "nir"
    assert read.items[(1, "STATISTICS_VALID_PERCENT")] == "50"
    assert [band.name for band in read.bands_of(3, ("one",))] == ["one", "nir", "band3"]


def _statistics(count):
    from zoompick.raster.statistics import BandStatistics

    values = np.array([[0, 1], [0, 3]], np.uint16)
    return tuple(BandStatistics.of(values, 0) for _ in range(count))


@pytest.mark.parametrize(
    "xml",
    ["", "<broken", "<ROOT><Item name='SCALE' sample='0'>many</Item></ROOT>",
     "<!DOCTYPE x [<!ENTITY a 'b'>]><ROOT><Item name='DESCRIPTION' sample='0'>&a;</Item></ROOT>",
     "<ROOT><Item name='SCALE' sample='0'>0</Item><Item name='OFFSET' sample='0'>inf</Item></ROOT>"],
)  # fmt: skip
def test_metadata_that_cannot_be_used_counts_as_missing(xml):
    xml = xml.replace("ROOT", tiffmeta._ROOT)
    [band] = Metadata.parse(xml, "nothing").bands_of(1)
    assert (band.name, band.scale, band.offset) == ("band1", 1, 0)
    assert Metadata.parse(xml, "nothing").nodata is None


@pytest.mark.parametrize(
    ("value", "text"), [(0, "0"), (-9999.0, "-9999"), (0.1, "0.1"), (1e-38, "1e-38"), (math.nan, "nan")]
)
def test_no_data_as_text(value, text):
    assert nodata_text(value) == text
    read = Metadata.parse("", text + "\0").nodata
    assert math.isnan(read) if math.isnan(value) else read == value


# Items and collections


def test_properties_are_asked_by_meaning():
    told = fields.Told(
        {"eo:cloud_cover": 12, "x:sun_elevation": None, "view:sun_elevation": "high", "platform": True}
    )
    assert told.number("cloud") == 12 and told.number("sun_elevation") is None
    assert told.text("baseline") == ""
    assert [foreign.number(value) for value in (1, 1.5, True, math.nan, "1", None)] == [
        1,
        1.5,
        None,
        None,
        None,
        None,
    ]
    noon = datetime(2025, 12, 15, 12, tzinfo=UTC)
    assert foreign.moment("2025-12-15T12:00:00Z") == foreign.moment("2025-12-15T14:00:00+02:00") == noon
    assert foreign.moment("2025-12-15T12:00:00") == noon
    assert [foreign.moment(text) for text in ("soon", None, 5)] == [None, None, None]


COLLECTION = {
    "license": "proprietary",
    "extent": {
        "temporal": {"interval": [["2018-01-01T00:00:00Z", None]]},
        "spatial": {"bbox": [[-13, -39, -11, -38]]},
    },
    "summaries": {"platform": ["one", "two"], "gsd": [8, 16], "processing:level": ["L2"], "x:access": "ask"},
    "y:limits": {"scenes_an_order": 5, "largest_area_km2": 25, "side_px": 4096, "note": "polite"},
    "z:price_km2": {"from": 9, "to": 15.5, "currency": "crowns"},
    "item_assets": {
        "image": {
            "gsd": 0.5,
            "bands": [{"name": "b1", "eo:common_name": "red", "eo:center_wavelength": 0.66}, "odd"],
        },
        "old": {
            "eo:bands": [{"name": "B8", "common_name": "nir", "full_width_half_max": 0.1}],
            "title": "Near infrared",
        },
        "text": "no object",
    },
}


def test_what_a_collection_offers_is_told_in_words():
    told = dict(facts.of_collection(COLLECTION))
    assert told["dates"] == "since 2018-01-01" and told["where"] == "west -13, south -39, east -11, north -38"
    assert told["pixels (m)"] == "8, 16" and told["level L2"] == "not told what for" and told["access"] == "ask"
    assert told["price"] == "9 to 15.5 crowns a km2"
    assert told["limits"] == "scenes an order 5, largest area 25 km2, side 4096 px, note polite"
    assert offer.limits(COLLECTION) == {"scenes_an_order": 5, "largest_area_km2": 25, "side_px": 4096}
    rows = [(band.asset, band.name, band.common_name, band.wavelength_um, band.pixel_m, band.what)
            for band in offer.bands(COLLECTION)]  # fmt: skip
    assert rows == [
        ("image", "b1", "red", "0.66", "0.5", ""), ("image", "", "", "", "0.5", ""),
        ("old", "B8", "nir", "", "", "Near infrared"),
    ]  # fmt: skip


@pytest.mark.parametrize("broken", [{}, {"extent": "all"}, {"summaries": [1]}, {"item_assets": [], "y:limits": 5}])
def test_a_collection_that_tells_little_or_nonsense_is_no_error(broken):
    assert (
        dict(facts.of_collection(broken)).keys() <= {"limits"}
        and offer.limits(broken) == {}
        and offer.bands(broken) == []
    )


def test_a_price_is_for_the_part_in_the_area():
    square = shapely.box(0, 0, 0.1, 0.1)
    item = {"id": "a", "geometry": shapely.geometry.mapping(square), "links": [], "assets": {},
            "properties": {"datetime": "2025-12-15T00:00:00Z", "x:price_km2": 3, "x:currency": "crowns"}}  # fmt: skip
    scene, half = Scene.from_item(item), shapely.box(0.05, -1, 1, 1)
    assert scene.access == "priced"
    assert price_of(scene, None).money.amount == pytest.approx(3 * area_km2(square))
    price = price_of(scene, half)
    assert price.money.amount == pytest.approx(3 * area_km2(square) / 2, rel=1e-6)
    assert price.text == f"{price.money.amount:.2f} crowns for {price.km2:.2f} km2"
    assert price_of(scene, shapely.box(5, 5, 6, 6)).money.amount == 0
    del item["properties"]["x:price_km2"]
    assert price_of(Scene.from_item(item), None) is None
    assert price_of(Scene.from_item(item | {"geometry": None}), None) is None


# Sidecars


def test_a_sidecar_tells_what_was_made_of_what(tmp_path):
    source, product = tmp_path / "scenes" / "in.tif", tmp_path / "products" / "day" / "out.tif"
    for path in (source, product):
        path.parent.mkdir(parents=True)
    raster = Memory(noise((2, 60, 80)), grid(80, 60), 0, (Band("red", 0.0001, -0.1), Band("nir", 0.0001, -0.1)))
    write_geotiff(raster, source)
    written = write_geotiff(raster, product)
    when = datetime(2025, 12, 15, 11, 17, 24, tzinfo=UTC)
    origin = Origin("stack", {"bands": ["red", "nir"]}, {source: multihash_of(source)}, when)
    assert write_sidecar(raster, written, origin) == sidecar_of(product)
    item = json.loads(sidecar_of(product).read_text())
    assert item["links"][0]["href"] == "../../scenes/in.tif" and item["links"][0]["rel"] == "derived_from"
    assert item["properties"]["datetime"] == "2025-12-15T11:17:24Z"
    assert item["properties"]["proj:transform"] == [8, 0, 752000, 0, -8, 5720000]
    band = item["assets"]["data"]["bands"][0]
    inside = raster.pixels[0][raster.pixels[0] != 0]
    assert (band["name"], band["raster:scale"], band["nodata"]) == ("red", 0.0001, 0)
    assert band["statistics"]["mean"] == pytest.approx(inside.mean())
    assert item["assets"]["data"]["file:checksum"] == multihash_of(product)
    known = read_sidecar(product)
    assert (known.fingerprint, known.size, known.when) == (origin.fingerprint, product.stat().st_size, when)
    west, south, east, north = item["bbox"]
    assert shapely.from_geojson(json.dumps(item["geometry"])).bounds == (west, south, east, north)


def test_fingerprints_change_with_all_that_decides(tmp_path):
    path = tmp_path / "a.tif"
    plain = Origin("stack", {"bands": ["red"]}, {path: "1220aa"})
    same = Origin("stack", {"bands": ["red"]}, {tmp_path / "elsewhere" / "a.tif": "1220aa"}, datetime.now(UTC))
    assert same.fingerprint == plain.fingerprint
    others = [
        Origin("clip", plain.options, plain.inputs), Origin("stack", {"bands": ["nir"]}, plain.inputs),
        Origin("stack", plain.options, {path: "1220ab"}),
        Origin("stack", plain.options, {tmp_path / "b.tif": "1220aa"}),
    ]  # fmt: skip
    assert len({origin.fingerprint for origin in [plain, *others]}) == 5
    assert read_sidecar(path) is None
    sidecar_of(path).write_text('{"assets": {}}')
    assert read_sidecar(path) is None


def test_an_item_as_the_archive_tells_it_says_the_same_through_the_scene(archive):
    item = item_of(archive)
    scene = Scene.from_item(Client().json(next(e["href"] for e in item["links"] if e["rel"] == "self")), "ostrell")
    told = item["properties"]
    assert scene.cloud_percent == told["eo:cloud_cover"] and scene.platform == told["platform"]
    assert str(scene.crs) == told["proj:code"] and scene.sun_elevation_deg == told["view:sun_elevation"]
    assert scene.footprint.equals(shapely.from_geojson(json.dumps(item["geometry"])))
    assert {band.key for band in scene.bands.values()} == {
        key for key, asset in item["assets"].items() if "data" in asset["roles"]}  # fmt: skip
