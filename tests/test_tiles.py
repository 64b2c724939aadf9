"""Picture tiles: grids after the standard, stores, polite fetching, joining in place."""

from __future__ import annotations

import math
import sqlite3

import imagecodecs
import numpy as np
import pytest
import shapely
import tifffile

from badserver import Handler, serving
from helpers import Memory, grid, noise
from zoompick.errors import DataError, DiskError, NothingFoundError, SourceError, UnknownNameError, UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.tilegrid import MERCATOR, Matrix, TileGrid, TileKey, web_mercator
from zoompick.net.client import Client
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opening import open_raster
from zoompick.raster.tilepicture import TilePicture
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.scenes.source import Source
from zoompick.scenes.tileservice import TileService
from zoompick.tiles import tiles as workflow
from zoompick.tiles.getting import fetch_tiles, plan_tiles
from zoompick.tiles.tilestore import TileStore

FEN = shapely.box(-12.09, -38.64, -12.00, -38.59)


def slippy(lon: float, lat: float, zoom: int) -> tuple[int, int]:
    """Column and row by the spherical formula of the standard's annex, computed here by itself."""
    count = 2**zoom
    y = (1 - math.log(math.tan(math.radians(lat)) + 1 / math.cos(math.radians(lat))) / math.pi) / 2
    return int((lon + 180) / 360 * count), int(y * count)


@pytest.mark.parametrize(("lon", "lat"), [(-12.04, -38.61), (0.1, 0.1), (179.9, 80.0), (-179.9, -80.0)])
@pytest.mark.parametrize("zoom", [0, 6, 14, 19])
def test_the_tile_over_a_place(lon, lat, zoom):
    point = shapely.Point(lon, lat).buffer(1e-9)
    found = web_mercator().under(point, web_mercator().level(str(zoom)))
    assert [(key.col, key.row) for key in found] == [slippy(lon, lat, zoom)]


def test_tiles_under_an_area_are_those_it_touches():
    matrix = web_mercator().level("13")
    keys = web_mercator().under(FEN, matrix)
    west, north = slippy(-12.09, -38.59, 13)
    east, south = slippy(-12.00, -38.64, 13)
    assert {(k.col, k.row) for k in keys} == {(c, r) for c in range(west, east + 1) for r in range(north, south + 1)}
    triangle = shapely.Polygon([(-12.09, -38.64), (-12.00, -38.64), (-12.09, -38.59)])
    assert set(web_mercator().under(triangle, matrix)) < set(keys)
    assert web_mercator().under(shapely.box(-180, 86, 180, 90), matrix) == []


@pytest.mark.parametrize(
    ("pixel_m", "lat", "zoom"),
    [
        (10, 0, "14"), (10, -38.6, "14"), (9.6, 0, "14"), (9.5, 0, "15"), (5, 60, "14"), (1e9, 0, "0"),
        (1e-9, 0, "24"),
    ],
)  # fmt: skip
def test_the_level_for_a_ground_sample_distance(pixel_m, lat, zoom):
    assert web_mercator().level_for(pixel_m, lat).name == zoom


def test_pixels_on_the_ground():
    level = web_mercator().level("14")
    assert web_mercator().ground_m(level, 0) == pytest.approx(40_075_016.686 / 256 / 2**14, rel=1e-9)
    assert web_mercator().ground_m(level, 60) == pytest.approx(40_075_016.686 / 256 / 2**15, rel=1e-9)
    degrees = TileGrid("d", LONLAT, (Matrix("0", 0.001, -180, 90, 256, 256, 9, 9),))
    assert degrees.ground_m(degrees.matrices[0], 50) == pytest.approx(111.3195, rel=1e-5)


