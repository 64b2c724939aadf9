"""Nothing of the user's is overwritten or lost: pictures, lists, sidecars, members of archives, tiles, downloads."""

from __future__ import annotations

import gzip
import io
import json
import os
import sqlite3
import tarfile
import zipfile

import numpy as np
import pytest
import shapely

from helpers import foreign_tiff, grid, noise
from zoompick.errors import DataError, FormatError, NothingFoundError, UsageError
from zoompick.fetch.unpack import Choice, unpack
from zoompick.files import distinct_name, free_name, human_km2
from zoompick.geo.crs import Crs
from zoompick.geo.tilegrid import Matrix, TileGrid, TileKey, web_mercator
from zoompick.scenes import fetched as record
from zoompick.scenes.archives import open_archive
from zoompick.scenes.fetchplan import Fetch
from zoompick.tiles import tiles as tile_work
from zoompick.tiles.getting import TileOutcome, failure_of, plan_tiles
from zoompick.tiles.tilestore import TileStore

BOX = ("--box", -12.09, -38.64, -12.03, -38.59)
DAY = ("--dates", "2025-12-15", "--collection", "lapwing-l2")


def test_no_command_overwrites_a_file_of_the_users(study, program):
    """Each way to name a file, tried on one that is there: it stays as it is, and nothing is fetched for it."""
    assert program("search", "--dates", "2025-12-15", cwd=study).code == 0
    assert program("pick", "1", cwd=study).code == 0
    ways = [
        ("search", "--out", "x.csv"), ("search", "--out", "x.geojson"), ("look", "1", "--out", "x.png"),
        ("look", "--map", "--out", "x.png"), ("calendar", "--out", "x.png"), ("pick", "export", "x.json"),
        ("area", "show", "--out", "x.png"), ("area", "write", "x.kml"),
    ]  # fmt: skip
    for words in ways:
        file = study / words[-1]
        file.write_text("mine")
        refused = program(*words, cwd=study)
        assert refused.code == 2 and "exists already" in refused.err, words
        assert file.read_text() == "mine"
        assert program(*words, "--overwrite", cwd=study).code == 0, words
        assert file.read_bytes() != b"mine"
        file.unlink()
    for words in (("search", "--out", "x.xlsx"), ("pick", "export", "x.doc"), ("look", "1", "--out", "x.tif"),
                  ("calendar", "--out", "x.jpg")):  # fmt: skip
        refused = program(*words, cwd=study)
        assert refused.code == 2 and "ending in" in refused.err, words
        assert not (study / words[-1]).exists()


def test_sidecars_have_names_of_their_own(program, tmp_path):
    foreign_tiff(tmp_path / "x.tif", noise((3, 80, 80)), grid(80, 80), nodata="0")
    area = {
        "type": "Polygon",
        "coordinates": [[list(p) for p in shapely.box(*_lonlat(tmp_path / "x.tif")).exterior.coords]],
    }
    for name in ("fen.json", "item.json"):
        (tmp_path / name).write_text(json.dumps(area))
    assert program("clip", "x.tif", "--area", "fen.json", "--out", "fen.tif").code == 0
    assert program("clip", "x.tif", "--area", "fen.json", "--out", "item.tif").code == 0
    assert json.loads((tmp_path / "fen.json").read_text()) == json.loads((tmp_path / "item.json").read_text()) == area
    assert json.loads((tmp_path / "fen.tif.stac.json").read_text())["assets"]["data"]["href"] == "./fen.tif"
    # Companions and sidecars of a product that is not there yet may be somebody's.
    for name in ("c.png", "c.pgw", "c.tif.stac.json"):
        (tmp_path / name).write_text("mine")
        refused = program("composite", "x.tif", "--bands", "b1,b2,b3", "--out", "c.tif")
        assert refused.code == 2 and name in refused.err, refused.err
        assert (tmp_path / name).read_text() == "mine" and not (tmp_path / "c.tif").exists()
        (tmp_path / name).unlink()
    refused = program("clip", "x.tif", "--area", "fen.json", "--out", "c.png")
    assert refused.code == 2 and "GeoTIFF" in refused.err


