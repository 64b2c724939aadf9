"""The program under the stand-in's troubles and at its limits: every file ends right, no secret is told."""

from __future__ import annotations

import hashlib
import json
import os
import re
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from badserver import BODY, Handler, serving
from helpers import item_of
from zoompick.files import sha256_of_multihash
from zoompick.journal import acts
from zoompick.net.client import Client
from zoompick.net.login import Keyring, Login
from zoompick.net.ranges import RemoteFile
from zoompick.raster.grid import Window
from zoompick.raster.opening import open_raster
from zoompick.standin.serve import archive as standin

SECRET = "hush-hush-4711"


def collection(url: str, *names: str, word: str = "good", kind: str = "image/tiff") -> str:
    """An ItemCollection with one scene, whose files lie on a server that misbehaves."""
    square = {"type": "Polygon", "coordinates": [[[0, 0], [1, 0], [1, 1], [0, 1], [0, 0]]]}
    assets = {name: {"href": f"{url}/{word}/{name}.bin", "type": kind, "roles": ["data"]} for name in names}
    item = {"type": "Feature", "stac_version": "1.1.0", "id": "one", "collection": "c", "geometry": square,
            "properties": {"datetime": "2025-12-15T00:00:00Z"}, "links": [], "assets": assets}  # fmt: skip
    return json.dumps({"type": "FeatureCollection", "features": [item]})


@pytest.fixture
def url():
    with serving() as address:
        yield address


def secrets_in(folder: Path) -> list[Path]:
    return [path for path in folder.rglob("*") if path.is_file() and SECRET.encode() in path.read_bytes()]


@pytest.mark.parametrize("word", ["cut", "norange", "changed", "flaky", "otherrange", "dates", "tworounds"])
def test_whatever_happens_the_file_is_right(program, tmp_path, url, word):
    done = program("download", "-", "--to", "here", stdin=collection(url, "red", word=word))
    assert done.code == 0, done.err
    assert (tmp_path / "here" / "one" / "red.bin").read_bytes() == BODY


@pytest.mark.parametrize(
    ("word", "name", "said"),
    [("page", "a.tif", "a web page"), ("html", "a.tif", "a web page"), ("status/401", "a.tif", "source login"),
     ("status/404", "a.tif", "answered 404"), ("status/500", "a.tif", "answered 500")],
)  # fmt: skip
def test_what_fails_is_summed_up_and_the_rest_is_here(program, tmp_path, url, monkeypatch, word, name, said):
    monkeypatch.setenv("ZOOMPICK_RETRIES", "1")
    square = json.loads(collection(url, "red"))
    square["features"][0]["assets"]["nir"] = {
        "href": f"{url}/{word}/{name}", "type": "image/tiff", "roles": ["data"]
    }  # fmt: skip
    done = program("download", "-", "--to", "here", stdin=json.dumps(square))
    assert done.code == 5
    assert "failed: one, nir" in done.err and said in done.err and "1 of 2 files are here" in done.err
    assert sorted(path.name for path in (tmp_path / "here" / "one").iterdir()) == [
        "downloads.json", "item.json", "red.bin"]  # fmt: skip


def test_a_log_in_is_used_and_told_nowhere(program, tmp_path, url):
    Keyring().put(url, Login("basic", "ann", "secret"))
    program("source", "add", "theirs", url, "--kind", "stac-api")
    try:
        # Of items on nobody's behalf nothing is known that would let the log-in go with them.
        piped = collection(url, "red", word="locked")
        alone = program("download", "-", "--to", "alone", stdin=piped)
        assert alone.code == 5 and "this request is on no source's behalf" in " ".join(alone.err.split())
        piped = piped.replace('"id": "one"', '"id": "one", "zoompick:pick": {"source": "theirs"}')
        assert program("download", "-", "--to", "here", stdin=piped).code == 0
        Keyring().put(url, Login("bearer", token=SECRET))
        Handler.tokens.append(SECRET)
        again = program("download", "-", "--to", "there", stdin=piped)
        assert again.code == 0 and SECRET not in again.out + again.err
        Handler.tokens.append("another")
        refused = program("download", "-", "--to", "nowhere", stdin=piped)
        assert refused.code == 5 and SECRET not in refused.out + refused.err
        assert secrets_in(tmp_path) == []
    finally:
        Keyring().drop(url)
        program("source", "remove", "theirs")


def test_a_signature_in_a_link_is_not_kept_in_our_records(program, tmp_path, url):
    piped = json.loads(collection(url, "red"))
    piped["features"][0]["assets"]["red"]["href"] += f"?sign={SECRET}"
    done = program("download", "-", "--to", "here", stdin=json.dumps(piped))
    assert done.code == 0 and SECRET not in done.out + done.err
    assert secrets_in(tmp_path) == []


