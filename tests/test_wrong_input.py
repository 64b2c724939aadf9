"""Wrong input from the command line: one sentence, what to do, the right exit code, nothing half-written."""

from __future__ import annotations

import json
import resource
import signal
import subprocess
import time

import pytest

from conftest import PROGRAM
from helpers import foreign_tiff, grid, noise

BOX = ["--box", "-12.08", "-38.63", "-12.05", "-38.6"]
SWAPPED = ["-38.63", "-12.08", "-38.6", "-12.05"]
HERE = ["--source", "ostrell", *BOX]
CASES = {
    "latitude first": (["area", "--box", "-38.6", "-112.1", "-38.5", "-112"], 2, "latitude was given first"),
    "longitude beyond": (["area", "--box", "-190", "1", "2", "3"], 2, "beyond 180"),
    "turned box": (["area", "--box", "2", "1", "1", "3"], 2, "not below the east"),
    "three numbers": (["area", "--box", "1", "2", "3"], 2, "needs 4 values"),
    "bow tie": (["area", "bow.geojson"], 2, "crosses itself"),
    "empty polygon": (["area", "empty.geojson"], 2, "is empty"),
    "text as area": (["area", "text.tif"], 2, "not GeoJSON"),
    "no such area": (["area", "none.geojson"], 2, "no area file"),
    "area and box": (["search", "--area", "empty.geojson", *HERE], 2, "in more than one way"),
    "reversed dates": (["search", *HERE, "--dates", "2026/2025"], 2, "end before they begin"),
    "unreadable dates": (["search", *HERE, "--dates", "soon"], 2, "cannot be read"),
    "cloud 150": (["search", *HERE, "--cloud", "150"], 2, "between 0 and 100"),
    "cloud in words": (["search", *HERE, "--cloud", "little"], 2, "'little' is no percentage"),
    "cover -1": (["search", *HERE, "--cover-min", "-1"], 2, "between 0 and 100"),
    "unknown collection": (["search", *HERE, "--collection", "lapwing-l1"], 2, "Did you mean lapwing-l2"),
    "unknown source": (["search", "--source", "ostrel", *BOX], 2, "Did you mean ostrell"),
    "no area": (["search", "--source", "ostrell"], 2, "There is no area"),
    "not reachable": (["search", "--source", "gone", *BOX], 4, "Check the address with 'zoompick source list'"),
    "too clear": (["search", *HERE, "--dates", "2025-01-05", "--cloud", "5"], 3, "the clearest has"),
    "wrong time": (["search", *HERE, "--collection", "lapwing-l2", "--dates", "2019"], 3, "they are from 2024-11-18"),
    "wrong place": (["search", "--source", "ostrell", "--box", "3", "3", "4", "4"], 3, "The source has scenes in"),
    "swapped place": (["search", "--source", "ostrell", "--box", *SWAPPED], 3, "latitude given first"),
    "no study": (["pick", "1"], 2, "There is no study"),
    "run without study": (["run"], 2, "There is no study"),
    "download without study": (["download"], 2, "no shortlist"),
    "text as image": (["stack", "text.tif"], 1, "is no raster of a kind that is read here"),
    "text as index input": (["index", "text.tif", "--recipe", "ndvi"], 1, "is no raster of a kind that is read here"),
    "missing image": (["composite", "none.tif"], 2, "There is no file none.tif"),
    "unknown band": (["stack", "red.tif", "--bands", "redd"], 2, "Did you mean red"),
    "band twice": (["stack", "red.tif", "--bands", "red,red"], 2, "named twice"),
    "unknown recipe": (["index", "red.tif", "--recipe", "ndvy"], 2, "Did you mean ndvi"),
    "unknown composite": (["composite", "red.tif", "--recipe", "naturl"], 2, "Did you mean natural"),
    "recipe lacks a band": (["index", "red.tif", "--recipe", "ndvi"], 2, "There is no band called 'nir'"),
    "two bands": (["composite", "red.tif", "--bands", "red,red2"], 2, "three bands"),
    "turned stretch": (["composite", "red.tif", "--stretch", "98,2"], 2, "first percentile must be below"),
    "clip nowhere": (["clip", "red.tif", "--box", "3", "3", "4", "4"], 2, "outside the raster"),
    "clip without area": (["clip", "red.tif"], 2, "no area to clip to"),
    "pixel 0": (["stack", "red.tif", "--pixel", "0"], 2, "not above 0"),
    "option without file": (["stack", "--bands", "red"], 2, "needs a file"),
    "unknown command": (["stak"], 2, "Did you mean 'zoompick stack'"),
    "slip in a group": (["area", "sho"], 2, "Did you mean 'zoompick area show'"),
    "slip in a plain group": (["source", "lst"], 2, "Did you mean 'zoompick source list'"),
    "cloud as it is said": (["search", "--cloud", "20%", "--area", "nowhere"], 2, "'nowhere' is no file"),
    "unknown option": (["search", "--clouds", "3"], 2, "--cloud"),
    "source name": (["source", "add", "My Source", "http://x.test"], 2, "cannot be the name"),
    "source address": (["source", "add", "x", "nowhere"], 2, "no web address"),
    "bad trouble": (["standin", "serve", "--fault", "flood"], 2, "no known trouble"),
    "bad port": (["standin", "serve", "--port", "99999"], 2, "cannot listen"),
    "box for a study": (["new", "x", "--box", "5", "5", "4", "6"], 2, "not below the east"),
    "dates for a study": (["new", "x", "--dates", "2026/2025"], 2, "end before"),
    "cloud for a study": (["new", "x", "--cloud", "101"], 2, "between 0 and 100"),
    "study twice": (["new", "there"], 2, "is a study already"),
}  # fmt: skip


