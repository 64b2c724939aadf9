"""Products on object storage: inputs and outputs by address, whole or not there, against a server of others."""

from __future__ import annotations

import json
import logging
import os
import pickle
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
import shapely

from helpers import UTM, Memory, grid, noise
from strangers import stranger
from zoompick.errors import MissingFileError, SourceError, UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.shapes import outline_of
from zoompick.net import objects
from zoompick.net.client import Client
from zoompick.products import away
from zoompick.raster.raster import Band
from zoompick.raster.write import write_geotiff
from zoompick.scenes.opening import open_raster

pytestmark = pytest.mark.slow

BUCKET = "ostrell-data"


@contextmanager
def serving(patch: pytest.MonkeyPatch) -> Iterator[str]:
    """Storage with one bucket, known to this process and those it starts."""
    from moto.server import ThreadedMotoServer

    logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    url = "http://{}:{}".format(*server.get_host_and_port())
    urllib.request.urlopen(urllib.request.Request(f"{url}/{BUCKET}", method="PUT")).close()
    for name, value in (("ENDPOINT_URL", url), ("ACCESS_KEY_ID", "visitor"), ("SECRET_ACCESS_KEY", "ostrell"),
                        ("REGION", "us-east-1")):  # fmt: skip
        patch.setenv(f"AWS_{name}", value)
    try:
        yield f"s3://{BUCKET}"
    finally:
        server.stop()


@pytest.fixture
def there(monkeypatch) -> Iterator[str]:
    with serving(monkeypatch) as found:
        yield found


@pytest.fixture
def storage(there) -> str:
    return os.environ["AWS_ENDPOINT_URL"]


def client(storage: str):
    """A reader that is none of ours."""
    import boto3

    return boto3.client("s3", endpoint_url=storage)


def fetched(storage: str, key: str) -> bytes:
    return client(storage).get_object(Bucket=BUCKET, Key=key)["Body"].read()


def made(path: Path, side: int = 700) -> Path:
    bands = (Band("red"), Band("nir"))
    write_geotiff(Memory(noise((2, side, side), "uint16", 1, 9000), grid(side, side), 0, bands), path)
    return path


def test_a_product_goes_there_and_comes_back(tmp_path, program, there, storage):
    source = made(tmp_path / "stack.tif")
    for out in ("here.tif", f"{there}/a/ndvi.tif"):
        done = program("index", source, "--recipe", "ndvi", "--out", out)
        assert done.code == 0, done.err
    assert f"Made {there}/a/ndvi.tif." in done.err
    here = (tmp_path / "here.tif").read_bytes()
    assert fetched(storage, "a/ndvi.tif") == here
    record = json.loads(fetched(storage, "a/ndvi.tif.stac.json"))
    assert record["links"][0]["href"] == "./stack.tif" and str(tmp_path) not in json.dumps(record)
    assert record["assets"]["data"]["file:size"] == len(here)
    again = program("index", source, "--recipe", "ndvi", "--out", f"{there}/a/ndvi.tif")
    assert again.code == 2 and "exists" in again.err and "--overwrite" in again.err
    client(storage).put_object(Bucket=BUCKET, Key="a/other.tif.stac.json", Body=b"mine")
    record = program("index", source, "--recipe", "ndvi", "--out", f"{there}/a/other.tif")
    assert record.code == 2 and "other.tif.stac.json exists" in record.err
    assert fetched(storage, "a/other.tif.stac.json") == b"mine"
    replaced = program("index", source, "--formula", "nir - red", "--out", f"{there}/a/ndvi.tif", "--overwrite")
    assert replaced.code == 0 and fetched(storage, "a/ndvi.tif") != here