CAPABILITIES = """<?xml version="1.0"?>
<Capabilities xmlns="http://www.opengis.net/wmts/1.0" xmlns:ows="http://www.opengis.net/ows/1.1"
 xmlns:xlink="http://www.w3.org/1999/xlink" version="1.0.0">
<ows:ServiceIdentification><ows:AccessConstraints>none</ows:AccessConstraints></ows:ServiceIdentification>
<ows:OperationsMetadata><ows:Operation name="GetTile"><ows:DCP><ows:HTTP><ows:Get xlink:href="kvp?map=1"/></ows:HTTP>
</ows:DCP></ows:Operation></ows:OperationsMetadata>
<Contents>
<Layer><ows:Title>Both</ows:Title><ows:Identifier>both</ows:Identifier>
<Style><ows:Identifier>plain</ows:Identifier></Style>
<Style isDefault="true"><ows:Identifier>best</ows:Identifier></Style>
<Format>image/jpeg</Format><Format>image/png</Format>
<TileMatrixSetLink><TileMatrixSet>degrees</TileMatrixSet></TileMatrixSetLink></Layer>
<Layer><ows:Identifier>nowhere</ows:Identifier><Format>image/png</Format>
<TileMatrixSetLink><TileMatrixSet>unknown</TileMatrixSet></TileMatrixSetLink></Layer>
<TileMatrixSet><ows:Identifier>degrees</ows:Identifier><ows:SupportedCRS>urn:ogc:def:crs:EPSG::4326</ows:SupportedCRS>
<TileMatrix><ows:Identifier>fine</ows:Identifier><ScaleDenominator>1.3975e8</ScaleDenominator>
<TopLeftCorner>90.0 -180.0</TopLeftCorner><TileWidth>256</TileWidth><TileHeight>256</TileHeight>
<MatrixWidth>4</MatrixWidth><MatrixHeight>2</MatrixHeight></TileMatrix>
<TileMatrix><ows:Identifier>coarse</ows:Identifier><ScaleDenominator>2.795e8</ScaleDenominator>
<TopLeftCorner>90.0 -180.0</TopLeftCorner><TileWidth>256</TileWidth><TileHeight>256</TileHeight>
<MatrixWidth>2</MatrixWidth><MatrixHeight>1</MatrixHeight></TileMatrix></TileMatrixSet>
<TileMatrixSet><ows:Identifier>unknown</ows:Identifier><ows:SupportedCRS>a made-up one</ows:SupportedCRS>
<TileMatrix><ows:Identifier>0</ows:Identifier></TileMatrix></TileMatrixSet>
</Contents></Capabilities>"""


def test_capabilities_in_degrees_with_key_value_pairs():
    with serving() as url:
        Handler.files["/file/caps.xml"] = CAPABILITIES.encode()
        service = TileService("s", f"{url}/file/caps.xml", Client())
        [layer] = service.layers()
    assert (layer.name, layer.style, layer.attribution) == ("both", "best", "")
    coarse, fine = layer.grid.matrices
    assert (coarse.name, fine.name, layer.grid.crs) == ("coarse", "fine", LONLAT)
    assert coarse.bounds_of(TileKey(0, 0)) == Bounds(-180, pytest.approx(-90, abs=0.1), pytest.approx(0, abs=0.1), 90)
    [key] = layer.grid.under(shapely.box(10, 20, 11, 21), fine)
    assert key == TileKey(0, 2)
    address = layer.address(fine, key, layer.form("png"))
    assert address.startswith(f"{url}/file/kvp?map=1&SERVICE=WMTS&REQUEST=GetTile")
    for word in ("LAYER=both", "STYLE=best", "TILEMATRIX=fine", "TILEROW=0", "TILECOL=2", "FORMAT=image/png"):
        assert word in address
    assert layer.form() == "image/jpeg"
    with pytest.raises(UsageError, match="no tiles as webp"):
        layer.form("webp")