def test_two_runs_at_once(program, tmp_path, url):
    """One waits or refuses, and neither breaks the other."""
    piped = collection(url, *(f"b{n}" for n in range(6)))
    command = [sys.executable, "-m", "zoompick", "download", "-", "--to", "here", "--limit-rate", "2MB"]
    first = subprocess.Popen(command, cwd=tmp_path, stdin=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    first.stdin.write(piped)
    first.stdin.close()
    until = time.monotonic() + 20
    while not list((tmp_path / "here").glob("one/.*.partial")) and time.monotonic() < until:
        time.sleep(0.05)
    second = program("download", "-", "--to", "here", stdin=piped)
    assert second.code == 2 and "Another zoompick is working" in second.err
    assert first.wait(60) == 0
    assert len(list((tmp_path / "here" / "one").glob("*.bin"))) == 6


LIMITED = """
import resource, runpy, signal, sys
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (500_000, 500_000))
sys.argv = ["zoompick", *sys.argv[1:]]
runpy.run_module("zoompick", run_name="__main__")
"""


def test_a_full_disk_is_told_and_the_next_run_goes_on(program, tmp_path, url):
    """A quota on the length of a file stands for the disk: the system tells both by the same kind of error."""
    piped = collection(url, "red", "nir")
    command = [sys.executable, "-c", LIMITED, "download", "-", "--to", "here"]
    full = subprocess.run(command, cwd=tmp_path, input=piped, capture_output=True, text=True)
    assert full.returncode == 1 and "no room left" in full.stderr and "What came of it is kept" in full.stderr
    assert "Traceback" not in full.stderr
    assert not list(tmp_path.rglob("*.bin"))
    done = program("download", "-", "--to", "here", stdin=piped)
    assert done.code == 0 and "left from an earlier run" in done.err, done.err
    assert {path.read_bytes() == BODY for path in tmp_path.rglob("*.bin")} == {True}


def test_more_than_the_disk_holds_is_refused_before_the_first_byte(program, tmp_path, url):
    piped = json.loads(collection(url, "red"))
    piped["features"][0]["assets"]["red"]["file:size"] = 10**17
    refused = program("download", "-", "--to", "here", stdin=json.dumps(piped))
    assert refused.code == 1
    assert re.search(r"needs 100000.0 TB, but only .* are free", refused.err)
    assert not any("/good/" in path for path, _ in Handler.seen)


def test_it_is_watched_until_all_is_here(tmp_path, url):
    """The first pass fails, a later one succeeds: the program tries again by itself."""
    Handler.files["/only/late.bin"] = BODY
    held = Handler.files.pop("/only/late.bin")
    command = [sys.executable, "-m", "zoompick", "download", "-", "--to", "here", "--watch", "0.6s"]
    process = subprocess.Popen(command, cwd=tmp_path, stdin=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                               env=os.environ | {"ZOOMPICK_RETRIES": "0"})  # fmt: skip
    process.stdin.write(collection(url, "late", word="only"))
    process.stdin.close()
    assert any("Trying again in 1 s" in line for line in process.stderr)
    Handler.files["/only/late.bin"] = held
    assert process.wait(60) == 0
    assert "1 file fetched, no digest is published" in process.stderr.read()


# Troubles of the archive

BANDS = ("red", "nir", "classes")


@pytest.fixture(scope="module")
def scene(shared_cache) -> dict:
    """An item whose pixels have been made, as the healthy archive tells it."""
    with standin(shared_cache) as address:
        client, item = Client(), item_of(address)
        for band in BANDS:
            client.size(item["assets"][band]["href"])
        return json.loads(json.dumps(item_of(address)).replace(address, "http://archive"))


def true_digests(item: dict) -> dict[str, str]:
    return {band: sha256_of_multihash(item["assets"][band]["file:checksum"]) for band in BANDS}


@pytest.mark.parametrize(
    "faults",
    [("cut:0.6",), ("error:0.3", "busy:0.1"), ("length:0.4",), ("checksum:0.4",), ("login:0.4",), ("elsewhere:1",),
     ("whole:0.7", "cut:0.5"), ("edited:1", "cut:0.4"), ("trickle:0.5",)],
)  # fmt: skip
def test_after_any_trouble_the_same_command_ends_right(scene, program, tmp_path, shared_cache, faults):
    """Whole files: however the run before ended, no file that has its name is ever wrong."""
    truth = true_digests(scene)
    env = {"ZOOMPICK_READ_TIMEOUT_S": "0.5", "ZOOMPICK_RETRY_WAIT_MAX_S": "1"}
    with standin(shared_cache, faults=faults) as address:
        piped = json.dumps({"type": "FeatureCollection", "features": [scene]}).replace("http://archive", address)
        Keyring().put(address, Login("bearer", token=SECRET))
        for _ in range(8):
            done = program("download", "-", "--to", "here", "--bands", ",".join(BANDS), stdin=piped, env=env)
            assert done.code in (0, 5), done.err
            assert SECRET not in done.out + done.err
            for path in tmp_path.glob("here/*/*.tif"):
                assert hashlib.sha256(path.read_bytes()).hexdigest() == truth[path.stem.rpartition("-")[2]]
            if done.code == 0:
                break
        Keyring().drop(address)
    assert done.code == 0, done.err
    assert {path.stem.rpartition("-")[2] for path in tmp_path.glob("here/*/*.tif")} == set(BANDS)
    assert not list(tmp_path.glob("here/*/.*.partial*"))
    assert secrets_in(tmp_path) == []


@pytest.mark.parametrize("faults", [("cut:0.3",), ("error:0.2", "length:0.2"), ("elsewhere:1", "edited:0.1")])
def test_a_window_is_right_after_any_trouble(scene, program, tmp_path, archive, fen_file, shared_cache, faults):
    """Each window holds the pixels of the whole file, or is not there."""
    with standin(shared_cache, faults=faults) as address:
        piped = json.dumps({"type": "FeatureCollection", "features": [scene]}).replace("http://archive", address)
        for _ in range(8):
            words = ("--bands", ",".join(BANDS), "--window", "--area", fen_file)
            done = program("download", "-", "--to", "here", *words, stdin=piped)
            if done.code == 0:
                break
        assert done.code == 0, done.err
    for band in BANDS:
        [path] = tmp_path.glob(f"here/*/*-{band}.tif")
        part, whole = (
            open_raster(path),
            open_raster(RemoteFile(scene["assets"][band]["href"].replace("http://archive", archive), Client())),
        )
        col = round((part.grid.west - whole.grid.west) / part.grid.pixel_x)
        row = round((whole.grid.north - part.grid.north) / part.grid.pixel_y)
        window = Window(col, row, part.grid.width, part.grid.height)
        assert part.grid.width < whole.grid.width or part.grid.height < whole.grid.height
        assert np.array_equal(part.read(part.grid.window), whole.read(window))


def test_a_log_in_page_is_named(scene, program, tmp_path, shared_cache):
    with standin(shared_cache, faults=("login:1",)) as address:
        piped = json.dumps({"type": "FeatureCollection", "features": [scene]}).replace("http://archive", address)
        done = program("download", "-", "--to", "here", "--bands", "red", stdin=piped)
    assert done.code == 5 and "a web page" in done.err and "source login" in done.err
    assert [path.name for path in tmp_path.rglob("*") if path.suffix in (".tif", ".partial")] == []


# Status and history


def test_status_and_history(study, program, archive):
    assert "Nothing is picked yet" in program("status", cwd=study).err
    program("search", "--dates", "2025-12-15", cwd=study)
    program("pick", "1-2", cwd=study)
    before = program("status", "--json", cwd=study).json
    assert [scene["state"] for scene in before["scenes"]] == ["picked", "picked"]
    assert program("download", "1", "--bands", "red", cwd=study).code == 0
    half = program("status", cwd=study)
    assert "partly here" in half.out and "On disk: scenes" in half.err
    assert program("download", "1", cwd=study).code == 0
    states = [scene["state"] for scene in program("status", "--json", cwd=study).json["scenes"]]
    assert states == ["here", "picked"]
    scene = before["scenes"][0]["scene"]
    left = next(study.glob(f"scenes/*/*/{scene}")) / ".x.tif.partial"
    left.write_bytes(b"x" * 1000)
    program("pick", "drop", "1", cwd=study)
    told = program("status", "--json", cwd=study).json
    assert [Path(entry["path"]).name for entry in told["can_free"]] == [scene]
    assert told["can_free"][0]["bytes"] > 100_000
    freed = program("status", "--free", cwd=study)
    assert freed.code == 0 and "in 1 places" in freed.err
    assert not list(study.glob("scenes/*/*/*"))
    names = [line["act"] for line in program("history", "--json", cwd=study).json]
    assert names[0] == "new" and names[-1] == "free" and names.count("download") == 2
    shown = program("history", "--act", "download", "--last", "1", cwd=study)
    assert shown.out.count("download") == 1 and "source ostrell" in shown.out
    assert program("history", "--act", "nothing", cwd=study).err.strip() == "The journal tells of no such act."


def test_a_failed_scene_says_why(study, program, url):
    scenes = json.loads(collection(url, "red", word="status/404"))
    (study / "in.json").write_text(json.dumps(scenes))
    assert program("pick", "import", "in.json", cwd=study).code == 0
    assert program("download", "--bands", "red", cwd=study).code == 5
    brief = study / "study.toml"
    brief.write_text(re.sub(r"bands = \[.*?\]", 'bands = ["red"]', brief.read_text(), count=1))
    [scene] = program("status", "--json", cwd=study).json["scenes"]
    assert scene["state"] == "failed" and "answered 404" in scene["note"]
    assert next(line for line in acts(study / "journal.jsonl") if line["act"] == "download")["failures"]


def test_without_a_terminal_progress_is_a_plain_log(capsys, monkeypatch):
    from zoompick.cli import show
    from zoompick.events import Advanced, Finished, Noted, Started

    monkeypatch.setattr(show, "_BETWEEN_LINES_S", 0)
    with show.progress() as report:
        for event in (Started("download", 1000, "B"), Advanced("download", 250), Advanced("files", 1),
                      Noted("a note"), Finished("download")):  # fmt: skip
            report(event)
    said = capsys.readouterr().err.splitlines()
    assert re.fullmatch(r"download: 250 B of 1.0 kB, .*/s, \d+ s left", said[0])
    assert said[1:] == ["a note"]