def _lonlat(path):
    from zoompick.geo.shapes import outline_of
    from zoompick.raster.opening import open_raster

    box = open_raster(path).grid.bounds
    return outline_of(box, open_raster(path).grid.crs, 100).buffer(-0.001).bounds


@pytest.mark.parametrize(
    ("one", "other"),
    [("a/b", "a-b"), ("x" * 125 + "1", "x" * 125 + "2"), ("a:b", "a*b"), ("é", "è"), ("con", "CON.")],
)
def test_names_that_a_safe_name_makes_alike_stay_apart(one, other):
    assert distinct_name(one).lower() != distinct_name(other).lower()
    assert distinct_name("plain-1.tif") == "plain-1.tif"
    assert len(distinct_name(one)) <= 120


def test_a_free_name_and_small_areas(tmp_path):
    assert free_name(tmp_path / "look.png").name == "look.png"
    (tmp_path / "look.png").touch()
    (tmp_path / "look-2.png").touch()
    assert free_name(tmp_path / "look.png").name == "look-3.png"
    assert [human_km2(size) for size in (0, 0.00123456, 0.5, 1, 1234.5678)] == [
        "0.00 km2", "1235 m2", "0.500 km2", "1.00 km2", "1234.57 km2"]  # fmt: skip


# Archives


def packed(path, kind, members):
    if kind == "zip":
        with zipfile.ZipFile(path, "w") as archive:
            for name, data in members:
                archive.writestr(name, data)
        return
    with tarfile.open(path, kind) as archive:
        for name, data in members:
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))


@pytest.mark.filterwarnings("ignore:Duplicate name")
@pytest.mark.parametrize(
    ("name", "kind"), [("d.zip", "zip"), ("d.tar", "w"), ("d.tar.gz", "w:gz"), ("d.tgz", "w:gz")]
)
def test_two_members_of_one_name_are_both_kept(tmp_path, name, kind):
    packed(tmp_path / name, kind, [("a.txt", b"first"), ("a.txt", b"second"), ("b.txt", b"third")])
    for choice in (Choice(), Choice(only="*.txt")):
        folder = tmp_path / f"to-{choice.only.strip('*.')}"
        done = unpack(open_archive(tmp_path / name), choice, folder)
        assert sorted(path.read_bytes() for path in done.files) == [b"first", b"second", b"third"]
        assert (folder / "b.txt").read_bytes() == b"third"


@pytest.mark.parametrize(
    ("label", "data", "expected"),
    [
        ("scene.gz", b"II*\0" + bytes(600), "scene.tif"),
        ("scene.tif.gz", b"II*\0" + bytes(600), "scene.tif"),
        ("scene.gz", b"\x89HDF\r\n\x1a\n" + bytes(600), "scene.h5"),
        ("scene.gz", b"no kind that is known", "scene"),
    ],
)
def test_a_single_file_is_named_as_what_it_is(tmp_path, label, data, expected):
    (tmp_path / label).write_bytes(gzip.compress(data))
    [path] = unpack(open_archive(tmp_path / label), Choice(), tmp_path / "to").files
    assert (path.name, path.read_bytes()) == (expected, data)


def test_a_tar_is_one_whatever_its_name(tmp_path):
    packed(tmp_path / "d.tar", "w", [("a.txt", b"first")])
    (tmp_path / "delivery.gz").write_bytes(gzip.compress((tmp_path / "d.tar").read_bytes()))
    [path] = unpack(open_archive(tmp_path / "delivery.gz"), Choice(), tmp_path / "to").files
    assert path.name == "a.txt"


@pytest.mark.parametrize(
    ("name", "data", "error", "said"),
    [
        ("d.zip", b"PK\5\6" + bytes(18), NothingFoundError, "holds no files"),
        ("d.tar", bytes(10240), NothingFoundError, "holds no files"),
        ("d.tar.gz", gzip.compress(bytes(10240), mtime=0), NothingFoundError, "holds no files"),
        ("d.zip", b"", FormatError, "is empty"),
    ],
)
def test_empty_archives_get_a_sentence(tmp_path, name, data, error, said):
    (tmp_path / name).write_bytes(data)
    with pytest.raises(error, match=said):
        unpack(open_archive(tmp_path / name), Choice(), tmp_path / "to")
    assert not (tmp_path / "to").exists()


