"""A study that repeats itself: made from another, locked, for many areas, and watched."""

from __future__ import annotations

import json
import shutil
import sys
import tomllib
import zipfile
from pathlib import Path

import pytest

from conftest import copied, knows
from test_running import products, rewritten
from zoompick.errors import BriefError, SourceError
from zoompick.net.refusals import AnsweredError
from zoompick.study import since
from zoompick.study.edit import with_values
from zoompick.study.folder import Study
from zoompick.study.shortlist import shortlist

SQUARES = {"N 1": -12.09, "N/2": -12.06, "far": 12.06}


@pytest.fixture
def study(clean_study, archive, tmp_path) -> Path:
    return knows(copied(clean_study, tmp_path / "s"), archive)


@pytest.fixture
def template(study) -> Path:
    """A study with nothing fetched, of windows, for one summer."""
    for path in (study / "scenes", study / "products"):
        shutil.rmtree(path)
    for name in ("shortlist.json", ".local/made.json", "checks.json"):
        (study / name).unlink(missing_ok=True)
    text = (study / "study.toml").read_text().partition("\n[[mask]]")[0] + "\n"
    (study / "study.toml").write_text(
        with_values(text, {("search", "dates"): ["2025-12"], ("download", "window"): True})
    )
    return study


def layer(path: Path) -> Path:
    def square(west: float) -> list:
        corners = ((0, 0), (0.02, 0), (0.02, 0.02), (0, 0.02), (0, 0))
        return [[[west + x, -38.61 + y] for x, y in corners]]

    features = [
        {"type": "Feature", "properties": {"code": name, "owner": "one"},
         "geometry": {"type": "Polygon", "coordinates": square(west)}}
        for name, west in SQUARES.items()
    ]  # fmt: skip
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    return path


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("[a]\nk = 1 # one\n", "[a]\nk = 7 # one\n"),
        ("[a]\nk = [ # begins\n  1,\n  2] # ends\nj = 3\n", "[a]\nk = 7 # ends\nj = 3\n"),
        ('[a]\nk = "#1" # a mark\n', "[a]\nk = 7 # a mark\n"),
        ("[a]\nj = 1\n[b]\nk = 2\n", "[a]\nk = 7\nj = 1\n[b]\nk = 2\n"),
        ("[b]\nk = 2", "[b]\nk = 2\n\n[a]\nk = 7\n"),
        ('[a]\n"k" = 1\n[[b]]\nk = 3\n', "[a]\nk = 7\n[[b]]\nk = 3\n"),
        ('[a]\nk = """\n[b]\nk = 3\n"""\n', "[a]\nk = 7\n"),
        ("a.k = 1\n", None),
    ],
)
def test_a_value_of_a_brief_is_changed_and_nothing_else(before, after):
    if after is None:
        with pytest.raises(BriefError):
            with_values(before, {("a", "k"): 7})
        return
    assert with_values(before, {("a", "k"): 7}) == after
    assert tomllib.loads(after)["a"]["k"] == 7


def test_a_study_like_another(study, tmp_path, program):
    (study / "recipes").mkdir()
    (study / "recipes" / "own.toml").write_text("")
    text = "# my words\n" + (study / "study.toml").read_text()
    (study / "study.toml").write_text(text)
    made = program(
        "new", "t", "--like", study, "--name", "Later", "--dates", "2026-01", "--cloud", "25", cwd=tmp_path
    )
    assert made.code == 0, made.err
    new = tmp_path / "t"
    told, before = tomllib.loads((new / "study.toml").read_text()), tomllib.loads(text)
    assert (new / "study.toml").read_text().startswith("# my words\n#:schema")
    assert told["study"]["name"] == "Later" and told["search"].pop("dates") == ["2026-01"]
    assert told["search"].pop("cloud") == 25
    for key in ("dates", "cloud"):
        before["search"].pop(key)
    assert {**told, "study": 0} == {**before, "study": 0}
    assert sorted(path.relative_to(new).as_posix() for path in new.rglob("*") if path.is_file()) == [
        ".gitignore", "area.geojson", "journal.jsonl", "recipes/own.toml", "sources.json", "study.schema.json",
        "study.toml",
    ]  # fmt: skip
    assert program("new", "t", "--like", study, cwd=tmp_path).code == 2
    assert "no study" in program("new", "u", "--like", tmp_path / "nowhere", cwd=tmp_path).err
    assert "cloud" in program("new", "u", "--like", study, "--cloud", "300", cwd=tmp_path).err
    assert not (tmp_path / "u").exists()
    (tmp_path / "v").mkdir()
    for words in (("--like", study), ("--area", "Harrow Fen", "--around", "2km")):
        (tmp_path / "v" / "area.geojson").write_text("mine")
        refused = program("new", "v", *words, cwd=tmp_path)
        assert refused.code == 2 and "is there already, and is another" in refused.err
        assert (tmp_path / "v" / "area.geojson").read_text() == "mine" and not (
            tmp_path / "v" / "study.toml"
        ).exists()


