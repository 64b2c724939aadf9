"""Downloads that outlive kills and expired links; windows of remote rasters; the download command."""

from __future__ import annotations

import hashlib
import itertools
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from badserver import BODY, Handler, serving
from helpers import FEN, foreign_tiff, grid, item_of, noise
from zoompick.bytesource import SourceStream
from zoompick.errors import CancelledError, ChecksumError, FormatError, SourceError, UsageError
from zoompick.events import Advanced
from zoompick.fetch import get
from zoompick.fetch.outlook import rate_of
from zoompick.fetch.whole import Tools, fetch_whole
from zoompick.fetch.windows import fetch_window, survey
from zoompick.files import human_time
from zoompick.geo.region import Region
from zoompick.geo.shapes import bounds_of, polygon_of, project
from zoompick.net import contents as kinds
from zoompick.net.client import Client
from zoompick.net.pace import Pace
from zoompick.net.ranges import Cost, RemoteFile, RemoteParts, Span, merged
from zoompick.net.refusals import TransientError
from zoompick.raster.opening import open_raster
from zoompick.scenes import fetched as record
from zoompick.scenes.bands import files_of
from zoompick.scenes.fetched import paths_beside, size_under_way
from zoompick.scenes.fetchplan import DownloadPlan, Fetch

SHA256 = hashlib.sha256(BODY).hexdigest()


@pytest.fixture
def server():
    with serving() as url:
        yield url


def entry_at(url: str, path: Path, **more) -> Fetch:
    return Fetch("scene", "red", url, path, len(BODY), SHA256, **more)


def left_behind(path: Path, url: str, data: bytes, validator: str = '"one"') -> None:
    """What a killed run leaves."""
    part, note = paths_beside(path)
    part.write_bytes(data)
    note.write_text(json.dumps({"place": url, "validator": validator, "size": len(BODY), "sha256": None}))


@pytest.mark.parametrize(
    ("data", "validator", "ranges", "received"),
    [
        (BODY[:1000], '"one"', ["bytes=1000-"], len(BODY) - 1000),
        (BODY, '"one"', [], 0),
        (BODY[:1000], '"old"', ["bytes=1000-"], len(BODY)),
        (b"x" * 1000, '"one"', ["bytes=1000-", None], 2 * len(BODY) - 1000),
        (BODY[:1000], "", [None], len(BODY)),
    ],
)
def test_what_an_earlier_run_left_is_taken_up(server, tmp_path, data, validator, ranges, received):
    path, url = tmp_path / "a.tif", f"{server}/good/a.tif"
    left_behind(path, url, data, validator)
    assert size_under_way(path) == len(data)
    told: list[int] = []
    entry = entry_at(f"{url}?sign=1", path)
    count = fetch_whole(entry, Client(), None, lambda e: told.append(e.amount) if isinstance(e, Advanced) else None)
    assert (path.read_bytes(), count, sum(told)) == (BODY, received, len(BODY))
    assert [asked for _, asked in Handler.seen] == ranges
    assert record.read(tmp_path)["a.tif"].url == url
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.tif", "downloads.json"]


@pytest.mark.parametrize("seed", range(4))
def test_a_download_that_is_stopped_anywhere_goes_on_there(server, tmp_path, seed):
    """Stopped at random places until it is here: right at the end, and hardly a byte came twice."""
    rng, path, received = random.Random(seed), tmp_path / "a.tif", 0
    for _ in range(40):
        client, before = Client(), size_under_way(path)
        left = before + rng.randrange(50_000, 600_000)

        def count(event, client=client):
            nonlocal left
            if isinstance(event, Advanced):
                left -= event.amount
                if left <= 0:
                    client.stop.set()

        try:
            fetch_whole(Fetch("s", "b", f"{server}/good/a.tif", path, len(BODY), SHA256), client, report=count)
            received += len(BODY) - before
            break
        except CancelledError:
            assert not path.exists() and size_under_way(path) >= before
            received += size_under_way(path) - before
    assert path.read_bytes() == BODY and received == len(BODY)
    assert [entry.name for entry in tmp_path.iterdir() if entry.name.endswith(".partial")] == []