@pytest.mark.parametrize(
    ("pattern", "expected"),
    [("{z}/{x}/{y}.jpg", "3/1/2.jpg"), ("{z}/{y}/{x}", "3/2/1"), ("{z}/{x}/{-y}.png", "3/1/5.png")],
)
def test_address_patterns(pattern, expected):
    [layer] = TileService("s", f"http://h/{pattern}", Client()).layers()
    assert layer.address(layer.grid.level("3"), TileKey(2, 1), layer.form()) == f"http://h/{expected}"


def test_tilejson_that_counts_from_the_south():
    with serving() as url:
        Handler.files["/file/t.json"] = (
            b'{"tiles": ["{z}/{x}/{y}.webp"], "scheme": "tms", "minzoom": 2, "maxzoom": 4}'
        )
        layer = TileService("s", f"{url}/file/t.json", Client()).layer("")
    assert [matrix.name for matrix in layer.grid.matrices] == ["2", "3", "4"]
    assert layer.address(layer.grid.level("3"), TileKey(2, 1), layer.form()).endswith("/file/3/1/5.webp")
    assert layer.form() == "image/webp"


def test_a_store_is_what_the_standard_says(tmp_path):
    path = tmp_path / "t.mbtiles"
    with TileStore(path) as store:
        store.put(3, 8, [(TileKey(2, 1), b"data")])
        store.mark_absent(3, 8, [(TileKey(0, 0), 404)])
        store.describe({"name": "a", "format": "png"})
        assert store.known(3, 8) == ({TileKey(2, 1)}, {TileKey(0, 0)})
        assert (store.tile(3, 8, TileKey(2, 1)), store.tile(3, 8, TileKey(5, 5))) == (b"data", None)
        assert store.mean_bytes() == 4
        with pytest.raises(UsageError, match="holds tiles of a"):
            store.describe({"name": "b"})
        store.put(3, 8, [(TileKey(0, 0), b"late")])
        assert store.known(3, 8)[1] == set()
    assert [p.name for p in tmp_path.iterdir()] == ["t.mbtiles"]
    rows = sqlite3.connect(path).execute("SELECT zoom_level, tile_column, tile_row FROM tiles ORDER BY tile_row")
    assert list(rows) == [(3, 1, 5), (3, 0, 7)]
    path.write_bytes(b"this is no database" * 100)
    with pytest.raises(DataError, match="no tile store"):
        TileStore(path)
    with pytest.raises(UsageError, match="There is no tile store"):
        TileStore(tmp_path / "none", must_exist=True)


PNG = imagecodecs.png_encode(np.full((256, 256, 3), 90, np.uint8))
MATRIX = web_mercator().level("3")
KEYS = [TileKey(row, col) for row in range(2) for col in range(4)]


def got(url: str, word: str, store: TileStore, parallel: int = 3):
    plan = plan_tiles(MATRIX, 3, KEYS, store.known(3, 8))
    return fetch_tiles(
        plan, lambda key: f"{url}/{word}/{key.row}-{key.col}.png", "image/png", store, Client(), parallel
    )


def test_tiles_come_once_and_missing_ones_are_remembered(tmp_path):
    with serving() as url, TileStore(tmp_path / "t.mbtiles") as store:
        for key in KEYS[:6]:
            Handler.files[f"/only/{key.row}-{key.col}.png"] = PNG
        first = got(url, "only", store)
        assert (first.done, first.absent, first.failed, first.received) == (6, 2, (), 6 * len(PNG))
        asked = len(Handler.seen)
        again = got(url, "only", store)
        assert (again.done, again.absent, len(Handler.seen)) == (0, 0, asked)


@pytest.mark.parametrize(
    ("word", "what"), [("page", "a web page"), ("html", "a web page"), ("status/403", "answered 403")]
)
def test_what_is_no_tile_is_not_kept(tmp_path, word, what):
    with serving() as url, TileStore(tmp_path / "t.mbtiles") as store:
        outcome = got(url, word, store)
        assert store.known(3, 8) == (set(), set())
    assert len(outcome.failed) == len(KEYS)
    assert what in outcome.failed[0][1].what