def test_inputs_come_from_there(tmp_path, program, there):
    source = made(tmp_path / "stack.tif")
    objects.upload(source, f"{there}/b/stack.tif")
    for name, told in (("here.tif", source), ("there.tif", f"{there}/b/stack.tif")):
        assert program("index", told, "--recipe", "ndvi", "--out", name).code == 0
    assert (tmp_path / "here.tif").read_bytes() == (tmp_path / "there.tif").read_bytes()
    link = json.loads((tmp_path / "there.tif.stac.json").read_text())["links"][0]
    assert link["href"] == f"{there}/b/stack.tif" and link["zoompick:state"].startswith(str(source.stat().st_size))
    judged = program("verify", f"{there}/b/stack.tif", "--json")
    assert judged.code == 0 and {row["key"] for row in judged.json["findings"]} >= {"blocks", "distinct"}
    shown = program("bands", f"{there}/b/stack.tif")
    assert shown.code == 0 and "nir" in shown.out
    assert program("verify", "there.tif").code == 0
    for words, said in (
        (("index", f"{there}/b/gone.tif"), "There is no s3://"),
        (("index", "s3://nothing-here/x.tif"), "There is no s3://"),
        (("index", "s3://bucket"), "names no object"),
    ):  # fmt: skip
        wrong = program(*words, "--recipe", "ndvi", "--out", "x.tif")
        assert wrong.code in (2, 4) and said in wrong.err, wrong.err
    nowhere = program("index", source, "--recipe", "ndvi", "--out", "http://127.0.0.1/x.tif")
    assert nowhere.code == 2 and "Nothing can be written" in nowhere.err


def test_windows_are_ranges_and_travel(tmp_path, there):
    source = made(tmp_path / "w.tif", 1500)
    objects.upload(source, f"{there}/w.tif")
    raster = open_raster(f"{there}/w.tif")
    window = raster.grid.window
    assert (pickle.loads(pickle.dumps(raster)).read(window) == open_raster(source).read(window)).all()
    objects.upload(made(tmp_path / "w2.tif", 1499), f"{there}/w.tif")
    with pytest.raises(SourceError, match="changed at the source while"):
        raster.source.confirm()
    assert not away._exists(f"{there}/none") and away._exists(f"{there}/w.tif")


def test_what_breaks_off_leaves_nothing(tmp_path, there, storage, monkeypatch):
    """Parts that came are taken back; what was there before stays."""
    whole = tmp_path / "whole.bin"
    whole.write_bytes(b"a" * (9 << 20))
    objects.upload(whole, f"{there}/big.bin")

    def pieces():
        yield b"b" * (9 << 20)
        raise OSError("the disk is gone")

    with pytest.raises(SourceError, match="does not answer"):
        objects.upload(pieces(), f"{there}/big.bin")
    assert len(fetched(storage, "big.bin")) == whole.stat().st_size
    assert not client(storage).list_multipart_uploads(Bucket=BUCKET).get("Uploads")
    assert fetched(storage, "big.bin")[:1] == b"a"
    with pytest.raises(MissingFileError):
        objects.upload(whole, "s3://nothing-here/x")
    monkeypatch.setenv("AWS_ENDPOINT_URL", "http://127.0.0.1:9")
    with pytest.raises((SourceError, UsageError)):
        Client().state(f"{there}/big.bin")


def test_scale_and_offset_come_from_the_item_beside(tmp_path, program, there):
    """As on disk: a scene's folder that was copied to the storage is the scene's folder still."""
    folder = tmp_path / "scene"
    folder.mkdir()
    for name in ("red", "nir"):
        path = folder / f"s1-{name}.tif"
        write_geotiff(Memory(noise((1, 300, 300), "uint16", 1200, 9000), grid(300, 300), 0, (Band(name),)), path)
    told = {"data_type": "uint16", "nodata": 0, "raster:scale": 0.0001, "raster:offset": -0.1}
    item = {
        "type": "Feature", "stac_version": "1.1.0", "id": "s1", "collection": "c", "bbox": [0, 0, 1, 1], "links": [],
        "properties": {"datetime": "2025-12-15T11:00:00Z"},
        "geometry": {"type": "Polygon", "coordinates": [[[0, 0], [1, 0], [1, 1], [0, 1], [0, 0]]]},
        "assets": {name: {"href": f"http://127.0.0.1/s1-{name}.tif", "type": "image/tiff; application=geotiff",
                          "roles": ["data"], "bands": [{"name": name, "eo:common_name": name} | told]}
                   for name in ("red", "nir")},
    }  # fmt: skip
    (folder / "item.json").write_text(json.dumps(item))
    for path in folder.iterdir():
        objects.upload(path, f"{there}/scene/{path.name}")
    for name, base in (("here.tif", folder), ("there.tif", f"{there}/scene")):
        made_ = program("stack", f"{base}/s1-red.tif", f"{base}/s1-nir.tif", "--out", name)
        assert made_.code == 0, made_.err
    assert open_raster(tmp_path / "there.tif").bands[0].scale == 0.0001
    assert (tmp_path / "here.tif").read_bytes() == (tmp_path / "there.tif").read_bytes()


