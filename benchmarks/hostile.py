"""Hostile and damaged input: thousands of mutations of every kind of file and text that comes from outside.

``python benchmarks/hostile.py [--count 2000] [--only geotiff,kml] [--seed 1]``

Each reader gets well-made inputs that are changed at random bytes and, where they have a structure, at random values:
numbers beyond any type, text where numbers belong, depth, lone surrogates, absence. Every input must end in a result or
in one of our own errors, within ten seconds of processor time, with less than a gigabyte of memory. Each kind runs in
a process of its own, so that a crash of an interpreter is seen and counted.
"""

from __future__ import annotations

import argparse
import copy
import gzip
import io
import json
import multiprocessing
import os
import random
import re
import resource
import shutil
import tarfile
import tempfile
import time
import traceback
import zipfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

MOST_SECONDS, MOST_BYTES = 20.0, 1 << 30
FEN = {"type": "Polygon", "coordinates": [[[-12.08, -38.62], [-12.04, -38.63], [-12.05, -38.6], [-12.08, -38.62]]]}
RING = "-12.08,-38.62 -12.04,-38.63 -12.05,-38.6 -12.08,-38.62"


class Whole(int):
    """A number of very many digits, which JSON may hold and few readers think of."""


VALUES: list[Any] = [
    None, True, -1, 0, 1, 2**31, 2**63, 2**64, -(2**63), 10**30, Whole(10**18), 0.5, -0.0, 1e308, float("inf"), float("nan"),
    "", "x" * 5000, "\ud800", "\x1b[31m\u202e", "1e400", "9999-12-31T23:59:60Z", "0000-00-00", [], {}, [[]], [None], {"a": None},
    [1, 2], [1, 2, 3, 4], "-1", "NaN", "../../etc", "a\0b", [[[[]]]],
    Whole(10**400), -Whole(10**400), 2**63 - 1, 1e-320, "0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-14:00",
    "2025-12-15T11:17:24", "=1+1", "@SUM(1)", "|x|](javascript:alert(1))", "<b>", [1e400], [10**400] * 4, {"coordinates": [10**400]},
]  # fmt: skip


def _nested(depth: int, mark: str = "[") -> str:
    return mark * depth


def json_text(value: object, rng: random.Random) -> bytes:
    """JSON of a value, now and then with a number of thousands of digits, or depth, put into the text."""
    text = json.dumps(value, ensure_ascii=rng.random() < 0.5)
    if rng.random() < 0.05:
        text = re.sub(r"-?\d+\.?\d*", lambda found: "9" * 5000 if rng.random() < 0.2 else found[0], text)
    if rng.random() < 0.03:
        text = text.replace("[", _nested(rng.choice([50, 5000, 100_000])), 1)
    return text.encode("utf-8", "surrogatepass")


def changed(value: Any, rng: random.Random) -> Any:
    """A JSON value with a few of its places changed, taken out, or doubled."""
    value = copy.deepcopy(value)
    for _ in range(rng.choice([1, 1, 2, 4])):
        places: list[tuple[Any, Any]] = []
        waiting = [value]
        while waiting:
            at = waiting.pop()
            keys = list(at) if isinstance(at, dict) else range(len(at)) if isinstance(at, list) else ()
            for key in keys:
                places.append((at, key))
                waiting.append(at[key])
        if not places:
            return rng.choice(VALUES)
        holder, key = rng.choice(places)
        way = rng.random()
        if way < 0.7:
            holder[key] = copy.deepcopy(rng.choice(VALUES))
        elif way < 0.85:
            del holder[key]
        elif isinstance(holder, list):
            holder.append(copy.deepcopy(rng.choice(holder)))
        else:
            holder[str(rng.choice(VALUES))[:20]] = holder[key]
    return value