@pytest.fixture
def folder(tmp_path, program, archive):
    """Files that are wrong in one way each, a good one, and two sources, one of which is gone."""
    (tmp_path / "text.tif").write_text("I am a text.\n")
    (tmp_path / "bow.geojson").write_text(
        json.dumps({"type": "Polygon", "coordinates": [[[0, 0], [1, 1], [1, 0], [0, 1], [0, 0]]]})
    )
    (tmp_path / "empty.geojson").write_text(json.dumps({"type": "Polygon", "coordinates": []}))
    foreign_tiff(tmp_path / "red.tif", noise((1, 64, 64)), grid(64, 64), nodata="0")
    (tmp_path / "there").mkdir()
    (tmp_path / "there" / "study.toml").write_text("")
    config = tmp_path / "config"
    config.mkdir()
    gone = {"ostrell": {"url": archive}, "gone": {"url": "http://127.0.0.1:9"}}
    (config / "sources.json").write_text(json.dumps(gone))
    return tmp_path


@pytest.mark.parametrize("name", CASES)
def test_each_gives_a_sentence_and_the_right_code(folder, program, name):
    words, code, told = CASES[name]
    before = sorted(folder.rglob("*"))
    result = program(*words, env={"ZOOMPICK_CONFIG": str(folder / "config"), "ZOOMPICK_RETRIES": "0"})
    assert (result.code, told in " ".join(result.err.split())) == (code, True), result.err
    assert result.out == ""
    # A box that lies far from all work is questioned before it is searched.
    told_first = "The box lies at latitude" if name == "swapped place" else "zoompick: "
    assert result.err.startswith(told_first) and "zoompick: " in result.err
    assert len(result.err.strip().splitlines()) <= 7
    assert max(map(len, result.err.splitlines())) <= 100
    assert sorted(folder.rglob("*")) == before


def test_a_file_that_is_not_there_is_not_promised_by_a_run(folder, program):
    result = program("verify", "none.tif")
    assert result.code == 1 and "There is no such file. Check the path." in result.out and "run" not in result.out


@pytest.mark.parametrize(
    ("given", "code", "told"),
    [
        ("", 3, "Nothing came through the pipe"),
        ("lapwing-a", 1, "is not JSON"),
        ("[" * 200_000, 1, "is not JSON"),
        ("[]", 1, "holds no ItemCollection"),
        ('{"features": [7]}', 1, "holds an item that cannot be used"),
    ],
)
@pytest.mark.parametrize("words", [["download", "-", "--to", "here"], ["scene", "-"]])
def test_what_comes_through_a_pipe(program, tmp_path, words, given, code, told):
    result = program(*words, stdin=given)
    assert (result.code, told in result.err, list(tmp_path.iterdir())) == (code, True, []), result.err


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ('"ndwi"]', '"ndwy"]', "Did you mean ndwi"),
        ('"infrared"]', '"infra"]', "Did you mean infrared"),
        ('"nir", "swir16"]', '"swir16"]', "needs the band nir"),
        ('"nir", "swir16"]', '"nir", "swir17"]', "Did you mean swir16"),
        ('["lapwing-l2"]', '["lapwing-l3"]', "Did you mean lapwing-l2"),
        ("cloud = 10  ", "cloud = 150  ", "line 14"),
    ],
)
def test_mistakes_in_the_brief_stop_the_run_before_any_download(study, program, old, new, told):
    brief = study / "study.toml"
    assert old in brief.read_text()
    brief.write_text(brief.read_text().replace(old, new, 1))
    result = program("run", cwd=study)
    assert result.code in (2, 3)
    assert told in " ".join(result.err.split())
    assert not (study / "scenes").exists()