def test_a_service_that_only_refuses_is_left_alone(tmp_path, monkeypatch):
    monkeypatch.setattr("zoompick.tiles.getting._MOST_FAILURES", 3)
    with serving() as url, TileStore(tmp_path / "t.mbtiles") as store:
        assert len(got(url, "status/403", store, parallel=1).failed) < len(KEYS)


# Joining


def mosaic(pixels: np.ndarray, encode) -> TilePicture:
    """A picture cut into tiles of 64 px by another hand."""

    def lookup(row, col):
        part = pixels[:, row * 64 : row * 64 + 64, col * 64 : col * 64 + 64]
        return encode(np.ascontiguousarray(np.moveaxis(part, 0, 2)))

    return TilePicture(grid(pixels.shape[2], pixels.shape[1]), (64, 64), lookup)


def test_a_mosaic_of_tiles_is_the_picture():
    pixels = noise((3, 192, 256), "uint8", 0, 256)
    whole = mosaic(pixels, imagecodecs.png_encode)
    shown = np.maximum(pixels, 1)
    np.testing.assert_array_equal(whole.read(whole.grid.window), shown)
    np.testing.assert_array_equal(whole.read(Window(50, 60, 100, 70)), shown[:, 60:130, 50:150])
    outside = whole.read(Window(-10, 180, 20, 20), (1,))
    assert not outside[0, :, :10].any() and not outside[0, 12:].any()
    np.testing.assert_array_equal(outside[0, :12, 10:], shown[1, 180:, :10])


def test_grey_transparent_and_missing_tiles():
    alpha = np.full((64, 64, 4), 200, np.uint8)
    alpha[:32, :, 3] = 0
    grey = np.full((64, 64), 77, np.uint8)
    tiles = {(0, 0): imagecodecs.png_encode(alpha), (0, 1): imagecodecs.png_encode(grey)}
    picture = TilePicture(grid(192, 64), (64, 64), lambda row, col: tiles.get((row, col)))
    pixels = picture.read(picture.grid.window)
    assert not pixels[:, :32, :64].any() and (pixels[:, 32:, :64] == 200).all()
    assert (pixels[:, :, 64:128] == 77).all() and not pixels[:, :, 128:].any()
    wrong = TilePicture(grid(64, 64), (64, 64), lambda row, col: imagecodecs.png_encode(np.zeros((32, 32), np.uint8)))
    with pytest.raises(DataError, match="32 x 32 px"):
        wrong.read(wrong.grid.window)
    with pytest.raises(DataError, match="cannot be decoded"):
        TilePicture(grid(64, 64), (64, 64), lambda row, col: b"GIF89a").read(Window(0, 0, 8, 8))


@pytest.mark.parametrize("compression", ["jpeg", "webp", "deflate"])
def test_a_picture_in_every_codec_reads_back_also_elsewhere(tmp_path, compression):
    rows, cols = np.mgrid[0:300, 0:400]
    smooth = np.stack([np.sin(rows / 40) * 60 + 128, np.cos(cols / 50) * 60 + 128, (rows + cols) / 6 + 60]).astype(
        np.uint8
    )
    raster = Memory(smooth, grid(400, 300), 0)
    path = tmp_path / "p.tif"
    write_geotiff(raster, path, WriteOptions(compression=compression, is_rgb=True, side=128, credit="Somebody"))
    tiff = open_raster(path)
    ours = tiff.read(tiff.grid.window).astype(int)
    theirs = np.moveaxis(tifffile.imread(path, series=0, level=0), 2, 0).astype(int)
    worst = 0 if compression == "deflate" else 24
    assert np.abs(ours - smooth).max() <= worst
    assert np.abs(ours - theirs).max() <= 2
    assert tiff.nodata == 0
    with tifffile.TiffFile(path) as file:
        assert file.pages[0].tags[33432].value == "Somebody"
    with pytest.raises(UsageError, match="8-bit colours"):
        write_geotiff(Memory(noise((1, 64, 64)), grid(64, 64)), path, WriteOptions(compression="jpeg"))


