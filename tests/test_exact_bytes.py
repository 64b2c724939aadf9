"""Bytes are exact, or an error: what ends early, changes meanwhile, or comes in a dress that was not asked for."""

from __future__ import annotations

import gzip
import hashlib
import json
import os
import threading
import zlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import Memory, grid
from strangers import stranger
from zoompick.bytesource import exactly
from zoompick.errors import DataError, SourceError
from zoompick.files import multihash
from zoompick.net import contents as kinds
from zoompick.net.client import Client
from zoompick.net.ranges import RemoteFile, Span
from zoompick.net.refusals import TransientError
from zoompick.net.validators import strong_of, version_of
from zoompick.raster import engine
from zoompick.raster.geotiff import GeoTiff
from zoompick.raster.opening import open_raster
from zoompick.raster.source import LocalFile
from zoompick.raster.write import WriteOptions, write_geotiff


def raster_file(path: Path, seed: int = 1, side: int = 700) -> Path:
    """A noisy GeoTIFF of several blocks."""
    pixels = np.random.default_rng(seed).integers(1, 5000, (1, side, side)).astype(np.uint16)
    write_geotiff(Memory(pixels, grid(side, side), 0), path, WriteOptions())
    return path


# On disk


def test_a_file_that_ends_early_is_an_error_not_nothing(tmp_path):
    path = tmp_path / "a.bin"
    path.write_bytes(bytes(range(200)))
    file = LocalFile(path)
    assert file.read(190, 50) == bytes(range(190, 200))
    assert file.read(500, 5) == b"" and file.read(1 << 70, 5) == b""
    with pytest.raises(DataError, match="gave 10 of 50 bytes"):
        exactly(file, 190, 50)
    path.write_bytes(bytes(range(100)))
    with pytest.raises(DataError, match="changed while it was read: it ends at byte 100, and had 200 bytes"):
        file.read(90, 50)
    with pytest.raises(DataError, match="changed while it was read"):
        file.confirm()
    path.unlink()
    with pytest.raises(DataError, match="no file"):
        file.confirm()


def test_a_block_of_no_length_is_no_data_and_a_missing_one_is_not(tmp_path):
    """By the file's own table: what it tells as empty is empty, what it tells as there must be there."""
    path = raster_file(tmp_path / "a.tif")
    tiff = open_raster(path)
    assert isinstance(tiff, GeoTiff)
    image = tiff._images[0]
    sparse = replace(image, counts=(image.counts[0], 0, *image.counts[2:]))
    assert tiff._decode(image, 0, 0, 1).any() and not tiff._decode(sparse, 0, 0, 1).any()
    path.write_bytes(path.read_bytes()[: int(image.offsets[2]) + 10])
    with pytest.raises(DataError, match="changed while it was read"):
        tiff._decode(image, 0, 1, 0)


@pytest.mark.parametrize("how", ["cut", "replaced", "removed", "same size"])
def test_an_input_that_changes_while_it_is_read_makes_no_product(tmp_path, program, monkeypatch, how):
    path, other = raster_file(tmp_path / "in.tif"), raster_file(tmp_path / "other.tif", 2)
    from zoompick.products import writing

    begun = writing.write_together

    def meanwhile(*given, **more):
        if how == "cut":
            os.truncate(path, path.stat().st_size - 1000)
        elif how == "replaced":
            other.replace(path)
        elif how == "removed":
            path.unlink()
        else:
            state = path.stat()
            path.write_bytes(path.read_bytes()[::-1])
            os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns + 1))
        return begun(*given, **more)

    monkeypatch.setattr(writing, "write_together", meanwhile)
    done = program("stack", path, "--pixel", 3, "--out", "out.tif")
    assert done.code == 1, done.err
    assert not list(tmp_path.glob("out*")) and not list(tmp_path.glob(".out*"))
    assert "Traceback" not in done.err and "out.tif" not in done.out


def test_a_product_takes_its_name_with_its_record_or_not_at_all(tmp_path, program):
    path = raster_file(tmp_path / "in.tif")
    refused = program("stack", path, "--pixel", 1e9, "--out", "out.tif")
    assert refused.code == 2 and sorted(one.name for one in tmp_path.iterdir()) == ["in.tif", "in.tif.stac.json"][:1]
    empty = program("stack", path, "--pixel", 1e6, "--out", "out.tif")
    assert empty.code == 0 and "out.tif holds no valid pixel." in empty.err


# On the way


@pytest.fixture
def server():
    with stranger() as here:
        yield here


def item(server, name: str = "a.tif", kind: str = "image/tiff", **facts) -> str:
    """A piped scene with one file."""
    told = server.item(href=f"{server.url}/{name}")
    told["assets"]["red"] |= {"type": kind} | facts
    return json.dumps({"type": "FeatureCollection", "features": [told]})