def test_a_locked_study_is_made_again_byte_for_byte(study, program):
    at = {"cwd": study}
    assert program("run", **at).code == 0
    before = products(study)
    assert program("lock", **at).code == 0
    told = json.loads((study / "study.lock.json").read_text())
    assert set(told["products"]) == {name for name in before if name.endswith(".tif")}
    assert len(told["files"]) == 56 and told["scenes"]["features"]
    shutil.rmtree(study / "products")
    (study / "shortlist.json").unlink()
    codecs = {row["codec"] for name, row in told["products"].items() if name.endswith(".tif")}
    assert codecs == {"deflate by tile"}
    again = program("run", "--locked", "--json", **at, env={"ZOOMPICK_DEFLATE_LEVEL": "9"})
    assert again.code == 0 and not again.json["searched"] and again.json["differing"] == [], again.err
    assert products(study) == before

    index, band = "products/2025-12-15/ndvi.tif", next(name for name in told["files"] if "red.tif" in name)
    wrong = told["products"][index]["multihash"][:4] + "00" * 32
    rewritten(study / "study.lock.json", lambda lock: lock["products"][index].update(multihash=wrong))
    rewritten(study / "study.lock.json", lambda lock: lock["versions"].update(numpy="1.0"))
    other = program("run", "--locked", **at)
    assert other.code == 1 and f"not as locked: {index}" in other.err
    assert "Locked with other versions" in other.err and "numpy 1.0 (here" in other.err
    rewritten(study / "study.lock.json", lambda lock: lock["files"][band].update(multihash=wrong))
    other = program("run", "--locked", **at)
    assert other.code == 1 and "1 of 56 files are not as they were locked" in other.err and "red.tif" in other.err

    text = (study / "study.toml").read_text()
    (study / "study.toml").write_text(with_values(text, {("study", "name"): "no matter", ("clip", "touch"): True}))
    changed = program("run", "--locked", **at)
    assert changed.code == 2 and "locked: [clip] touch." in changed.err
    assert program("lock", **at).code == 2
    (study / "study.toml").write_text(text)
    (study / "study.lock.json").unlink()
    assert "no study.lock.json" in program("run", "--locked", **at).err


def test_a_locked_run_tells_what_the_source_has_changed(study, program, tmp_path):
    """What was locked is told otherwise than the source has it now: as if the source had changed since."""
    at = {"cwd": study}
    made = program("lock", "--json", **at)
    assert made.code == 0 and made.json["beside"] == ["study.toml", "area.geojson", "sources.json"]
    assert made.json["elsewhere"] == []
    lock = json.loads((study / "study.lock.json").read_text())

    def repeated(change) -> str:
        told = json.loads(json.dumps(lock))
        scene = told["scenes"]["features"][0]
        change(scene)
        (study / "study.lock.json").write_text(json.dumps(told))
        shutil.rmtree(study / "scenes", ignore_errors=True)
        done = program("run", "--locked", "--until", "download", **at)
        assert done.code == 1 and "damaged" not in done.err and "download again" not in done.err, done.err
        assert "1 of 8 scenes cannot be had as they were locked" in done.err and "Traceback" not in done.err
        return done.err

    def asset(scene) -> dict:
        return next(one for one in scene["assets"].values() if one["href"].endswith("-red.tif"))

    name = lock["scenes"]["features"][0]["id"]

    def withdrawn(scene):
        scene["id"] = f"{name}-x"
        for one in scene["assets"].values():
            one["href"] = one["href"].replace(name, f"{name}-x")

    def digest(scene):
        asset(scene)["file:checksum"] = "1220" + "ab" * 32

    def size(scene):
        asset(scene).pop("file:checksum")
        asset(scene)["file:size"] += 7

    def moved(scene):
        asset(scene)["href"] = asset(scene)["href"].replace("-red.tif", "-rot.tif")

    assert "the source lists it no longer" in repeated(withdrawn)
    assert "its item tells another digest for red" in repeated(digest)
    assert "its item tells another size for red" in repeated(size)
    assert "its item names another file for red" in repeated(moved)