def test_bytes_of_another_file_are_not_taken_up(server, tmp_path):
    path = tmp_path / "a.tif"
    left_behind(path, "http://elsewhere/a.tif", b"x" * 1000)
    assert fetch_whole(entry_at(f"{server}/good/a.tif", path), Client()) == len(BODY)


def test_a_page_in_place_of_the_rest_costs_nothing_that_is_here(server, tmp_path):
    path, url = tmp_path / "a.tif", f"{server}/page/a.tif"
    left_behind(path, url, BODY[:1000])
    with pytest.raises(FormatError, match="a web page in place"):
        fetch_whole(entry_at(url, path), Client())
    assert size_under_way(path) == 1000
    assert not path.exists()


def test_an_expired_address_is_asked_for_again(server, tmp_path):
    entry = entry_at(f"{server}/signed/a.tif?sign=old", tmp_path / "a.tif")
    tools = Tools(renew=lambda entry: entry.url.replace("old", "new"))
    assert fetch_whole(entry, Client(), tools) == len(BODY)
    with pytest.raises(SourceError, match="answered 403"):
        fetch_whole(replace(entry, path=tmp_path / "b.tif"), Client(), Tools(renew=lambda entry: entry.url))


def test_a_header_that_does_not_decode_is_refused(server, tmp_path):
    entry = entry_at(f"{server}/good/a.tif", tmp_path / "a.tif")
    with pytest.raises(FormatError, match="directory cannot be read"):
        fetch_whole(entry, Client(), Tools(opens=get.opens))
    assert list(tmp_path.iterdir()) == []


def test_a_wrong_digest_leaves_nothing(server, tmp_path):
    with pytest.raises(ChecksumError):
        fetch_whole(replace(entry_at(f"{server}/good/a.tif", tmp_path / "a.tif"), sha256="11" * 32), Client())
    assert list(tmp_path.iterdir()) == []