@pytest.mark.parametrize(
    ("proof", "cut", "is_kept"),
    [
        ("none", 0, True), ("none", 2000, False), ("size", 0, True), ("size", 2000, False),
        ("digest", 0, True), ("digest", 2000, False), ("header", 0, True), ("header", 2000, False),
    ],
)  # fmt: skip
def test_an_answer_that_just_stops_is_whole_only_where_something_proves_it(
    server, tmp_path, program, proof, cut, is_kept
):
    """The catalogue's size or digest, the header's, or that every block of the file decodes."""
    data = raster_file(tmp_path / "source.tif").read_bytes()
    digest = hashlib.sha256(data)
    facts = {"size": {"file:size": len(data)}, "digest": {"file:checksum": multihash(digest.hexdigest())}}.get(
        proof, {}
    )
    import base64

    told = {"Repr-Digest": f"sha-256=:{base64.b64encode(digest.digest()).decode()}:"} if proof == "header" else {}
    server.route = lambda seen: (
        (405, {}, b"") if seen.method == "HEAD" else (200, told, iter([data[: len(data) - cut]]))
    )
    done = program("download", "-", "--to", "to", stdin=item(server, **facts))
    words = " ".join(done.err.split())
    assert (done.code == 0) is is_kept, words
    assert (tmp_path / "to" / "s1" / "a.tif").exists() is is_kept
    if proof == "none" and cut:
        assert "came without a length" in words and "does not count as fetched" in words


def test_what_cannot_prove_its_end_is_told(server, tmp_path, program):
    server.route = lambda seen: (405, {}, b"") if seen.method == "HEAD" else (200, {}, iter([b"some text of a kind"]))
    done = program("download", "-", "--bands", "red", "--to", "to", stdin=item(server, "a.dat"))
    assert done.code == 5 and "came without a length" in done.err and not list(tmp_path.rglob("*.dat"))


@pytest.mark.parametrize(
    ("name", "data", "is_well"),
    [
        ("a.jpg", b"\xff\xd8\xff" + bytes(50) + b"\xff\xd9", True), ("a.jpg", b"\xff\xd8\xff" + bytes(50), False),
        ("a.png", b"\x89PNG\r\n\x1a\n" + bytes(50) + b"IEND\xaeB`\x82", True), ("a.dat", b"IEND\xaeB`\x82", False),
        ("a.h5", b"\x89HDF\r\n\x1a\n" + bytes(50), False), ("a.zip", b"PK\3\4" + bytes(50), False),
    ],
)  # fmt: skip
def test_the_end_of_a_format_tells_whether_it_is_whole(tmp_path, name, data, is_well):
    (tmp_path / name).write_bytes(data)
    assert kinds.ends_well(tmp_path / name) is is_well


def test_a_head_that_tells_the_length_of_its_own_body_is_not_believed(server, tmp_path, program):
    data = raster_file(tmp_path / "source.tif").read_bytes()
    server.route = lambda seen: (200, {}, b"" if seen.method == "HEAD" else data)
    done = program("download", "-", "--to", "to", stdin=item(server))
    assert done.code == 0 and "1 file fetched" in done.err, done.err
    assert "its catalogue entry says" not in done.err


@pytest.mark.parametrize(
    ("etag", "modified", "date", "strong", "version"),
    [
        ('"a"', "Wed, 01 Jan 2025 00:00:00 GMT", None, '"a"', '"a"'),
        ('W/"a"', "Wed, 01 Jan 2025 00:00:00 GMT", None, "Wed, 01 Jan 2025 00:00:00 GMT", 'W/"a"'),
        ('W/"a"', None, None, "", 'W/"a"'),
        (None, "Wed, 01 Jan 2025 00:00:00 GMT", "Wed, 01 Jan 2025 00:00:30 GMT", "", "Wed, 01 Jan 2025 00:00:00 GMT"),
        (None, "Wed, 01 Jan 2025 00:00:00 GMT", "Wed, 01 Jan 2025 00:01:30 GMT", "Wed, 01 Jan 2025 00:00:00 GMT",
         "Wed, 01 Jan 2025 00:00:00 GMT"),
        (None, None, "any", "", ""),
    ],
)  # fmt: skip
def test_what_tells_states_of_a_file_apart(etag, modified, date, strong, version):
    """RFC 9110, sections 8.8.1 and 8.8.2.2."""
    assert strong_of(etag, modified, date) == strong and version_of(etag, modified) == version