def start(study, *words, **options):
    return subprocess.Popen(
        [*PROGRAM, *words], cwd=study, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, **options
    )


def test_a_second_run_in_the_same_study_is_refused_and_breaks_nothing(study, program):
    first = start(study, "run")
    deadline = time.monotonic() + 60
    while not (study / "shortlist.json").exists() and time.monotonic() < deadline:
        time.sleep(0.02)
    second = program("run", cwd=study)
    _, told = first.communicate(timeout=120)
    assert first.returncode == 0, told
    assert second.code in (0, 2)
    if second.code == 2:
        assert "Another zoompick is working" in second.err
    assert program("run", cwd=study).code == 0


@pytest.mark.parametrize("delay", [0.1, 0.8, 1.6])
def test_ctrl_c_at_any_moment_and_the_same_command_again(study, program, delay):
    process = start(study, "run")
    time.sleep(delay)
    process.send_signal(signal.SIGINT)
    _, told = process.communicate(timeout=60)
    # The first may hit the interpreter before it has begun with our code.
    assert delay == 0.1 or process.returncode in (130, 0), told
    assert delay == 0.1 or "Traceback" not in told
    again = program("run", "--json", cwd=study)
    assert again.code == 0, again.err
    assert all(finding["outcome"] == "pass" for finding in again.json["findings"])
    assert not list(study.rglob("*.part"))


def limited(size):
    return lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (size, size))


def test_a_disk_without_room(tmp_path):
    foreign_tiff(tmp_path / "red.tif", noise((1, 900, 900)), grid(900, 900), nodata="0")
    before = sorted(tmp_path.iterdir())
    process = start(tmp_path, "stack", "red.tif", preexec_fn=limited(300_000))
    _, told = process.communicate(timeout=60)
    assert process.returncode == 1
    assert "There is no room left on the disk" in told
    assert "Traceback" not in told
    assert sorted(tmp_path.iterdir()) == before


@pytest.mark.parametrize("name", ["area.gpkg", "area.zip"])
def test_a_disk_without_room_for_a_file_of_another_program(study, name):
    before = sorted(study.iterdir())
    process = start(study, "area", "write", name, preexec_fn=limited(300))
    _, told = process.communicate(timeout=60)
    assert (process.returncode, "Traceback" in told) == (1, False)
    assert "no room left" in told or "disk" in told
    assert sorted(study.iterdir()) == before


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["area", "write", "a" * 300 + ".geojson"], "File name too long"),
        (["area", "a" * 300 + ".geojson"], "File name too long"),
        (["new", "a" * 300, *BOX], "File name too long"),
        (["area", "write", "folder.gpkg", "--overwrite"], "Is a directory"),
    ],
    ids=["write", "read", "new", "folder"],
)
def test_names_that_the_system_refuses(study, program, words, told):
    (study / "folder.gpkg").mkdir()
    refused = program(*words, cwd=study)
    assert refused.code == 1 and told in " ".join(refused.err.split()), refused.err
    assert "Traceback" not in refused.err and len(refused.err) < 800


def test_a_disk_without_room_while_downloading(study, program):
    assert program("search", cwd=study).code == 0
    assert program("pick", "1", cwd=study).code == 0
    process = start(study, "download", preexec_fn=limited(400_000))
    _, told = process.communicate(timeout=60)
    assert (process.returncode, "no room left" in told, "Traceback" in told) == (1, True, False)
    assert not list(study.rglob("*-red.tif"))
    assert not list(study.rglob("*.part"))
    assert program("download", cwd=study).code == 0


def test_a_reader_that_goes_away_is_no_error(study, program):
    process = start(study, "search", "--json", "--cloud", "100")
    process.stdout.read(10)
    process.stdout.close()
    told = process.stderr.read()
    assert "Traceback" not in told
    assert "Error" not in told