def test_a_header_of_a_gigabyte_is_not_read(tmp_path):
    header = tarfile.TarInfo("x")
    header.type, header.size = tarfile.XHDTYPE, 1 << 30
    (tmp_path / "d.tar").write_bytes(header.tobuf() + bytes(2048))
    with pytest.raises(DataError, match="a header of"):
        unpack(open_archive(tmp_path / "d.tar"), Choice(), tmp_path / "to")


@pytest.mark.parametrize(
    ("name", "has"), [("d.zip", True), ("d.tar", False), ("d.tar.gz", True), ("d.tar.xz", True), ("d.tar.bz2", True)]
)
def test_what_vouches_for_what_was_unpacked(tmp_path, name, has, program):
    kind = "zip" if name == "d.zip" else {"tar": "w", "gz": "w:gz", "xz": "w:xz", "bz2": "w:bz2"}[name.split(".")[-1]]
    packed(tmp_path / name, kind, [("a.txt", b"first")])
    done = program("unpack", name)
    assert done.code == 0 and ("fits its checksum" in done.err) is has and ("no checksums" in done.err) is not has


# Tiles


def test_tiles_are_counted_without_being_listed():
    """Against a plain test of every tile; and a count of millions comes from the edge alone."""
    area = shapely.Polygon([(-12.3, -38.7), (-11.9, -38.72), (-12.0, -38.4), (-12.1, -38.6), (-12.25, -38.45)])
    tiles = web_mercator()
    for zoom in (9, 13):
        matrix = tiles.level(str(zoom))
        shape = tiles._projected(area)
        cols, rows = matrix._range(_bounds(shape))
        plain = [
            TileKey(row, col) for row in rows for col in cols
            if shape.intersects(shapely.box(*_box(matrix.bounds_of(TileKey(row, col)))))
        ]  # fmt: skip
        assert tiles.under(area, matrix) == plain
        assert tiles.count(area, matrix) == len(plain)
    many = tiles.count(shapely.box(-12.5, -39, -11.5, -38), tiles.level("20"))
    side = 2**20 / 360
    assert many == pytest.approx(side * side / np.cos(np.radians(38.5)), rel=0.01)


def _bounds(shape):
    from zoompick.geo.shapes import bounds_of

    return bounds_of(shape)


def _box(bounds):
    return bounds.west, bounds.south, bounds.east, bounds.north


MATRIX = Matrix("7", 1.0, 0.0, 512.0, 256, 256, 2, 2)


def test_a_level_that_gave_nothing_is_no_success():
    plan = plan_tiles(MATRIX, 7, [TileKey(0, 0), TileKey(0, 1)], (set(), set()))
    assert "has none of the 2 tiles" in failure_of(TileOutcome(0, 0, 2, ()), plan).what
    assert failure_of(TileOutcome(1, 5, 1, ()), plan) is None


def test_a_store_of_others_is_read_and_never_written(tmp_path):
    path = tmp_path / "other.mbtiles"
    base = sqlite3.connect(path)
    base.executescript(
        "CREATE TABLE metadata (name TEXT, value TEXT); CREATE TABLE tiles (zoom_level INTEGER, tile_column INTEGER, "
        "tile_row INTEGER, tile_data BLOB); INSERT INTO tiles VALUES (3, 1, 2, x'ff');"
    )
    base.close()
    before = path.read_bytes()
    with TileStore(path, must_exist=True) as store:
        assert store.known(3, 8) == ({TileKey(5, 1)}, set())
        assert store.tile(3, 8, TileKey(5, 1)) == b"\xff"
    with pytest.raises(UsageError, match="made by another program"):
        TileStore(path)
    assert path.read_bytes() == before and not list(tmp_path.glob("*-wal"))
    endless = sqlite3.connect(tmp_path / "endless.mbtiles")
    endless.executescript(
        "CREATE TABLE metadata (name TEXT, value TEXT); CREATE VIEW tiles AS SELECT 3 zoom_level, 1 tile_column, "
        "2 tile_row, randomblob(900000000) tile_data;"
    )
    endless.close()
    with TileStore(tmp_path / "endless.mbtiles", must_exist=True) as store, pytest.raises(DataError, match="too big"):
        store.tile(3, 8, TileKey(5, 1))