def test_a_trickle_counts_as_a_broken_connection(server, tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_READ_TIMEOUT_S", "0.5")
    monkeypatch.setenv("ZOOMPICK_RETRIES", "0")
    with pytest.raises(TransientError, match="bytes a second"):
        fetch_whole(entry_at(f"{server}/trickle/a.tif", tmp_path / "a.tif"), Client())
    assert 0 < size_under_way(tmp_path / "a.tif") < 40


def test_a_head_that_trickles_is_given_up(server, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_READ_TIMEOUT_S", "0.4")
    monkeypatch.setenv("ZOOMPICK_RETRIES", "0")
    with pytest.raises(TransientError, match="does not answer"):
        Client().document(f"{server}/headless/a.json")


@pytest.mark.parametrize(
    ("name", "head", "fits"),
    [
        ("a.tif", b"II*\0rest", True), ("a.TIFF", b"PK\3\4", False), ("a.png", b"\x89PNG\r\n\x1a\n", True),
        ("a.tar", bytes(257) + b"ustar", True), ("a.tar", b"<html>", False), ("a.tar.gz", b"\x1f\x8b", True),
        ("a.nc", b"\x89HDF\r\n\x1a\n", True), ("a.h5", b'{"error": 1}', False), ("a.txt", b"anything", True),
        ("noending", b"", True), ("a.zip", b"", False),
    ],
)  # fmt: skip
def test_first_bytes_against_the_name(name, head, fits):
    if fits:
        kinds.refuse_other(name, head)
    else:
        with pytest.raises(FormatError, match="in place of the file"):
            kinds.refuse_other(name, head)


@pytest.mark.parametrize(("text", "rate"), [("500k", 5e5), ("2MB", 2e6), ("1.5 MB/s", 1.5e6), ("80 B", 80), ("", 0)])
def test_rates(text, rate):
    assert Pace.parse(text).bytes_per_s == rate


@pytest.mark.parametrize("text", ["fast", "0", "-2k", "2 TB", "2"])
def test_rates_that_cannot_be(text):
    with pytest.raises(UsageError):
        Pace.parse(text)


def test_a_pace_makes_bytes_wait():
    waits: list[float] = []

    class Stop(threading.Event):
        def wait(self, timeout=None):
            waits.append(timeout)
            return False

    pace = Pace(1000)
    pace.take(500, Stop())
    pace.take(500, Stop())
    assert waits[0] == pytest.approx(0.5, abs=0.05)
    assert waits[1] == pytest.approx(1.0, abs=0.05)
    assert pace.most_at_once == 1024


@pytest.mark.parametrize("word", ["good", "nohead", "norange"])
def test_a_size_is_asked_for_without_the_file(server, word):
    assert Client().size(f"{server}/{word}/a.tif") == len(BODY)


# Windows


@pytest.mark.parametrize(
    ("spans", "gap", "expected"),
    [
        ([(0, 10), (10, 5)], 0, [(0, 15)]),
        ([(20, 5), (0, 10)], 9, [(0, 10), (20, 5)]),
        ([(20, 5), (0, 10)], 10, [(0, 25)]),
        ([(0, 50), (10, 5), (3, 0)], 0, [(0, 50)]),
        ([], 0, []),
    ],
)
def test_spans_that_touch_become_one(spans, gap, expected):
    assert merged([Span(*span) for span in spans], gap) == [Span(*span) for span in expected]


@pytest.mark.parametrize("seed", range(5))
def test_merged_spans_hold_the_same_bytes_and_never_touch(seed):
    """Against sets of byte positions."""
    rng = random.Random(seed)
    spans = [Span(rng.randrange(400), rng.randrange(40)) for _ in range(rng.randrange(30))]
    gap = rng.randrange(12)
    found = merged(spans, gap)
    wanted = {place for span in spans for place in range(span.start, span.stop)}
    held = [place for span in found for place in range(span.start, span.stop)]
    assert wanted <= set(held) and len(held) == len(set(held)) and held == sorted(held)
    assert all(second.start - first.stop > gap for first, second in itertools.pairwise(found))
    # Nothing is fetched that lies beyond a gap that is too wide.
    for place in set(held) - wanted:
        left = max(other for other in wanted if other < place)
        right = min(other for other in wanted if other > place)
        assert right - left - 1 <= gap


@pytest.mark.parametrize("seed", range(3))
def test_any_reads_of_parts_of_a_remote_file_are_those_of_the_file(server, seed):
    rng, names = random.Random(seed), ("only/a.tif", "only/b.tif", "only/c.tif")
    bodies = [rng.randbytes(size) for size in (5000, 1, 70_000)]
    Handler.files.update({f"/{name}": body for name, body in zip(names, bodies, strict=True)})
    client, cost = Client(), Cost()
    parts = RemoteParts([RemoteFile(f"{server}/{n}", client, cost, head_bytes=300, ahead_bytes=200) for n in names])
    whole = b"".join(bodies)
    assert parts.size == len(whole)
    parts.fetch([Span(4000, 3000), Span(30_000, 500)])
    asked = cost.requests
    assert parts.read(4500, 2000) == whole[4500:6500] and cost.requests == asked
    for _ in range(60):
        start, length = rng.randrange(len(whole)), rng.randrange(2000)
        assert parts.read(start, length) == whole[start : start + length]
    stream = SourceStream(parts)
    stream.seek(-40, 2)
    assert stream.read() == whole[-40:]


def test_a_remote_file_gives_every_byte_right(server, monkeypatch):
    monkeypatch.setattr("zoompick.net.ranges._IN_MEMORY", 300_000)
    file = RemoteFile(f"{server}/good/a.tif", Client())
    file.fetch([Span(200_000, 100_000), Span(500_000, 200_000), Span(900_000, 100_000)])
    asked = len(Handler.seen)
    for start, length in ((0, 100), (200_000, 100_000), (550_000, 1000), (999_000, 1000), (600_000, 100_000)):
        assert file.read(start, length) == BODY[start : start + length]
    assert len(Handler.seen) == asked + 1
    assert file.size == len(BODY)
    assert file.read(len(BODY) - 5, 100) == BODY[-5:]


def test_two_versions_of_a_file_never_mix(server):
    file = RemoteFile(f"{server}/edited/a.tif", Client())
    file.read(0, 10)
    with pytest.raises(SourceError, match="changed at the source"):
        file.read(500_000, 10)


def plan_of(*entries: Fetch) -> DownloadPlan:
    return DownloadPlan(entries, (), ())


def test_a_window_is_the_same_pixels_for_a_part_of_the_bytes(archive, tmp_path):
    item, client, fen = item_of(archive), Client(), polygon_of(FEN)
    entries = []
    for key in ("red", "rededge", "classes"):
        url = files_of(item)[key].href
        entries.append(Fetch("s", key, url, tmp_path / f"{key}.tif", None, None, region=Region.of(fen)))
    found = survey(plan_of(*entries), client)
    assert not found.whole
    for entry in found.plan.fetch:
        opened = found.opened[entry.path]
        blocks = sum(length for _, length in opened.cut.raster.stretches(opened.cut.window))
        received = fetch_window(entry, opened)
        assert received <= 1.02 * blocks + (32 << 10)
        assert len(opened.spans) <= -(-opened.cut.window.height // opened.cut.raster.block[0]) + 1
        whole = tmp_path / "whole" / entry.path.name
        fetch_whole(replace(entry, path=whole, region=None, size=None), client)
        mine, theirs = open_raster(entry.path), open_raster(whole)
        assert mine.grid.shares_lattice(theirs.grid)
        assert (mine.bands, mine.dtype, mine.nodata) == (theirs.bands, theirs.dtype, theirs.nodata)
        np.testing.assert_array_equal(mine.read(mine.grid.window), theirs.read(opened.cut.window))
        around, box = mine.grid.bounds, bounds_of(project(fen, mine.grid.crs))
        edges = theirs.grid.bounds
        assert around.west <= max(box.west, edges.west) and around.east >= min(box.east, edges.east)
        assert around.south <= max(box.south, edges.south) and around.north >= min(box.north, edges.north)
        kept = record.read(tmp_path)[entry.path.name]
        assert kept.size == entry.path.stat().st_size < kept.whole_size == whole.stat().st_size
        assert record.is_here(entry)
        assert record.is_here(replace(entry, region=Region.of(fen.buffer(-0.001))))
        assert not record.is_here(replace(entry, region=Region.of(fen.buffer(0.001))))
        assert not record.is_here(replace(entry, region=None))


def test_what_has_no_windows_is_planned_whole(tmp_path):
    import functools
    import http.server

    class Ranged(http.server.SimpleHTTPRequestHandler):
        def log_message(self, *args):
            pass

    foreign_tiff(tmp_path / "strips.tif", noise((1, 64, 64)), grid(64, 64), rowsperstrip=8)
    (tmp_path / "a.dat").write_bytes(b"\x89HDF\r\n\x1a\n")
    handler = functools.partial(Ranged, directory=tmp_path)
    second = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=second.serve_forever, args=(0.02,), daemon=True).start()
    base, region = f"http://127.0.0.1:{second.server_port}", polygon_of(FEN)
    names = ("strips.tif", "a.dat", "missing.tif")
    entries = [
        Fetch("s", n, f"{base}/{n}", tmp_path / "out" / n, None, None, region=Region.of(region)) for n in names
    ]
    found = survey(plan_of(*entries), Client())
    assert [entry.region for entry in found.plan.fetch] == [None] * 3
    assert "only sent whole" in found.whole[entries[0].path]
    assert "neither GeoTIFF" in found.whole[entries[1].path]
    second.shutdown()
    second.server_close()


# The command


@pytest.fixture
def picked(study, program):
    assert program("search", "--dates", "2025-12-15", cwd=study).code == 0
    assert program("pick", "--cover", cwd=study).code == 0
    return study


def test_download_as_a_user_does(picked, program):
    plan = program("download", "--window", "--bands", "red,nir", "--dry-run", "--json", cwd=picked).json
    count = len(plan["files"])
    assert count >= 2 and all(file["state"] == "fetch" and file["window"] for file in plan["files"])
    total = plan["total"]
    assert total["saved_bytes"] > total["bytes"] == sum(file["bytes"] for file in plan["files"]) > 0
    assert total["free_bytes"] > 0 and total["seconds"] is None
    assert not list(picked.glob("scenes/*/*/*/*.tif"))
    marker = picked / "done"
    words = f"{sys.executable} -c 'import sys; open(sys.argv[1], \"w\")' {marker}"
    wanted = ("download", "--window", "--bands", "red,nir")
    got = program(*wanted, "--limit-rate", "20MB", "--when-done", words, cwd=picked)
    assert got.code == 0, got.err
    assert "stay at the source" in got.err and "Only the area's windows" in got.err and marker.exists()
    again = program(*wanted, cwd=picked)
    assert "nothing was fetched" in again.err
    wider = program("download", "--whole", "--bands", "red", "--dry-run", cwd=picked)
    assert wider.out.count("fetch") == count // 2
    failing = program("download", "--window", "--bands", "red", "--when-done", "no-such-program", cwd=picked)
    assert failing.code == 2 and "cannot be run" in failing.err
    look = program("download", "--bands", "quicklook", cwd=picked)
    assert look.code == 0 and list(picked.glob("scenes/*/*/*/*.png"))


def test_what_must_be_ordered_is_told_and_not_fetched(program, archive, tmp_path):
    program("source", "add", "ostrell", archive)
    words = (
        "search",
        "--source",
        "ostrell",
        "--collection",
        "gannet-vhr",
        "--box",
        -12.1,
        -38.65,
        -12.0,
        -38.55,
        "--json",
    )
    found = program(*words).out
    got = program(
        "download", "-", "--to", "here", "--box", -12.06, -38.62, -12.04, -38.6, "--dry-run", "--json", stdin=found
    )
    told = got.json
    assert told["files"] == [] and all(scene["access"] == "priced" for scene in told["on_order"])
    assert told["total"]["price"]["amount"] > 0
    refused = program("download", "-", "--to", "here", stdin=found)
    assert refused.code == 5 and "has to be ordered" in refused.err
    windowless = program("download", "-", "--window", "--to", "here", stdin=found)
    assert windowless.code == 2 and "needs an area" in windowless.err


def test_a_killed_download_goes_on(picked, program):
    """Killed at several moments; the same command then ends with every file checked, and no file was ever wrong."""
    command = [sys.executable, "-m", "zoompick", "download", "--bands", "red,nir,green", "--limit-rate", "3MB"]
    for delay in (1.2, 2.0, 3.1):
        process = subprocess.Popen(command, cwd=picked, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(delay)
        os.kill(process.pid, signal.SIGKILL)
        process.wait(10)
        for path in picked.glob("scenes/*/*/*/*.tif"):
            assert open_raster(path).read(open_raster(path).grid.window).any()
    left = sum(path.stat().st_size for path in picked.glob("scenes/*/*/*/.*.partial"))
    done = program(*command[3:6], cwd=picked)
    assert done.code == 0, done.err
    if left:
        assert "left from an earlier run" in done.err
    assert not list(picked.glob("scenes/*/*/*/.*.partial*"))
    assert program("verify", *picked.glob("scenes/*/*/*/*.tif"), cwd=picked).code == 0


def test_rates_and_times_for_people(tmp_path):
    lines = [
        {"act": "download", "source": "a", "bytes": 4_000_000, "seconds": 2},
        {"act": "download", "source": "a", "bytes": 6_000_000, "seconds": 2},
        {"act": "download", "source": "a", "bytes": 10, "seconds": 9},
        {"act": "download", "source": "b", "bytes": 9_000_000, "seconds": 1},
        {"act": "search", "source": "a", "seconds": 1},
    ]
    journal = tmp_path / "journal.jsonl"
    journal.write_text("\n".join(map(json.dumps, lines)) + "\nnot json\n")
    assert rate_of(journal, {"a"}) == 2_500_000
    assert rate_of(journal, {"c"}) is None
    assert [human_time(s) for s in (0.2, 61, 600, 12_000)] == ["1 s", "61 s", "10 min", "3 h 20 min"]