def test_a_store_that_cannot_grow_keeps_what_came(tmp_path):
    path = tmp_path / "t.mbtiles"
    with TileStore(path) as store:
        store.put(3, 8, [(TileKey(0, 0), b"x" * 3000)])
        store._base.execute("PRAGMA max_page_count = 20")
        with pytest.raises(DiskError, match="no room left"):
            store.put(3, 8, [(TileKey(1, col), b"y" * 60_000) for col in range(4)])
        store._base.execute("PRAGMA busy_timeout = 1")
        other = sqlite3.connect(path)
        other.execute("BEGIN IMMEDIATE")
        for refused in (
            lambda: store.mark_absent(3, 8, [(TileKey(2, 2), 404)]),
            lambda: store.describe({"name": "n"}),
        ):
            with pytest.raises(DiskError, match="is locked"):
                refused()
        other.close()
        assert store.known(3, 8) == ({TileKey(0, 0)}, set())
    assert [entry.name for entry in tmp_path.iterdir()] == ["t.mbtiles"]


def test_tiles_as_a_user_does(program, archive, tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path / "config"))
    nothing = program("tiles", "plan", "--box", 1, 1, 2, 2)
    assert nothing.code == 2 and "No service of picture tiles" in nothing.err
    assert "No tiles are stored" in program("tiles", "join", "--box", 1, 1, 2, 2).err
    program("source", "add", "pictures", f"{archive}/tiles/wmts")
    box = ("--box", -12.06, -38.62, -12.03, -38.60)
    levels = program("tiles", "plan", "--source", "pictures", "--layer", "natural", *box, "--json").json
    assert [row["zoom"] for row in levels] == [str(z) for z in range(6, 15)]
    wanted = ("--source", "pictures", "--layer", "natural", "--zoom", 12, *box)
    plan = program("tiles", "plan", *wanted, "--json").json
    assert plan["fetch"] == plan["tiles"] > 0 and plan["bytes"] > 1000 and "Ostrell survey" in plan["attribution"]
    words = program("tiles", "plan", "--source", "pictures", "--layer", "natural", "--pixel-max", 30, *box)
    assert "12 of 6 to 14" in words.out
    first = program("tiles", "get", *wanted, "--store", "t.mbtiles", "--file-format", "jpg")
    assert first.code == 0, first.err
    again = program("tiles", "get", *wanted, "--store", "t.mbtiles", "--file-format", "jpg")
    assert f"{plan['tiles']} were here" in again.err and again.err.startswith("0 tiles")
    other = program("tiles", "get", *wanted, "--store", "t.mbtiles")
    assert other.code == 2 and "holds tiles of jpg" in other.err
    joined = program("tiles", "join", "--store", "t.mbtiles", *box, "--out", "p.tif")
    assert joined.code == 0 and "Credit, kept in the file: Ostrell survey" in joined.err
    assert program("tiles", "join", "--store", "t.mbtiles", *box, "--out", "p.tif").code == 2
    assert program("verify", "p.tif").code == 0
    tiff = open_raster(tmp_path / "p.tif")
    assert tiff.grid.crs == MERCATOR and tiff.read(tiff.grid.window)[:, 2:-2, 2:-2].min() > 0
    sized = program("tiles", "join", "--store", "t.mbtiles", *box, "--pixel-max", 31, "--out", "sized.tif")
    assert sized.code == 0 and open_raster(tmp_path / "sized.tif").grid == tiff.grid
    finer = program("tiles", "join", "--store", "t.mbtiles", *box, "--pixel-max", 20, "--out", "finer.tif")
    assert finer.code == 2 and "has pixels of 29.9 m" in finer.err, "cos 38.6 degrees of 38.2 m"
    words = ("--pixel-max", 31, "--zoom", 12, "--out", "both.tif")
    both = program("tiles", "join", "--store", "t.mbtiles", *box, *words)
    assert both.code == 2 and "A zoom level and a pixel size were told" in both.err
    far = program("tiles", "join", "--store", "t.mbtiles", "--box", 10, 10, 11, 11, "--out", "q.tif")
    assert far.code == 3 and not (tmp_path / "q.tif").exists()
    for words, code in ((("--zoom", 3), 2), (("--zoom", 12, "--pixel-max", 5), 2), (("--pixel-max", -1), 2)):
        assert program("tiles", "plan", "--source", "pictures", "--layer", "natural", *words, *box).code == code
    assert program("tiles", "get", "--source", "pictures", "--layer", "none", "--zoom", 12, *box).code == 2