def test_a_locked_run_tells_of_newer_versions_of_what_it_fetches(study, program):
    assert program("lock", cwd=study).code == 0
    lock = json.loads((study / "study.lock.json").read_text())
    scene = lock["scenes"]["features"][0]
    now = scene["id"]
    scene["id"] = f"{now}-old"
    scene["properties"]["processing:version"] = "00"
    (study / "study.lock.json").write_text(json.dumps(lock))
    shutil.rmtree(study / "scenes")
    done = program("run", "--locked", "--until", "download", cwd=study)
    assert f"{now} is a newer version of {now}-old, which was locked and is taken." in " ".join(done.err.split())
    assert done.err.count("newer version") == 1
    again = program("run", "--locked", "--until", "download", cwd=study)
    assert "newer version" not in again.err


@pytest.mark.parametrize(
    ("error", "told"),
    [
        (AnsweredError("gone", "", 404), "red is there no longer: gone"),
        (AnsweredError("broken", "", 500), ""),
        (SourceError("o does not answer."), ""),
    ],
)
def test_only_what_is_gone_counts_as_changed_and_not_a_server_that_does_not_answer(study, monkeypatch, error, told):
    """The catalogue answers as it did; the server of the files refuses."""
    scenes = [entry.scene for entry in shortlist(Study(study))]

    class Refusing:
        def on_behalf(self, source):
            return self

        def state(self, url):
            raise error

    monkeypatch.setattr(since, "session_of", lambda *asked: Refusing())
    assert since._compared(Study(study), scenes[0], scenes[:1], ("red",), lambda event: None) == told


def test_a_lock_lists_what_has_to_lie_beside_it(study, program, tmp_path):
    own = study / "recipes" / "own.toml"
    own.parent.mkdir()
    own.write_text("")
    shared = tmp_path / "config"
    (shared / "guides").mkdir(parents=True)
    (shared / "guides" / "all.toml").write_text("")
    (study / "sources.json").rename(shared / "sources.json")
    told = program("run", cwd=study, env={"ZOOMPICK_CONFIG": str(shared)})
    made = program("lock", cwd=study, env={"ZOOMPICK_CONFIG": str(shared)})
    assert made.code == 0, told.err + made.err
    assert "Keep it with study.toml, area.geojson and recipes/own.toml:" in made.err
    assert "Only your own settings know o:" in made.err and "Your own settings hold guides/all.toml:" in made.err


@pytest.mark.slow
def test_a_bundle_is_repeated_in_a_fresh_place(study, program, archive, tmp_path):
    (study / "sources.json").write_text(
        json.dumps({"o": {"url": archive.replace("://", "://me:hush@"), "kind": "stac-api", "day": ""}})
    )
    bare = program("report", "--bundle", tmp_path / "bare.zip", cwd=study)
    assert bare.code == 0 and "not locked" in bare.err and not (study / "report.html").exists(), bare.err
    assert program("report", "--bundle", tmp_path / "b.rar", cwd=study).code == 2
    assert program("lock", cwd=study).code == 0
    before = products(study)
    made = program("report", "--bundle", tmp_path / "b.zip", cwd=study)
    assert (
        made.code == 0 and "page, brief, area, lock" in " ".join(made.err.split()) and "run --locked" in made.err
    ), made.err
    assert program("report", "--bundle", tmp_path / "b.zip", cwd=study).code == 2
    fresh = tmp_path / "elsewhere"
    with zipfile.ZipFile(tmp_path / "b.zip") as packed:
        texts = [packed.read(name).decode(errors="replace") for name in packed.namelist()]
        assert not any("hush" in text or str(tmp_path) in text or str(study) in text for text in texts)
        assert not any(name.startswith("/") or ".." in name for name in packed.namelist())
        packed.extractall(fresh)
    [root] = fresh.iterdir()
    assert "CC0-1.0" in (root / "README.md").read_text() and "What is here is what was locked" in (
        root / "report.html"
    ).read_text().replace("&#39;", "'")
    knows(root, archive)
    again = program("run", "--locked", "--json", cwd=root, env={
        "ZOOMPICK_CACHE": str(tmp_path / "c2"), "ZOOMPICK_CONFIG": str(tmp_path / "f2")})  # fmt: skip
    assert again.code == 0 and again.json["differing"] == [], again.err
    found = products(root)
    assert {name for name in found if name.endswith(".tif")} and all(
        before[name] == found[name] for name in found if name.endswith(".tif")
    )