def test_the_level_that_was_fetched_is_joined(tmp_path):
    store = TileStore(tmp_path / "t.mbtiles")
    told = "1.0,0.0,512.0,256,256,2,2"
    store.describe(
        {"zoompick:crs": "EPSG:3857", "zoompick:level:7": told, "zoompick:level:9": told, "zoompick:last": "7"}
    )
    assert tile_work.stored_matrix(store, "")[2] == 7
    assert tile_work.stored_matrix(store, "9")[2] == 9
    store.close()


def test_far_too_many_tiles_are_refused_before_the_first(program, archive, tmp_path):
    env = {"ZOOMPICK_CONFIG": str(tmp_path / "config")}
    assert program("source", "add", "p", f"{archive}/tiles/wmts", env=env).code == 0
    wide = ("--box", -12.6, -39.0, -11.6, -38.0, "--layer", "natural", "--zoom", "18")
    told = program("tiles", "plan", *wide, "--json", env=env)
    if told.code == 0 and told.json["tiles"] > 500_000:
        refused = program("tiles", "get", *wide, env=env)
        assert refused.code == 2 and "at most 500000" in refused.err
        assert not list(tmp_path.glob("*.mbtiles"))
    assert isinstance(TileGrid("", Crs(3857), (MATRIX,)), TileGrid)


# Downloads


def test_a_damaged_file_of_the_right_size_is_not_here(tmp_path):
    path = tmp_path / "red.tif"
    path.write_bytes(b"abcdef")
    from zoompick.files import multihash_of

    record.add(path, record.Fetched("red", "http://h/red.tif", 6, multihash_of(path, "1220"), ""))
    entry = Fetch("s", "red", "http://h/red.tif", path, 6, None)
    assert record.is_here(entry)
    stamp = path.stat().st_mtime_ns
    os.utime(path, ns=(stamp, stamp + 10**9))
    assert record.is_here(entry), "touched, but the same"
    path.write_bytes(b"abcdeX")
    assert not record.is_here(entry)