def test_tiles_on_a_study_grid_lie_where_the_scenes_lie(tmp_path, archive):
    """The picture carried onto a UTM grid shows the ground that a scene of the same day shows."""
    source = Source("p", f"{archive}/tiles/wmts", "tiles")
    client, area = Client(), shapely.box(-12.06, -38.62, -12.04, -38.605)
    layer = workflow.open_layer(source, "natural", client)
    with TileStore(tmp_path / "t.mbtiles") as store:
        prepared = workflow.prepare(layer, workflow.TileOptions("14"), area, store, client)
        workflow.get(prepared, area, store, client, source)
        target = Grid.snapped(Bounds(756200, 5721200, 757800, 5722600), Crs(32728), 8)
        options = WriteOptions(is_rgb=True)
        workflow.join(store, "14", area, tmp_path / "utm.tif", options, target)
        with pytest.raises(NothingFoundError):
            workflow.join(store, "14", shapely.box(0, 0, 1, 1), tmp_path / "x.tif", options)
        with pytest.raises(UsageError, match="no tiles of level 9"):
            workflow.join(store, "9", area, tmp_path / "x.tif", options)
    joined = open_raster(tmp_path / "utm.tif")
    assert joined.grid.crs == Crs(32728)
    from test_getting import item_of
    from zoompick.net.ranges import RemoteFile
    from zoompick.scenes.bands import files_of

    scene = open_raster(RemoteFile(files_of(item_of(archive))["red"].href, client))
    overlap = scene.grid.window_of(joined.grid.bounds)
    seen = scene.read(overlap)[0].astype(float)
    place = scene.grid.part(overlap)
    shown = joined.read(joined.grid.window_of(place.bounds))[0].astype(float)
    rows, cols = min(seen.shape[0], shown.shape[0]), min(seen.shape[1], shown.shape[1])
    both = (shown[:rows, :cols] > 0) & (seen[:rows, :cols] > 0)
    assert both.sum() > 1000
    best = {
        (dy, dx): np.corrcoef(np.roll(seen, (dy, dx), (0, 1))[:rows, :cols][both], shown[:rows, :cols][both])[0, 1]
        for dy in (-3, 0, 3) for dx in (-3, 0, 3)
    }  # fmt: skip
    assert max(best, key=best.get) == (0, 0) and best[0, 0] > 0.6


def test_a_source_of_scenes_has_no_tiles(archive):
    with pytest.raises(UsageError, match="no picture tiles"):
        workflow.open_layer(Source("o", archive), "", Client())
    with pytest.raises(SourceError):
        workflow.open_layer(Source("o", f"{archive}/tiles/none/tilejson.json", "tiles"), "", Client())