def test_licences_are_kept_whatever_way_scenes_are_picked(archive, tmp_path, program):
    assert program("source", "add", "o", archive, cwd=tmp_path).code == 0
    words = ("--area", "Harrow Fen", "--around", "1km", "--source", "o", "--collection", "lapwing-l2")
    assert program("new", "s", *words, "--dates", "2025-12", "--cloud", "60", cwd=tmp_path).code == 0
    at = {"cwd": tmp_path / "s"}
    assert program("search", **at).code == 0 and program("pick", "1", **at).code == 0
    assert program("download", "--bands", "red", "--window", **at).code == 0
    told = json.loads((tmp_path / "s" / "collections.json").read_text())
    assert told["o/lapwing-l2"]["licence"] == "CC0-1.0"
    found = program("verify", "--checks", "licence", "--json", **at).json["findings"]
    [row] = [row for row in found if row["key"] == "licence"]
    assert row["outcome"] == "pass", row


def shared_files(root: Path) -> dict[str, bytes]:
    """What a study shows to others: all but what its .gitignore names."""
    ignored = (root / ".gitignore").read_text().split()
    assert ignored == [".local/", ".lock"]
    names = [path.relative_to(root) for path in root.rglob("*") if path.is_file()]
    return {one.as_posix(): (root / one).read_bytes() for one in names if one.parts[0] not in (".local", ".lock")}


def test_a_study_is_shared_by_its_folder(study, program, tmp_path):
    """A run in a copy, elsewhere and with other time stamps, changes nothing that is shared and tells no place."""
    assert program("run", cwd=study).code == 0
    here = shared_files(study)
    assert not [name for name, content in here.items() if str(tmp_path).encode() in content]
    other = tmp_path / "clone" / "of it"
    for name, content in here.items():
        (other / name).parent.mkdir(parents=True, exist_ok=True)
        (other / name).write_bytes(content)
    done = program("run", "--json", cwd=other)
    assert done.code == 0 and all(row["was_current"] for row in done.json["products"]), done.err
    assert shared_files(other) == here
    assert program("pick", "note", "haze in the west", "1", cwd=other).code == 0
    assert program("pick", "undo", cwd=other).code == 0
    assert {name for name, content in shared_files(other).items() if here.get(name) != content} == {"journal.jsonl"}


def test_a_polygon_that_cannot_be_told_from_others_is_one_failed_row(template, program, tmp_path):
    path = layer(tmp_path / "areas.geojson")
    told = json.loads(path.read_text())
    told["features"] += [json.loads(json.dumps(told["features"][0])) for _ in range(2)]
    told["features"][-1]["properties"]["code"] = ""
    bad = {"type": "Polygon", "coordinates": [[[-12.1, -38.6], [-12.0, -38.6], [-12.1, -38.6]]]}
    told["features"].insert(3, {"type": "Feature", "properties": {"code": "bent"}, "geometry": bad})
    path.write_text(json.dumps(told))
    words = ("run", "--each", path, "--column", "code")
    planned = program(*words, "--dry-run", cwd=template)
    assert planned.code == 0 and "polygon 5 would fail: Polygons 1 and 5 of areas.geojson are both" in planned.err
    assert "3 studies would be run." in planned.err
    done = program(*words, "--json", cwd=template)
    states = [(row["name"], row["state"]) for row in done.json]
    assert done.code == 5 and states[-3:] == [(name, "failed") for name in ("bent", "polygon 5", "polygon 6")], (
        done.err
    )
    assert "Too few points" in done.json[-3]["reason"] and done.json[-3]["area_km2"] == 0, done.json[-3]
    refused = program("area", path, cwd=template)
    assert refused.code == 2 and "Traceback" not in refused.err
    assert program("area", path, "--named", "code=N/2", cwd=template).code == 0
    assert [state for _, state in states[:2]] == ["done", "done"]
    assert "has no name" in done.json[-1]["reason"] and "--column" not in done.json[-1]["reason"]
    assert not (template / "each" / "polygon-5").exists()