def bytes_changed(data: bytes, rng: random.Random) -> bytes:
    """Bytes with some flipped, cut, doubled, or set to extreme values."""
    out = bytearray(data)
    for _ in range(rng.choice([1, 2, 4, 16])):
        if not out:
            break
        at = rng.randrange(len(out))
        way = rng.random()
        if way < 0.4:
            out[at] = rng.randrange(256)
        elif way < 0.6:
            size = rng.choice([2, 4, 8])
            out[at : at + size] = rng.choice([b"\xff", b"\0", b"\x7f"]) * size
        elif way < 0.75:
            del out[at : at + rng.randrange(1, 1 + max(1, len(out) // 4))]
        elif way < 0.9:
            out[at:at] = out[at : at + rng.randrange(1, 64)]
        else:
            out = out[:at]
    return bytes(out)


def text_changed(text: str, rng: random.Random) -> str:
    """A text whose numbers and words were changed."""
    parts = re.split(r"(-?\d+\.?\d*|\w+)", text)
    for _ in range(rng.choice([1, 2, 4])):
        at = rng.randrange(len(parts))
        parts[at] = str(rng.choice([*VALUES, "9" * 5000, "(" * 3000, "-", "=", '"', "'''", "\n", "[[", "<a>" * 2000]))
    return "".join(parts)


Kind = Callable[[Path], tuple[Callable[[random.Random], Any], Callable[[Any], object]]]
KINDS: dict[str, Kind] = {}


def kind(name: str) -> Callable[[Kind], Kind]:
    """Register what makes inputs of a kind, and what reads them."""

    def keep(made: Kind) -> Kind:
        KINDS[name] = made
        return made

    return keep


def _file_kind(name: str, ending: str, seeds: Callable[[Path], list[bytes]], read: Callable[[Path], object]) -> None:
    @kind(name)
    def made(folder: Path) -> Any:
        good = seeds(folder)
        path = folder / f"input{ending}"

        def one(rng: random.Random) -> bytes:
            data = rng.choice(good)
            is_text = name in ("kml", "gpx", "wkt", "brief", "capabilities", "guide", "settings")
            if is_text and rng.random() < 0.6:
                return text_changed(data.decode(), rng).encode("utf-8", "surrogatepass")
            return bytes_changed(data, rng)

        def reading(data: bytes) -> object:
            path.write_bytes(data)
            return read(path)

        return one, reading


def _json_kind(name: str, ending: str, seeds: Callable[[], list[Any]], read: Callable[[Path], object]) -> None:
    @kind(name)
    def made(folder: Path) -> Any:
        good, path = seeds(), folder / f"input{ending}"

        def one(rng: random.Random) -> bytes:
            data = json_text(changed(rng.choice(good), rng), rng)
            return bytes_changed(data, rng) if rng.random() < 0.2 else data

        def reading(data: bytes) -> object:
            path.write_bytes(data)
            return read(path)

        return one, reading


def _text_kind(name: str, seeds: list[str], read: Callable[[str], object]) -> None:
    @kind(name)
    def made(folder: Path) -> Any:
        return (lambda rng: text_changed(rng.choice(seeds), rng)), read


# What is read


def _tiffs(folder: Path) -> list[bytes]:
    import numpy as np
    import tifffile

    tags = [(34735, "H", 12, (1, 1, 0, 2, 1024, 0, 1, 1, 3072, 0, 1, 32728), True),
            (33550, "d", 3, (8.0, 8.0, 0.0), True), (33922, "d", 6, (0.0, 0.0, 0.0, 752000.0, 5720000.0, 0.0), True),
            (42113, "s", 2, "0", True)]  # fmt: skip
    rng = np.random.default_rng(1)
    found = []
    for number, more in enumerate([
        {"tile": (32, 32), "compression": "deflate", "predictor": True}, {"rowsperstrip": 16}, {"compression": "lzw"},
        {"tile": (32, 32), "compression": "zstd", "bigtiff": True}, {"byteorder": ">"},
    ]):  # fmt: skip
        path = folder / f"seed{number}.tif"
        tifffile.imwrite(path, rng.integers(1, 4000, (64, 80)).astype("uint16"), extratags=tags, metadata=None,
                         photometric="minisblack", **more)  # fmt: skip
        found.append(path.read_bytes())
    return found


def _read_raster(path: Path) -> object:
    from zoompick.raster import blockcache
    from zoompick.raster.grid import Window
    from zoompick.raster.opening import open_raster

    blockcache.shared()._blocks.clear()
    raster = open_raster(path)
    window = raster.grid.window
    part = Window(0, 0, min(256, window.width), min(256, window.height))
    for level in range(min(3, len(raster.levels))):
        raster.read(part.intersect(raster.levels[level].window), None, level)
    return raster.bands


def _read_area(path: Path) -> object:
    from zoompick.area.read import read_area

    area = read_area(path)
    return area.size_km2, area.utm, area.to_feature()


def _area_seeds(ending: str) -> Callable[[Path], list[bytes]]:
    def seeds(folder: Path) -> list[bytes]:
        import shapely

        from zoompick.area.model import Area
        from zoompick.area.write import write_area

        area = Area("fen", shapely.geometry.shape(FEN).union(shapely.box(-12.2, -38.8, -12.1, -38.7)))
        path = folder / f"seed{ending}"
        write_area(area, path, overwrite=True)
        return [path.read_bytes()]

    return seeds


def _item(number: int = 1) -> dict[str, Any]:
    return {
        "type": "Feature", "stac_version": "1.1.0", "id": f"s{number}", "collection": "c", "geometry": FEN,
        "bbox": [-12.08, -38.63, -12.04, -38.6], "links": [{"rel": "self", "href": "https://h.example/s1.json"}],
        "properties": {"datetime": "2025-12-15T11:17:24Z", "eo:cloud_cover": 12.5, "gsd": 8, "platform": "lapwing-a",
                       "grid:code": "OST-1", "proj:code": "EPSG:32728", "view:sun_elevation": 40, "created":
                       "2025-12-16T00:00:00Z", "sat:relative_orbit": 7, "a:price_km2": 2.0, "instruments": ["x"]},
        "assets": {"red": {"href": "./red.tif", "type": "image/tiff; application=geotiff", "roles": ["data"],
                           "file:size": 4000, "file:checksum": "1220" + "ab" * 32, "bands": [
                               {"name": "red", "eo:common_name": "red", "raster:scale": 0.0001, "gsd": 8}]},
                   "classes": {"href": "./c.tif", "type": "image/tiff", "roles": ["data"],
                               "classification:classes": [{"value": 1, "name": "cloud"}]}},
    }  # fmt: skip


def _read_items(path: Path) -> object:
    """All that the program asks of scenes, as a search of a server does."""
    from zoompick.cli import facts, scenes
    from zoompick.discovery import find
    from zoompick.discovery.criteria import Criteria
    from zoompick.discovery.gather import Gathering
    from zoompick.files import parse_json
    from zoompick.geo.shapes import lonlat_box
    from zoompick.scenes.fetchplan import local_names
    from zoompick.scenes.scenelist import Entry, read_list

    class Reader:
        def search(self, criteria: object) -> Iterator[Any]:
            value = parse_json(path.read_bytes())
            features = value.get("features") if isinstance(value, dict) else None
            return iter([f for f in features if isinstance(f, dict)] if isinstance(features, list) else [])

    gathered: Gathering[Any] = Gathering(Entry)
    with suppress(ValueError):
        wanted = Criteria(lonlat_box(-13, -39, -12, -38), cloud_max=50, periods="2025", sun_min_deg=5, season="dec")
        find._gather(Reader(), wanted, "s", gathered)  # type: ignore[arg-type]
    for entry in [*gathered.sorted(True, 0, "clearest"), *read_list(path)]:
        scene = entry.scene
        told = [scene.bands, scene.files, scene.size, scene.days, scene.months, scene.crs, scene.label, scene.track]
        told += [local_names(scene), list(scenes.csv_rows([entry])), scenes._marks(entry, {})]
        if scene.has_footprint():
            told += [facts.of_scene(scene, None, None), facts.band_rows(scene), facts.name_parts(scene)]
        json.dumps(entry.to_item())
    return len(gathered)


def _read_footprints(path: Path) -> object:
    from zoompick.discovery.criteria import Criteria
    from zoompick.discovery.footprintfile import FootprintFile
    from zoompick.geo.shapes import lonlat_box
    from zoompick.scenes.source import Source

    reader = FootprintFile(Source("s", str(path), "footprints"), open)
    return len(list(reader.search(Criteria(lonlat_box(-13, -39, -12, -38))))), reader.collections()


BRIEF = """[study]
name = "fen"
[search]
source = "ostrell"
collections = ["lapwing-l2"]
dates = "2025-12/2026-02"
cloud = 20
season = "dec-feb"
[grid]
crs = "auto"
pixel_m = 8
[stack]
bands = ["blue", "green", "red", "nir"]
[composite]
recipes = ["natural"]
stretch = [2, 98]
[index]
recipes = ["ndvi"]
[products]
folder = "{date}"
"""


def _read_brief(path: Path) -> object:
    from zoompick.area.model import Area
    from zoompick.geo.shapes import polygon_of
    from zoompick.study.brief import read_brief
    from zoompick.study.folder import Study
    from zoompick.study.plan import plan_study

    brief = read_brief(path)
    return plan_study(Study(path.parent), brief, Area("fen", polygon_of(FEN)), [])


def _stores(folder: Path) -> list[bytes]:
    from zoompick.geo.tilegrid import TileKey
    from zoompick.tiles.tilestore import TileStore

    path = folder / "seed.mbtiles"
    path.unlink(missing_ok=True)
    with TileStore(path) as store:
        store.describe({"name": "n", "format": "png", "zoompick:crs": "EPSG:3857", "zoompick:level:3":
                        "19567.9,-20037508.3,20037508.3,256,256,8,8"})  # fmt: skip
        store.put(3, 8, [(TileKey(row, col), bytes(100)) for row in range(4) for col in range(4)])
    return [path.read_bytes()]


def _read_store(path: Path) -> object:
    from zoompick.geo.tilegrid import TileKey
    from zoompick.tiles.tiles import stored_matrix
    from zoompick.tiles.tilestore import TileStore

    with TileStore(path, must_exist=True) as store:
        store.mean_bytes()
        store.tile(3, 8, TileKey(1, 1))
        return stored_matrix(store, ""), store.known(3, 8)


class _Served:
    """A client that gives one document."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def text(self, url: str) -> str:
        return self.data.decode("utf-8", "replace")

    def json(self, url: str, body: object = None, method: str = "") -> Any:
        from zoompick.errors import SourceError
        from zoompick.files import parse_json

        try:
            return parse_json(self.data)
        except ValueError as error:
            raise SourceError("no JSON") from error


def _read_tiles(name: str) -> Callable[[Path], object]:
    def read(path: Path) -> object:
        from zoompick.geo.shapes import polygon_of
        from zoompick.scenes.tileservice import TileService

        service = TileService("t", f"https://h.example/{name}", _Served(path.read_bytes()))  # type: ignore[arg-type]
        area = polygon_of(FEN)
        for layer in service.layers()[:3]:
            for matrix in layer.grid.matrices[:30]:
                layer.grid.count(area, matrix)
        return service.collections()

    return read


def _capabilities(folder: Path) -> list[bytes]:
    from zoompick.standin import tilehouse

    for name in ("capabilities", "wmts"):
        maker = getattr(tilehouse, name, None)
        if callable(maker):
            with suppress(Exception):
                text = maker("http://h.example")
                return [text.encode() if isinstance(text, str) else bytes(text)]
    matrix = "".join(
        f"<TileMatrix><Identifier>{z}</Identifier><ScaleDenominator>{559082264.028 / 2**z}</ScaleDenominator>"
        f"<TopLeftCorner>-20037508.34 20037508.34</TopLeftCorner><TileWidth>256</TileWidth><TileHeight>256</TileHeight>"
        f"<MatrixWidth>{2**z}</MatrixWidth><MatrixHeight>{2**z}</MatrixHeight></TileMatrix>" for z in range(12)
    )  # fmt: skip
    return [(
        '<Capabilities xmlns="http://www.opengis.net/wmts/1.0"><Contents><Layer><Title>n</Title><Identifier>n</Identifier>'
        '<Format>image/png</Format><TileMatrixSetLink><TileMatrixSet>m</TileMatrixSet></TileMatrixSetLink><ResourceURL '
        'format="image/png" resourceType="tile" template="https://h.example/{TileMatrix}/{TileRow}/{TileCol}.png"/>'
        "</Layer><TileMatrixSet><Identifier>m</Identifier><SupportedCRS>urn:ogc:def:crs:EPSG::3857</SupportedCRS>"
        f"{matrix}</TileMatrixSet></Contents></Capabilities>"
    ).encode()]  # fmt: skip


def _archives(folder: Path) -> list[bytes]:
    members = [("index.geojson", json.dumps({"type": "FeatureCollection", "features": [
        {"type": "Feature", "properties": {"file": "a.tif"}, "geometry": FEN}]}).encode()), ("a.tif", b"II*\0" * 50),
        ("b/c.txt", b"text" * 100)]  # fmt: skip
    zipped, tarred = io.BytesIO(), io.BytesIO()
    with zipfile.ZipFile(zipped, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members:
            archive.writestr(name, data)
    with tarfile.open(fileobj=tarred, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for name, data in members:
            info = tarfile.TarInfo(name * 30 if name == "b/c.txt" else name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return [zipped.getvalue(), tarred.getvalue(), gzip.compress(tarred.getvalue()), gzip.compress(b"x" * 999)]


def _read_archive(path: Path) -> object:
    import shapely

    from zoompick.fetch.unpack import Choice, unpack
    from zoompick.scenes.archives import open_archive

    to = path.parent / "to"
    shutil.rmtree(to, ignore_errors=True)
    for choice in (Choice(area=shapely.box(-12.08, -38.63, -12.04, -38.6)), Choice()):
        archive = open_archive(path)
        try:
            unpack(archive, choice, to, overwrite=True)
        finally:
            archive.close()
    outside = [p for p in path.parent.rglob("*") if p.is_symlink()]
    assert not outside, "a link came out of an archive"
    return None


def _read_records(path: Path) -> object:
    """Records of a study, each read as the file it stands for."""
    from zoompick.journal import history
    from zoompick.orders.queue import Queue
    from zoompick.scenes import fetched as record
    from zoompick.scenes.sidecar import read_sidecar, scenes_of
    from zoompick.study import lastsearch
    from zoompick.study.folder import Study
    from zoompick.study.outdated import _unchanged
    from zoompick.study.shortlist import chosen_by, shortlist

    study, data = Study(path.parent), path.read_bytes()
    for name in ("shortlist.json", ".found.json", "orders.json", "downloads.json", "x.tif.stac.json", "journal.jsonl",
                 ".made.json", "terms.json"):  # fmt: skip
        (path.parent / name).write_bytes(data)
    from zoompick.errors import ZoomPickError

    reads: list[Callable[[], object]] = [
        lambda: shortlist(study), lambda: chosen_by(study), lambda: lastsearch.stale(study),
        lambda: Queue(study.orders_file).owed(), lambda: record.read(path.parent), lambda: read_sidecar(path.parent / "x.tif"),
        lambda: scenes_of(path.parent / "x.tif"), lambda: history(study.journal_file),
    ]  # fmt: skip
    for read in reads:
        with suppress(ZoomPickError):
            read()
    del _unchanged
    return None


def _read_headers(text: str) -> object:
    from zoompick.fetch.partial import Note, _range_start
    from zoompick.files import whole_number
    from zoompick.net import refusals
    from zoompick.net.retry import RetryPolicy
    from zoompick.scenes.checksums import sha256_of_digest

    class Answer:
        headers = {
            "ETag": text,
            "Last-Modified": text,
            "Content-Range": text,
            "Content-Length": text,
            "Repr-Digest": text,
        }
        status = 206

    RetryPolicy().wait_s(1, text)
    whole_number(text)
    sha256_of_digest(text)
    Note.of("http://h/x", Answer())  # type: ignore[arg-type]
    _range_start(Answer())  # type: ignore[arg-type]
    for status in (401, 404, 429, 500):
        refusals.refusal("http://h/x?sig=1", status, {"Retry-After": text}, text.encode("utf-8", "replace"))
    return None


def _read_words(text: str) -> object:
    """What people type: coordinates, areas, dates, rules, distances, formulas."""
    from zoompick.area import coordinates
    from zoompick.discovery.rules import select
    from zoompick.errors import ZoomPickError
    from zoompick.net.pace import Pace
    from zoompick.patterns import NamePattern
    from zoompick.products.formula import Formula
    from zoompick.scenes.period import Hours, Period, Season
    from zoompick.study.areas import AreaRequest, resolve

    for read in (
        coordinates.parse_point, coordinates.parse_corners, coordinates.length_m, coordinates.looks_like_coordinates,
        Period.parse_all, Season.parse, Hours.parse, Pace.parse, NamePattern.parse, Formula.parse,
        lambda word: select([], [word], "it"), lambda word: resolve(AreaRequest(word)),
    ):  # fmt: skip
        with suppress(ZoomPickError):
            read(text)
    return None


def _read_settings(path: Path) -> object:
    from zoompick import settings
    from zoompick.errors import ZoomPickError

    shutil.copyfile(path, path.parent / "settings.toml")
    settings._file_values.cache_clear()
    os.environ["ZOOMPICK_CONFIG"] = str(path.parent)
    for row in settings.TABLE:
        with suppress(ZoomPickError):
            settings._value(row.key)
    return None


def _read_environment(text: str) -> object:
    from zoompick import settings
    from zoompick.errors import ZoomPickError
    from zoompick.net.authority import Authority
    from zoompick.net.login import Keyring

    plain = text.encode("utf-8", "replace").decode().replace("\0", "")[:5000]
    for row in settings.TABLE:
        os.environ[f"ZOOMPICK_{row.key.upper()}"] = plain
        with suppress(ZoomPickError):
            settings._value(row.key)
        del os.environ[f"ZOOMPICK_{row.key.upper()}"]
    os.environ["ZOOMPICK_LOGIN"] = plain
    with suppress(ZoomPickError):
        Keyring().carried(
            Authority.of_address("https://h.example/x"), "GET", "https://h.example/x", lambda url, form: {}
        )
    del os.environ["ZOOMPICK_LOGIN"]
    return None


def _read_facts(path: Path) -> object:
    from zoompick.records import read_facts
    from zoompick.sensors.guide import BandGuide, _File

    del BandGuide
    return read_facts(path, _File)


def _settings_seed() -> bytes:
    from zoompick import settings

    return "".join(f"{row.key} = {json.dumps(row.default)}\n" for row in settings.TABLE).encode()


GUIDE = b"""name = "Heron"
collections = ["heron-l2"]
file_pattern = '^heron-(?P<band>[a-z]+)\\.tif$'
class_band = "classes"
[[band]]
name = "red"
pixel_m = 5
wavelength_um = 0.66
[classes]
fill = [0]
clear = [1]
"""
ORDERS = {
    "orders": [
        {
            "number": 1,
            "source": "s",
            "collection": "c",
            "scenes": ["x"],
            "km2": 1.0,
            "price": 2.0,
            "state": "running",
            "job": "http://h/jobs/1",
            "progress": 4,
            "submitted": "2025-01-01T00:00:00+00:00",
        }
    ]
}
SIDECAR = _item() | {"properties": {"datetime": "2025-12-15T11:17:24Z", "zoompick:fingerprint": "ab", "zoompick:scenes":
                                    [{"id": "a", "datetime": "2025-12-15T11:17:24Z"}]},
                     "assets": {"data": {"href": "./x.tif", "file:size": 3, "file:checksum": "1e20ab"}}}  # fmt: skip
DOWNLOADS = {"a.tif": {"band": "red", "url": "u", "size": 3, "multihash": "1220ab", "checked_by": ""}}

_file_kind("geotiff", ".tif", _tiffs, _read_raster)
for _name, _ending in (("kml", ".kml"), ("kmz", ".kmz"), ("gpx", ".gpx"), ("wkt", ".wkt"), ("shapefile", ".zip"),
                       ("geopackage", ".gpkg")):  # fmt: skip
    _seeds = _area_seeds(_ending) if _name != "gpx" else (
        lambda folder: [('<gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1"><trk><name>t</name><trkseg>'
                         + "".join(f'<trkpt lat="{c.split(",")[1]}" lon="{c.split(",")[0]}"/>' for c in RING.split())
                         + "</trkseg></trk></gpx>").encode()])  # fmt: skip
    _file_kind(_name, _ending, _seeds, _read_area)
_json_kind("geojson", ".geojson", lambda: [
    {"type": "Feature", "properties": {"name": "x"}, "geometry": FEN},
    {"type": "FeatureCollection", "features": [{"type": "Feature", "properties": {}, "geometry": FEN}]},
    {"type": "GeometryCollection", "geometries": [FEN]}, FEN], _read_area)  # fmt: skip
_json_kind("items", ".json", lambda: [{"type": "FeatureCollection", "features": [_item(1), _item(2)]}], _read_items)
_json_kind("footprints", ".geojson", lambda: [{"type": "FeatureCollection", "features": [
    {"type": "Feature", "properties": {"id": "a", "date": "2025-12-01", "cloud": 5, "path": "x.tif"}, "geometry": FEN},
    _item(3)]}], _read_footprints)  # fmt: skip
_file_kind("brief", ".toml", lambda folder: [BRIEF.encode()], _read_brief)
_file_kind("settings", ".txt", lambda folder: [_settings_seed()], _read_settings)
_file_kind("guide", ".toml", lambda folder: [GUIDE], _read_facts)
_file_kind("store", ".mbtiles", _stores, _read_store)
_file_kind("capabilities", ".xml", _capabilities, _read_tiles("wmts"))
_json_kind("tilejson", ".json", lambda: [{"tilejson": "3.0.0", "tiles": ["https://h.example/{z}/{x}/{y}.png"], "minzoom": 0,
                                          "maxzoom": 14, "bounds": [-13, -39, -11, -38], "name": "n"}],
           _read_tiles("tilejson.json"))  # fmt: skip
_file_kind("archive", ".zip", _archives, _read_archive)
_json_kind("records", ".txt", lambda: [ORDERS, SIDECAR, DOWNLOADS, {"type": "FeatureCollection", "features": [_item()]},
                                       {"basis": "x", "files": {"a": [1, 2]}, "products": ["a"]}], _read_records)  # fmt: skip
_text_kind("headers", ["120", "Wed, 21 Oct 2026 07:28:00 GMT", "bytes 0-99/1000", '"etag"', "sha-256=:" + "A" * 43 + "=:",
                       '{"description": "no"}'], _read_headers)  # fmt: skip
_text_kind("words", ["38.61S 12.02W", "28S 760000 5724000", "POLYGON((-12 -38, -12.1 -38, -12 -38.1, -12 -38))", "2025-12/2026-02",
                     "last 30 days", "cloud<=10 or date>2025", "5km", "(nir - red) / (nir + red)", "dec-feb", "10-13",
                     "{date}-{satellite}", "bbox=-12.1,-38.7,-12,-38.6", "2MB"], _read_words)  # fmt: skip
_text_kind("environment", ["8", "0.5", "https://h.example ann:secret", "deflate"], _read_environment)


def _jpeg2000s(folder: Path) -> list[bytes]:
    import imagecodecs
    import numpy as np

    pixels = np.random.default_rng(1).integers(1, 4000, (200, 300)).astype(np.uint16)
    return [bytes(imagecodecs.jpeg2k_encode(pixels, codecformat=form, reversible=True)) for form in ("jp2", "j2k")]


def _hdfs(folder: Path) -> list[bytes]:
    """Gridded variables as netCDF-4 has them, a group, and packed values."""
    import h5py
    import numpy as np

    path = folder / "seed.h5"
    with h5py.File(path, "w") as file:
        for group in (file, file.create_group("inner")):
            lat, lon = (
                group.create_dataset("lat", data=np.linspace(-38, -39, 40)),
                group.create_dataset("lon", data=np.linspace(-12, -11, 60)),
            )
            lat.attrs["units"], lon.attrs["units"] = "degrees_north", "degrees_east"
            for axis in (lat, lon):
                axis.make_scale()
            values = group.create_dataset(
                "t", data=np.arange(2400, dtype="i2").reshape(40, 60), chunks=(20, 30), compression="gzip"
            )
            values.dims[0].attach_scale(lat)
            values.dims[1].attach_scale(lon)
            values.attrs["scale_factor"], values.attrs["add_offset"], values.attrs["_FillValue"] = (
                0.01,
                273.0,
                np.int16(-1),
            )
    return [path.read_bytes()]


def _read_hdf(path: Path) -> object:
    from zoompick.fetch.bands import bands_of

    _read_raster(path)
    return bands_of(str(path))


def _parquets(folder: Path) -> list[bytes]:
    from zoompick.discovery import geoparquet

    path = folder / "seed.parquet"
    path.unlink(missing_ok=True)
    geoparquet.write([_item(1), _item(2)], path)
    return [path.read_bytes()]


def _read_formula(text: str) -> object:
    import numpy as np

    from zoompick.products.formula import Formula

    formula = Formula.parse(text)
    with np.errstate(all="ignore"):
        return formula.compute({band: np.ones((4, 4), "f4") for band in formula.bands})


def _read_page(path: Path) -> object:
    """A page of a server, through a session and back as a search takes it."""
    from zoompick.discovery import find
    from zoompick.discovery.criteria import Criteria
    from zoompick.discovery.gather import Gathering
    from zoompick.discovery.stac import StacApi
    from zoompick.geo.shapes import lonlat_box
    from zoompick.scenes.scenelist import Entry

    class Session:
        authority = None

        def acting(self, authority: object) -> Session:
            return self

        def json(self, url: str, body: object = None, method: str = "") -> Any:
            if body is None:
                return {"links": [{"rel": "search", "href": "https://h.example/search", "method": "POST"}]}
            return _Served(path.read_bytes()).json(url)

    gathered: Gathering[Any] = Gathering(Entry)
    reader = StacApi("https://h.example/", Session())  # type: ignore[arg-type]
    find._gather(reader, Criteria(lonlat_box(-13, -39, -12, -38), cloud_max=50), "s", gathered)
    return len(gathered.sorted(True, 0))


_file_kind("jpeg2000", ".jp2", _jpeg2000s, _read_raster)
_file_kind("hdf5", ".h5", _hdfs, _read_hdf)
_file_kind("geoparquet", ".parquet", _parquets, _read_footprints)
_text_kind("formulas", ["(nir - red) / (nir + red)", "where(red > 0.1, nir * 2.5, 0)", "min(red, nir, 1e3) >= 5 and not red < 2"],
           _read_formula)  # fmt: skip
_json_kind("pages", ".json", lambda: [{"type": "FeatureCollection", "features": [_item(1), _item(2)], "links": [
    {"rel": "next", "href": "https://h.example/search", "method": "POST", "body": {"page": 2}}]}], _read_page)  # fmt: skip


# Running


def run_kind(name: str, count: int, seed: int, told: Any) -> None:
    """All inputs of a kind, in this process; what was found goes to the queue as it comes."""
    from zoompick.errors import ZoomPickError

    resource.setrlimit(resource.RLIMIT_AS, (6 << 30, 6 << 30))
    folder = Path(tempfile.mkdtemp(prefix="hostile-"))
    os.environ |= {"ZOOMPICK_CACHE": str(folder / "cache"), "ZOOMPICK_CONFIG": str(folder / "config")}
    os.chdir(folder)
    make, read = KINDS[name](folder)
    slowest, rng = 0.0, random.Random(f"{name}{seed}")
    for number in range(count):
        data = make(rng)
        told.put(("at", number, data if isinstance(data, bytes) else str(data).encode("utf-8", "surrogatepass")))
        began = time.process_time()
        try:
            read(data)
        except ZoomPickError as error:
            if any("\x1b" in text for text in (error.what, error.todo)):
                pass
        except Exception:
            told.put(("error", number, traceback.format_exc(limit=-6)))
        spent = time.process_time() - began
        slowest = max(slowest, spent)
        if spent > MOST_SECONDS:
            told.put(("slow", number, f"{spent:.0f} s"))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    told.put(("end", slowest, peak))
    shutil.rmtree(folder, ignore_errors=True)


def judge_kind(name: str, count: int, seed: int, keep: Path | None) -> dict[str, Any]:
    """Run a kind in a process of its own; a crash is told with the input that caused it."""
    context = multiprocessing.get_context("spawn")
    told = context.SimpleQueue()
    worker = context.Process(target=run_kind, args=(name, count, seed, told))
    worker.start()
    at, errors, slow, end = (0, b""), [], 0, None
    while worker.is_alive() or not told.empty():
        if told.empty():
            time.sleep(0.005)
            continue
        kind_, *rest = told.get()
        if kind_ == "at":
            at = rest[0], rest[1]
        elif kind_ == "error":
            errors.append(rest[1])
            if keep is not None:
                (keep / f"{name}-{rest[0]}").write_bytes(at[1])
        elif kind_ == "slow":
            slow += 1
            errors.append(f"{name} {rest[0]}: {rest[1]}")
        else:
            end = rest
    worker.join()
    crashed = end is None
    if crashed:
        errors.append(f"the interpreter ended with {worker.exitcode} at input {at[0]}: {at[1][:200]!r}")
    slowest, peak = end or (0.0, 0)
    is_big = peak > MOST_BYTES
    if is_big:
        errors.append(f"{peak / 1e9:.1f} GB of memory")
    return {"kind": name, "inputs": at[0] + 1, "errors": errors, "slowest_s": slowest, "peak_mb": round(peak / 1e6)}


def main() -> int:
    """Run all kinds and print a table; the exit code tells whether all held."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--count", type=int, default=2000)
    parser.add_argument("--only", default="")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", type=Path, help="Folder for inputs that were not held.")
    given = parser.parse_args()
    if unknown := sorted(set(filter(None, given.only.split(","))) - set(KINDS)):
        parser.error(f"no kind is called {', '.join(unknown)}; there are {', '.join(KINDS)}")
    if given.keep:
        given.keep.mkdir(parents=True, exist_ok=True)
    names = [name for name in given.only.split(",") if name] or list(KINDS)
    bad = 0
    print(f"{'kind':<14}{'inputs':>8}{'not held':>10}{'slowest s':>11}{'peak MB':>9}")
    for name in names:
        found = judge_kind(name, given.count, given.seed, given.keep)
        bad += len(found["errors"])
        print(f"{name:<14}{found['inputs']:>8}{len(found['errors']):>10}{found['slowest_s']:>11.2f}{found['peak_mb']:>9}",
              flush=True)  # fmt: skip
        for text in list(
            dict.fromkeys(error.strip().splitlines()[-1][:150] + " @ " + _place(error) for error in found["errors"])
        )[:8]:
            print(f"    {text}")
    return 1 if bad else 0


def _place(error: str) -> str:
    lines = re.findall(r'File "[^"]*/(zoompick/[^"]+)", line (\d+)', error)
    return ":".join(lines[-1]) if lines else ""


if __name__ == "__main__":
    raise SystemExit(main())