def several_grids(name: str) -> str:
    """Capabilities of a layer on two grids, the system of one called ``name``; levels 05 and 06, corner as told."""

    def matrices(corner: str, scale: float) -> str:
        return "".join(
            f"<TileMatrix><ows:Identifier>0{5 + n}</ows:Identifier>"
            f"<ScaleDenominator>{scale / 2**n}</ScaleDenominator>"
            f"<TopLeftCorner>{corner}</TopLeftCorner><TileWidth>256</TileWidth><TileHeight>256</TileHeight>"
            f"<MatrixWidth>{32 * 2**n}</MatrixWidth><MatrixHeight>{32 * 2**n}</MatrixHeight></TileMatrix>"
            for n in range(2)
        )

    links = "".join(f"<TileMatrixSetLink><TileMatrixSet>{one}</TileMatrixSet></TileMatrixSetLink>"
                    for one in ("degrees", "metres"))  # fmt: skip
    return (
        '<Capabilities xmlns="http://www.opengis.net/wmts/1.0" xmlns:ows="http://www.opengis.net/ows/1.1"><Contents>'
        f"<Layer><ows:Identifier>relief</ows:Identifier><Format>image/png</Format>{links}"
        '<ResourceURL format="image/png" resourceType="tile" '
        'template="{TileMatrixSet}/{TileMatrix}/{TileRow}/{TileCol}"/>'
        "</Layer><TileMatrixSet><ows:Identifier>degrees</ows:Identifier><ows:SupportedCRS>EPSG:4326</ows:SupportedCRS>"
        f"{matrices('-180 90', 559082264.0287 / 32)}</TileMatrixSet><TileMatrixSet>"
        "<ows:Identifier>metres</ows:Identifier>"
        f"<ows:SupportedCRS>{name}</ows:SupportedCRS>{matrices('-20037508.3428 20037508.3428', 559082264.0287 / 32)}"
        "</TileMatrixSet></Contents></Capabilities>"
    )


@pytest.mark.parametrize("name", ["urn:ogc:def:crs:EPSG:3857", "urn:ogc:def:crs:EPSG::3857", "EPSG:3857",
                                  "urn:ogc:def:crs:EPSG:6.18.3:3857", "http://www.opengis.net/def/crs/EPSG/0/3857",
                                  "urn:ogc:def:crs:EPSG::900913"])  # fmt: skip
def test_a_layer_on_several_grids_whatever_its_system_is_called(name, program, tmp_path):
    with serving() as url:
        Handler.files["/file/caps.xml"] = several_grids(name).encode()
        layer = TileService("s", f"{url}/file/caps.xml", Client()).layer("relief")
        assert (layer.grid.name, layer.grid.crs.epsg) == ("metres", 3857)
        assert layer.grid.level("6").name == layer.grid.level("06").name == "06"
        other = layer.on_grid("degrees")
        assert other.grid.crs == LONLAT and other.on_grid("metres").grid == layer.grid
        assert other.grid.level("05").bounds_of(TileKey(0, 0)).west == -180
        with pytest.raises(UnknownNameError, match="grid of relief"):
            layer.on_grid("feet")
        assert program("source", "add", "r", f"{url}/file/caps.xml", "--kind", "tiles").code == 0
        shown = program("source", "show", "r")
        assert "degrees (EPSG:4326)" in shown.out and "metres (EPSG:3857)" in shown.out, shown.out
        words = ("tiles", "plan", "--source", "r", "--box", "-12.1,-38.7,-12,-38.6")
        plan = program(*words, "--grid", "degrees", "--json")
        assert [row["zoom"] for row in plan.json] == ["05", "06"], plan.err
        refused = program(*words, "--grid", "feet")
        assert refused.code == 2 and "degrees" in refused.err


def test_a_grid_in_metres_whose_system_has_the_northing_first():
    """The corner is told northing, easting, as the register has the axes (OGC 17-083r4, section 7.1)."""
    with serving() as url:
        text = several_grids("urn:ogc:def:crs:EPSG::3035").replace("-20037508.3428 20037508.3428", "6000000 2000000")
        Handler.files["/file/caps.xml"] = text.encode()
        layer = TileService("s", f"{url}/file/caps.xml", Client()).layer("relief").on_grid("metres")
    corner = layer.grid.matrices[0].bounds_of(TileKey(0, 0))
    assert (corner.west, corner.north) == (2000000, 6000000)