def test_bands_on_a_web_server_are_read_by_windows(program, archive, tmp_path):
    assert program("source", "add", "o", archive).code == 0
    area = ("--box", "-12.08", "-38.61", "-12.06", "-38.60")
    found = program("search", "--source", "o", "--collection", "lapwing-l2", "--dates", "2025-12-15", *area, "--json")
    hrefs = [found.json["features"][0]["assets"][name]["href"] for name in ("red", "nir")]
    done = program("stack", *hrefs, *area, "--bands", "nir,red", "--out", "far.tif", "--json")
    assert done.code == 0, done.err
    assert done.json[0]["bands"] == ["nir", "red"] and done.json[0]["valid_percent"] == 100
    links = json.loads((tmp_path / "far.tif.stac.json").read_text())["links"]
    assert [link["href"] for link in links] == hrefs


def test_scenes_on_object_storage_are_searched_and_fetched_like_others(
    tmp_path, program, there, storage, monkeypatch
):
    """A static catalog, its scenes' files whole and by windows: all by s3:// addresses, relative ones too."""
    path = made(tmp_path / "red.tif", 1400)
    west, north = 752000.0, 5720000.0
    ring = outline_of(Bounds(west, north - 1400 * 8, west + 1400 * 8, north), UTM, 1000)
    item = {
        "type": "Feature", "stac_version": "1.1.0", "id": "s1", "collection": "c", "bbox": list(ring.bounds),
        "geometry": shapely.geometry.mapping(ring),
        "properties": {"datetime": "2025-12-15T11:00:00Z", "eo:cloud_cover": 3},
        "links": [{"rel": "self", "href": f"{there}/cat/s1/item.json"}],
        "assets": {"red": {"href": "./red.tif", "type": "image/tiff; application=geotiff", "roles": ["data"],
                           "bands": [{"name": "red", "eo:common_name": "red"}]}},
    }  # fmt: skip
    catalog = {"type": "Catalog", "id": "c", "stac_version": "1.1.0", "description": "d",
               "links": [{"rel": "item", "href": "./s1/item.json"}]}  # fmt: skip
    for key, body in (("cat/catalog.json", json.dumps(catalog)), ("cat/s1/item.json", json.dumps(item)),
                      ("cat/s1/red.tif", path.read_bytes())):  # fmt: skip
        client(storage).put_object(Bucket=BUCKET, Key=key, Body=body)
    study = tmp_path / "study"
    box = [float(edge) for edge in ring.centroid.buffer(0.004).bounds]
    program("new", study, "--box", *box, "--source", "store", "--dates", "2025-12", "--cloud", "20")
    added = program("source", "add", "store", f"{there}/cat/catalog.json", "--here", cwd=study)
    assert added.code == 0 and "stac-catalog" in added.err, added.err
    assert "1 scene found" in program("search", cwd=study).err
    assert program("pick", "1", cwd=study).code == 0
    window = program("download", "--bands", "red", "--window", cwd=study)
    assert window.code == 0 and "windows were fetched" in window.err, window.err
    [here] = study.rglob("red.tif")
    assert here.read_bytes() != path.read_bytes()
    whole = program("download", "s1", "--bands", "red", "--whole", cwd=study)
    assert whole.code == 0, whole.err
    assert here.read_bytes() == path.read_bytes()
    assert program("verify", "--online", cwd=study).code in (0, 1)