def ranged(data, headers):
    """Answers of a server that sends ranges of what ``data`` gives now."""

    def route(seen):
        body, told = data(), headers()
        asked = seen.headers.get("Range", "")
        if not asked:
            return 200, told, body
        first, _, last = asked.removeprefix("bytes=").partition("-")
        start, stop = int(first), min(int(last or len(body) - 1) + 1, len(body))
        return 206, told | {"Content-Range": f"bytes {start}-{stop - 1}/{len(body)}"}, body[start:stop]

    return route


@pytest.mark.parametrize(
    "versions",
    [
        ({"ETag": '"a"'}, {"ETag": '"b"'}),
        ({"ETag": 'W/"a"'}, {"ETag": 'W/"b"'}),
        ({"Last-Modified": "Wed, 01 Jan 2025 00:00:00 GMT"}, {"Last-Modified": "Wed, 01 Jan 2025 00:00:01 GMT"}),
        ({}, {}),
    ],
)
def test_two_versions_of_a_file_never_mix(server, versions):
    """The same length, other bytes: by tag, by weak tag, by date; with neither the ends are looked at again."""
    bodies = [bytes([n]) * 400_000 for n in (1, 2)]
    now = [0]
    server.route = ranged(lambda: bodies[now[0]], lambda: versions[now[0]])
    file = RemoteFile(f"{server.url}/a.tif", Client())
    assert file.read(0, 10) == bytes([1]) * 10
    file.confirm()
    now[0] = 1
    with pytest.raises(SourceError, match="changed at the source while it was read"):
        file.fetch([Span(300_000, 1000)])
        file.confirm()


def test_a_window_of_a_file_that_changes_is_not_kept(server, tmp_path, program):
    one, two = (raster_file(tmp_path / f"{n}.tif", n, 1400).read_bytes() for n in (1, 2))
    two = two[: len(one)].ljust(len(one), b"\0")
    count = [0]

    def body():
        count[0] += 1
        return one if count[0] < 3 else two

    server.route = ranged(body, dict)
    box = ("--box", -12.09, -38.6425, -12.088, -38.641)
    done = program("download", "-", "--window", *box, "--to", "to", stdin=item(server))
    assert done.code == 5, done.err
    assert not list((tmp_path / "to").rglob("*.tif"))


# Encodings


def test_documents_are_asked_for_compressed(server):
    told = json.dumps({"n": list(range(5000))}).encode()

    def route(seen):
        assert "gzip" in seen.headers["Accept-Encoding"]
        form = seen.path.strip("/")
        body = {"gzip": gzip.compress(told), "deflate": zlib.compress(told), "identity": told}[form]
        return 200, {"Content-Encoding": form, "Content-Type": "application/json"}, body

    server.route = route
    for form in ("gzip", "deflate", "identity"):
        assert Client().json(f"{server.url}/{form}")["n"][-1] == 4999


@pytest.mark.parametrize(
    ("encoding", "body", "error", "said"),
    [
        ("gzip", gzip.compress(bytes(100 << 20)), SourceError, "swells"),
        ("gzip", gzip.compress(b"[" * 50_000)[:-30], TransientError, "ended before its gzip stream"),
        ("gzip", b"no gzip at all", SourceError, "does not unpack"),
        ("br", b"something", SourceError, "in the encoding br, which was not asked for"),
    ],
    ids=["swells", "cut", "none", "another"],
)
def test_an_encoding_that_is_none_is_told(server, encoding, body, error, said, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_RETRIES", "0")
    server.route = lambda seen: (200, {"Content-Encoding": encoding}, body)
    with pytest.raises(error, match=said):
        Client().json(f"{server.url}/a")


def test_a_file_that_comes_compressed_is_undone_and_its_parts_are_refused(server, tmp_path, program):
    data = raster_file(tmp_path / "source.tif", side=1400).read_bytes()
    server.route = lambda seen: (200, {"Content-Encoding": "gzip"}, gzip.compress(data))
    done = program("download", "-", "--to", "to", stdin=item(server))
    assert done.code == 0 and (tmp_path / "to" / "s1" / "a.tif").read_bytes() == data
    server.route = lambda seen: (
        206, {"Content-Encoding": "gzip", "Content-Range": f"bytes 0-99/{len(data)}"}, gzip.compress(data[:100])
    )  # fmt: skip
    with pytest.raises(SourceError, match="in the encoding gzip, though it was asked for as it is"):
        RemoteFile(f"{server.url}/a.tif", Client()).read(0, 10)


def test_threads_of_an_engine_meet_the_same_error(tmp_path):
    """A block that is gone while many are read side by side ends the work, in whatever thread it is met."""
    path = raster_file(tmp_path / "a.tif", side=1400)
    tiff = open_raster(path)
    os.truncate(path, 2000)
    with engine.crew_of() as crew, pytest.raises(DataError):
        list(engine.each(crew, [tiff.grid.window] * 4, tiff.read))
    assert threading.active_count() < 200