def test_one_brief_for_many_areas(template, program, tmp_path):
    areas, at = layer(tmp_path / "areas.geojson"), {"cwd": template}
    for words, said in (
        ((), "has no name"), (("--column", "owner"), "are both one"), (("--column", "cod"), "Did you mean code?"),
        (("--column", "code", "--watch", "1d"), "do not go together"),
    ):  # fmt: skip
        wrong = program("run", "--each", areas, *words, **at)
        assert wrong.code == 2 and said in wrong.err, wrong.err
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "summary.csv").write_text("my,table")
    taken = program("run", "--each", areas, "--column", "code", "--to", tmp_path / "mine", **at)
    assert taken.code == 2 and (tmp_path / "mine" / "summary.csv").read_text() == "my,table"
    planned = program("run", "--each", areas, "--column", "code", "--dry-run", "--json", **at).json
    assert [row["name"] for row in planned] == list(SQUARES) and not (template / "each").exists()
    done = program("run", "--each", areas, "--column", "code", "--json", **at)
    rows = {row["name"]: row for row in done.json}
    assert done.code == 5 and [row["state"] for row in rows.values()] == ["done", "done", "failed"], done.err
    assert "No scene touches the area" in rows["far"]["reason"] and rows["N/2"]["folder"].endswith("/each/N-2")
    table = (template / "each" / "summary.csv").read_text().splitlines()
    assert len(table) == 4 and table[1].startswith("N 1,done,1,")
    again = program("run", "--each", areas, "--column", "code", "--json", **at).json
    assert {row["made_new"] for row in again} == {0}

    own = template / "each" / "N-2" / "study.toml"
    own.write_text(own.read_text() + "# by hand\n")
    text = (template / "study.toml").read_text()
    (template / "study.toml").write_text(with_values(text, {("index", "recipes"): ["ndvi"]}))
    rows = {row["name"]: row for row in program("run", "--each", areas, "--column", "code", "--json", **at).json}
    assert rows["N/2"]["state"] == "failed" and "changed by hand" in rows["N/2"]["reason"]
    assert rows["N 1"]["state"] == "done" and rows["N 1"]["products"] == 4
    assert own.read_text().endswith("# by hand\n") and '"ndwi"' in own.read_text()


def test_a_watched_study_takes_what_is_published(template, program):
    at = {"cwd": template}
    text = (template / "study.toml").read_text()
    given = {("search", "dates"): ["2025-12/2026-02"], ("composite", "recipes"): [], ("index", "recipes"): ["ndvi"]}
    (template / "study.toml").write_text(with_values(text, given))
    first = program("run", "--watch", "1h", "--rounds", "1", "--json", **at).json
    assert first["added"] == [] and len(first["new_products"]) == 3
    known = json.loads((template / ".local" / "watch.json").read_text())["known"]
    # As if nothing of 2026 had been published then.
    rewritten(
        template / ".local" / "watch.json", lambda told: told.update(known=[one for one in known if "-2025" in one])
    )
    told = template / "told.json"
    call = f"{sys.executable} -c \"import sys; open('told.json', 'w').write(sys.stdin.read())\""
    done = program("run", "--watch", "1s", "--rounds", "2", "--when-new", call, **at)
    assert "round 1: added" in done.err and "round 2: no new scene fits; 0 products made" in done.err
    added = json.loads(told.read_text())
    assert added["round"] == 1 and added["added"] and all("-2026" in scene for scene in added["added"])
    days = {Path(path).parent.name for path in added["new_products"]}
    assert days and all(day.startswith("2026") for day in days)
    assert program("run", "--json", **at).json["searched"] is False
    for words in (("--watch", "1x"), ("--rounds", "2"), ("--watch", "1d", "--locked"), ("--watch", "0s")):
        assert program("run", *words, **at).code == 2
    knows(template, "http://127.0.0.1:9")
    gone = program("run", "--watch", "1s", "--rounds", "1", env={"ZOOMPICK_RETRIES": "0"}, **at)
    assert gone.code == 5 and "The next round tries again" in gone.err