class Storage:
    """Object storage as single requests see it."""

    def __init__(self, server, data: bytes) -> None:
        self.server, self.data, self.count = server, data, 0
        server.route = self.answer

    def answer(self, seen):
        query = seen.path.partition("?")[2].lower()
        mode = seen.path.split("/")[1]
        self.count += 1
        error = '<?xml version="1.0"?><Error><Code>{}</Code><Message>no</Message></Error>'
        is_signed = "x-amz-signature" in query
        if mode == "busy" and self.count <= 2:
            return 503, {}, error.format("SlowDown")
        if mode == "payer" and "x-amz-request-payer=requester" not in query:
            return 403, {}, error.format("AccessDenied")
        if mode == "public" and is_signed:
            return 403, {}, error.format("InvalidAccessKeyId")
        if mode == "mine" and not is_signed:
            return 403, {}, error.format("AccessDenied")
        asked = seen.headers.get("Range", "")
        if not asked:
            return 200, {"ETag": '"e"'}, self.data
        first, _, last = asked.removeprefix("bytes=").partition("-")
        start, stop = int(first), min(int(last or len(self.data) - 1) + 1, len(self.data))
        return (
            206,
            {"ETag": '"e"', "Content-Range": f"bytes {start}-{stop - 1}/{len(self.data)}"},
            self.data[start:stop],
        )


@pytest.fixture
def rough(tmp_path, monkeypatch):
    """Storage that wants this or that, and no credentials yet."""
    for name in ("ACCESS_KEY_ID", "SECRET_ACCESS_KEY", "SESSION_TOKEN", "REQUEST_PAYER", "SKIP_SIGNATURE"):
        monkeypatch.delenv(f"AWS_{name}", raising=False)
    monkeypatch.setenv("AWS_REGION", "us-east-1")
    with stranger() as server:
        monkeypatch.setenv("AWS_ENDPOINT_URL", server.url)
        yield Storage(server, made(tmp_path / "a.tif").read_bytes())


KEYS = {"AWS_ACCESS_KEY_ID": "visitor", "AWS_SECRET_ACCESS_KEY": "hush-hush"}


@pytest.mark.parametrize(
    ("mode", "own", "is_let"),
    [
        ("public", {}, True), ("public", KEYS, False), ("public", KEYS | {"AWS_SKIP_SIGNATURE": "true"}, True),
        ("mine", {}, False), ("mine", KEYS, True), ("payer", KEYS, False),
        ("payer", KEYS | {"AWS_REQUEST_PAYER": "true"}, True), ("busy", KEYS, True),
    ],
)  # fmt: skip
def test_a_refusal_says_who_we_were_and_what_else_there_is(rough, program, monkeypatch, mode, own, is_let):
    env = own | {"ZOOMPICK_RETRY_WAIT_MAX_S": "0.1"}
    for name, value in env.items():
        monkeypatch.setenv(name, value)
    done = program("bands", f"s3://{mode}/a.tif", env=env)
    words = " ".join((done.out + done.err).split())
    assert (done.code == 0) is is_let, words
    assert "hush" not in words and "Debug source" not in words and "Generic" not in words
    if not is_let:
        who = "with the key of AWS_ACCESS_KEY_ID" if own else "without a signature, for AWS_ACCESS_KEY_ID"
        assert who in words and "AWS_SKIP_SIGNATURE=true" in words and "AWS_REQUEST_PAYER=true" in words
    assert all("169.254" not in one.path for one in rough.server.seen)


def test_no_address_of_this_machine_is_asked_for_a_log_in(rough, monkeypatch):
    """Unless a setting allows it; the requests of the library underneath are watched by their addresses."""
    monkeypatch.setenv("AWS_METADATA_ENDPOINT", f"{rough.server.url}/metadata")
    Client().state("s3://public/a.tif")
    assert not [one for one in rough.server.seen if "metadata" in one.path]
    monkeypatch.setenv("ZOOMPICK_INSTANCE_CREDENTIALS", "1")
    with pytest.raises(SourceError, match="this machine's metadata service"):
        Client().state("s3://mine/b.tif")