def test_verifys_advice_to_download_again_works(study, program):
    program("search", "--dates", "2025-12-15", cwd=study)
    program("pick", "1", cwd=study)
    assert program("download", "--bands", "red", cwd=study).code == 0
    [path] = study.glob("scenes/*/*/*/*-red.tif")
    data = bytearray(path.read_bytes())
    good = bytes(data)
    data[len(data) // 2 :] = bytes(len(data) - len(data) // 2)
    path.write_bytes(data)
    assert program("verify", path, cwd=study).code == 1
    again = program("download", "--bands", "red", cwd=study)
    assert again.code == 0 and "1 file fetched" in again.err
    assert path.read_bytes() == good


# What status, verify and a dry run say of products


def test_products_are_judged_by_the_brief_as_it_is_now(study, program):
    assert program("run", "--dry-run", cwd=study).code == 0
    assert not (study / "shortlist.json").exists(), "a dry run changes nothing"
    told = program("run", "--dry-run", "--json", cwd=study).json
    assert told["search"] and told["fetch"] > 0 and set(told["products"].values()) == {"not made"}
    assert program("run", cwd=study).code == 0
    assert program("verify", cwd=study).code == 0
    status = program("status", "--json", cwd=study).json
    assert set(status["products"].values()) == {"up to date"} and len(status["products"]) == 6
    brief = (study / "study.toml").read_text()
    # Another stretch: the composites, and nothing else, are out of date for all three.
    (study / "study.toml").write_text(brief.replace("stretch = [0.5, 99.7]", "stretch = [5, 95]"))
    state = program("status", "--json", cwd=study).json["products"]
    assert {name.split("/")[-1] for name, told in state.items() if told == "out of date"} == {
        "natural.tif",
        "infrared.tif",
    }
    judged = program("verify", "--json", cwd=study)
    failed = {f["subject"].split("/")[-1] for f in judged.json["findings"] if f["outcome"] == "fail"}
    assert judged.code == 1 and failed == {"natural.tif", "infrared.tif"}
    planned = program("run", "--dry-run", "--json", cwd=study).json["products"]
    assert planned == state
    made = program("run", "--json", cwd=study).json["products"]
    assert sum(not product["was_current"] for product in made) == 2
    # An area changed inside the same box.
    area = json.loads((study / "area.geojson").read_text())
    ring = area["geometry"]["coordinates"][0]
    ring.insert(1, [(ring[0][0] + ring[1][0]) / 2, (ring[0][1] + ring[1][1]) / 2 + 0.0005])
    whole = (study / "area.geojson").read_text()
    (study / "area.geojson").write_text(json.dumps(area))
    assert program("verify", "--checks", "brief", cwd=study).code == 1
    (study / "area.geojson").write_text(whole)
    # One index copied over another, and belongings lost or changed.
    folder = next(study.glob("products/*"))
    kept = {path.name: path.read_bytes() for path in folder.iterdir()}
    for change in (
        lambda: (folder / "ndwi.tif").write_bytes(kept["ndvi.tif"]),
        lambda: [(folder / f"ndwi.tif{end}").write_bytes(kept[f"ndvi.tif{end}"]) for end in ("", ".stac.json")],
        lambda: (folder / "natural.png").write_bytes(kept["infrared.png"]),
        lambda: (folder / "natural.pgw").unlink(),
        lambda: (folder / "clip.tif.stac.json").write_text("{}"),
    ):
        change()
        assert program("verify", "--checks", "files,record", "--skip", "blocks", cwd=study).code == 1
        for name, data in kept.items():
            (folder / name).write_bytes(data)
    assert program("verify", cwd=study).code == 0
    assert "failed" in program("history", "--act", "verify", cwd=study).out
    sidecar = json.loads((folder / "natural.tif.stac.json").read_text())
    assert sidecar["properties"]["zoompick:scenes"][0]["collection"] == "lapwing-l2"
    # A file that cannot be read is a finding; the others are judged.
    (folder / "stack.tif").write_bytes(b"II*\0nothing")
    broken = program("verify", "--json", cwd=study)
    assert broken.code == 1 and len(broken.json["findings"]) > 15


def test_a_dry_run_meets_the_errors_of_the_run(study, program):
    brief = (study / "study.toml").read_text()
    for old, new, said in (
        ('"swir16"]', '"swirl"]', "swirl"), ("cover = 99", "cover = 100\n\n[nothing]", "not known"),
        ('["natural", "infrared"]', '["naturel"]', "natur"), ('"lapwing-l2"', '"lapwing-l9"', "lapwing-l9"),
    ):  # fmt: skip
        (study / "study.toml").write_text(brief.replace(old, new))
        dry, wet = program("run", "--dry-run", cwd=study), program("run", cwd=study)
        assert dry.code == wet.code == 2 and said in dry.err, (new, dry.err, wet.err)
    (study / "study.toml").write_bytes(b"\xef\xbb\xbf" + brief.encode())
    assert program("run", "--dry-run", cwd=study).code == 0


def test_what_can_be_freed_is_shown_first(study, program):
    program("search", "--dates", "2025-12-15", cwd=study)
    program("pick", "1", cwd=study)
    program("download", "--bands", "red", cwd=study)
    program("pick", "drop", "1", cwd=study)
    shown = program("status", "--free", "--dry-run", cwd=study)
    assert "would be freed" in shown.err and "scenes/ostrell/" in shown.out
    assert list(study.glob("scenes/*/*/*/*.tif"))
    assert program("status", "--free", cwd=study).code == 0
    assert not list(study.glob("scenes/*/*/*/*.tif"))


def test_rates_and_times_of_a_download(study, program):
    program("search", "--dates", "2025-12-15", cwd=study)
    program("pick", "1", cwd=study)
    slow = program("download", "--bands", "red", "--dry-run", "--limit-rate", "50k", cwd=study)
    assert "at the rate that is allowed" in slow.err
    told = program("download", "--bands", "red", "--dry-run", "--limit-rate", "50k", "--json", cwd=study).json[
        "total"
    ]
    assert told["seconds"] == pytest.approx(told["bytes"] / 50_000, abs=0.1)
    assert "fetched and checked" in program("download", "--bands", "red", cwd=study).err
    assert "no digest is published" in program("download", "--bands", "nir", "--window", cwd=study).err
