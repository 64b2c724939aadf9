"""The house itself: import contracts, what a command loads, the public face, exit codes, documents."""

from __future__ import annotations

import ast
import json
import os
import re
import shutil
import subprocess
import sys
import threading
import time
import tomllib
from pathlib import Path

import pytest
import typer

import zoompick
from helpers import foreign_tiff, grid, noise
from zoompick import cache, errors
from zoompick.area.model import Area
from zoompick.cli import exits
from zoompick.cli.app import app
from zoompick.files import tree_bytes
from zoompick.study.new import NewStudy, new_study
from zoompick.tiles.tilestore import TileStore

ROOT = Path(__file__).parents[1]
HEAVY = {"scipy", "pandas", "matplotlib", "cv2", "dask"}
PIXELS = {"numpy", "tifffile", "imagecodecs"}
ROOMS = {
    "zoompick.net.client",
    "zoompick.raster.opening",
    "zoompick.raster.write",
    "zoompick.judge",
    "zoompick.figures.face",
}
"""Rooms where pixels, requests, checks and pictures are."""
RECORDS = {"numpy", "shapely", "pyproj", "urllib3", *PIXELS, *HEAVY, *ROOMS}
"""What commands that only read records do without."""
WATCH = """
import json, sys
from zoompick.__main__ import main
sys.argv = ["zoompick", *json.loads(sys.argv[1])]
try:
    main()
except SystemExit:
    pass
names = set(sys.modules)
loaded = sorted({name.split(".")[0] for name in names} | {name for name in names if name[:9] == "zoompick."})
sys.stderr.write("\\nLOADED " + json.dumps(loaded))
"""


def loaded(cwd: Path, *words: str) -> set[str]:
    done = subprocess.run([sys.executable, "-c", WATCH, json.dumps(words)], cwd=cwd, capture_output=True, text=True)
    return set(json.loads(done.stderr.rpartition("LOADED ")[2]))


@pytest.mark.parametrize(
    ("words", "forbidden"),
    [
        (["--version"], {"typer", "rich", "urllib3", "pyproj", "shapely", *PIXELS, *HEAVY}),
        (["--help"], {"urllib3", "pyproj", "shapely", *PIXELS, *HEAVY}),
        (["search", "--help"], {"urllib3", "pyproj", "shapely", *PIXELS, *HEAVY}),
        (["area", "--box", "-12.1", "-38.7", "-12", "-38.6"], {"urllib3", "tifffile", "imagecodecs", *HEAVY}),
        (["source", "list"], RECORDS),
        (["status"], RECORDS),
        (["history"], RECORDS),
        (["pick", "list"], RECORDS),
        (["order", "status"], RECORDS - ROOMS),
        (["stack", "red.tif", "--pixel", "16"], {"urllib3", "starlette", "uvicorn", *HEAVY - {"cv2"}}),
        (["clip", "red.tif", "--box", "-12.2", "-38.8", "-12", "-38.4"], {"starlette", "uvicorn", *HEAVY - {"cv2"}}),
        (["verify", "red.tif"], {"starlette", "uvicorn", *HEAVY - {"cv2"}}),
    ],
)
def test_a_command_loads_only_what_its_work_needs(tmp_path, words, forbidden):
    foreign_tiff(tmp_path / "red.tif", noise((1, 64, 64)), grid(64, 64), nodata="0")
    if forbidden >= RECORDS - ROOMS:
        new_study(tmp_path / "study", NewStudy("Fen", Area.from_box(-12.1, -38.7, -12, -38.6), window=True))
        scene = {"id": "s", "properties": {"datetime": "2025-01-01T00:00:00Z"}, "bbox": [0, 0, 1, 1],
                 "assets": {"red": {"href": "http://127.0.0.1:1/red.tif", "roles": ["data"]}}}  # fmt: skip
        (tmp_path / "study" / "shortlist.json").write_text(json.dumps({"features": [scene]}))
        tmp_path /= "study"
    assert loaded(tmp_path, *words) & forbidden == set()


def test_a_declaration_of_a_product_loads_nothing_that_makes_it():
    code = "import sys, zoompick.products.kinds.table; print(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    makes = {
        "zoompick.raster.raster",
        "zoompick.products.maker",
        "zoompick.products.mosaic",
        "zoompick.products.stack",
    }
    assert "zoompick.products.kinds.mosaic" in done.stdout.split()
    assert set(done.stdout.split()) & (RECORDS | makes) == set()


def complete(shell: str, line: str, action: str = "get-args", cwd: Path | None = None) -> tuple[int, str]:
    words = line.split(" ")
    typed = {"COMP_WORDS": line, "COMP_CWORD": str(len(words) - 1), "_TYPER_COMPLETE_ARGS": line}
    variables = typed | {"_ZOOMPICK_COMPLETE": f"complete_{shell}", "_TYPER_COMPLETE_FISH_ACTION": action}
    code = "from zoompick.__main__ import main; main()"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, cwd=cwd, env=os.environ | variables
    )
    assert not done.stderr
    return done.returncode, done.stdout


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("zoompick s", ["status", "standin", "settings", "source", "search", "scene", "stack"]),
        ("zoompick standin ", ["serve", "troubles"]),
        ("zoompick search --co", ["--collection", "--cover-min", "--counts"]),
        ("zoompick search --dates 2025 --sou", ["--source"]),
        ("zoompick source add --h", ["--here", "--help"]),
        ("zoompick stack re", []),
        ("zoompick stack 're", []),
    ],
)
def test_the_shell_completes_words(line, words):
    assert complete("bash", line) == (0, "\n".join(words) + "\n")
    assert [entry.split("\t")[0] for entry in complete("fish", line)[1].split("\n") if entry] == words
    assert complete("fish", line, "is-args")[0] == (0 if words else 1)
    zsh = complete("zsh", line)[1]
    assert re.findall(r'"([a-z-]+)":"', zsh) == words if words else zsh == "_files\n"


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("zoompick scene ", ["1", "a-one"]),
        ("zoompick pick drop ", ["1", "b-two"]),
        ("zoompick index --recipe ndv", ["ndvi"]),
        ("zoompick index --recipe wet-", ["wet-own"]),
        ("zoompick download --bands red,n", ["red,nir"]),
        ("zoompick source show ", ["own"]),
        ("zoompick tiles get own --layer ", ["relief"]),
        ("zoompick search --collection ", ["kestrel-l2"]),
        ("zoompick run --until ve", ["verify"]),
        ("zoompick mosaic --hide cloud,s", ["cloud,shadow", "cloud,snow"]),
        ("zoompick verify --checks seams,al", ["seams,alignment"]),
    ],
)
def test_the_shell_completes_what_local_records_know(tmp_path, monkeypatch, line, words):
    def record(name, id_, bands):
        assets = {band: {"href": f"{band}.tif", "roles": ["data"]} for band in bands}
        item = {"id": id_, "collection": "kestrel-l2", "properties": {"datetime": "2025-01-01T00:00:00Z"},
                "assets": assets | {"thumbnail": {"href": "t.png"}}}  # fmt: skip
        (tmp_path / name).write_text(json.dumps({"features": [item, "no item"]}))

    record("found.json", "a-one", ["red", "nir"])
    record("shortlist.json", "b-two", ["red"])
    (tmp_path / "study.toml").write_text("")
    (tmp_path / "sources.json").write_text('{"own": {"url": "http://127.0.0.1:1"}, "odd": 3}')
    TileStore(tmp_path / "tiles" / "own-relief.mbtiles").describe({"name": "relief"})
    (tmp_path / "tiles" / "odd.mbtiles").write_text("no database")
    (tmp_path / "recipes").mkdir()
    (tmp_path / "recipes" / "own.toml").write_text('[index.wet-own]\nformula = "nir"\n')
    (tmp_path / "recipes" / "broken.toml").write_text("[")
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(tmp_path / "config"))
    found = complete("bash", line, cwd=tmp_path)[1].splitlines()
    assert found == [*words, "odd"] if "source" in line else found == words


def test_a_command_is_as_loud_as_asked(study, program):
    words = ("download", "--bands", "blue", "--window")
    assert program("search", cwd=study).code == program("pick", "1", cwd=study).code == 0
    quiet = program("--quiet", "--log", "log.txt", *words, cwd=study)
    assert (quiet.code, quiet.err) == (0, "")
    again = program("--verbose", *words, cwd=study)
    assert again.code == 0 and "here, by size and time stamp" in again.err
    wrong = program("--quiet", "--log", "log.txt", "search", "--dates", "never", cwd=study)
    assert wrong.code == 2 and wrong.err
    lines = (study / "log.txt").read_text().splitlines()
    assert all(re.match(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}\+00:00 ", line) for line in lines)
    assert any("To fetch: 1 file" in line for line in lines) and "error: The date 'never'" in lines[-1]
    assert program("--log", "no/log.txt", "status", cwd=study).code == 2


def test_settings_tell_where_they_were_set(tmp_path, program):
    (tmp_path / "settings.toml").write_text("retries = 7\n")
    own = {"ZOOMPICK_CONFIG": str(tmp_path), "ZOOMPICK_CACHE": str(tmp_path / "cache"), "ZOOMPICK_WORKERS": "3"}
    (tmp_path / "cache" / "footprints").mkdir(parents=True)
    (tmp_path / "cache" / "footprints" / f"{'0b' * 12}.sqlite").write_bytes(bytes(500))
    (tmp_path / "cache" / "mine.txt").write_text("not ours")
    told = program("settings", "--json", env=own).json
    chosen = {key: told["settings"][key]["from"] for key in ("workers", "retries", "tile_px")}
    assert chosen == {"workers": "environment", "retries": "file", "tile_px": "default"}
    assert told["settings"]["retries"]["value"] == 7 and told["cache_bytes"] == 500
    assert program("doctor", "--clear-cache", env=own).code == 0
    assert [path.name for path in (tmp_path / "cache").iterdir()] == ["mine.txt"]


def test_the_cache_keeps_to_its_limit_and_to_what_was_used_last(tmp_path, monkeypatch):
    monkeypatch.setenv("ZOOMPICK_CACHE", str(tmp_path))
    monkeypatch.setenv("ZOOMPICK_CACHE_MAX_MB", "3")
    now = time.time()
    for number in range(4):
        scene = tmp_path / "ostrell-1" / "scenes" / f"scene-{number}"
        scene.mkdir(parents=True)
        (scene / "a.tif").write_bytes(bytes(1_000_000))
        os.utime(scene, (now - 5000 + number, now - 5000 + number))
    index = tmp_path / "footprints" / f"{'0a' * 12}.sqlite"
    index.parent.mkdir()
    own = index.with_name("mine.sqlite")
    own.write_bytes(b"not of this program")
    os.utime(own, (now - 9999, now - 9999))
    index.write_bytes(bytes(1_000_000))
    os.utime(index, (now - 9000, now - 9000))
    cache.use(index)
    cache.use(scene.with_name("scene-0"))
    assert cache.trim() == 2_000_000
    assert sorted(path.name for path in scene.parent.iterdir()) == ["scene-0", "scene-3"] and index.exists()
    assert own.exists()
    monkeypatch.setenv("ZOOMPICK_CACHE_MAX_MB", "0")
    assert cache.trim() == 1_000_000, "what is in use stays"


def test_bytes_of_a_folder_are_told_while_another_run_makes_and_removes_folders_there(tmp_path):
    (tmp_path / "kept").write_bytes(bytes(300))
    done = threading.Event()

    def others() -> None:
        while not done.is_set():
            inner = tmp_path / ".scene-a" / "b"
            inner.mkdir(parents=True)
            (inner / "c").write_bytes(bytes(7))
            shutil.rmtree(tmp_path / ".scene-a")

    run = threading.Thread(target=others)
    run.start()
    try:
        assert {tree_bytes(tmp_path) for _ in range(3000)} <= {300, 307}
    finally:
        done.set()
        run.join()


def test_the_list_of_commands_tells_the_first_sentence_of_each():
    root = typer.main.get_command(app)
    for name, entry in type(root).table.items():
        told = " ".join(str(root.build(name).help).split("\n\n")[0].split())
        assert told.partition(". ")[0].rstrip(".") + "." == entry.words, name


def test_rooms_import_only_the_rooms_below():
    program = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run([program, "--no-cache"], cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


ELSEWHERE = {"Image": "PIL", "ImageDraw": "PIL", "ImageFont": "PIL", "compute": "pyarrow", "parquet": "pyarrow"}
"""Names in ``later.py`` of parts of a library."""


def libraries_of(path: Path) -> set[str]:
    """Libraries that a file imports, at once or later."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found.update(one.name.partition(".")[0] for one in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module == "zoompick.later":
            found.update(ELSEWHERE.get(one.name, one.name) for one in node.names)
        elif isinstance(node, ast.ImportFrom):
            found.add((node.module or "").partition(".")[0])
    return found


def test_each_big_library_enters_by_its_doors_alone():
    package = ROOT / "src" / "zoompick"
    doors = tomllib.loads((ROOT / "tests" / "data" / "doors.toml").read_text())
    found = {library: set() for library in doors}
    for path in package.rglob("*.py"):
        if path.name != "later.py":
            for library in libraries_of(path) & set(doors):
                found[library].add(path.relative_to(package).as_posix())
    assert found == {library: set(files) for library, files in doors.items()}


def test_the_core_never_prints():
    for path in (ROOT / "src" / "zoompick").rglob("*.py"):
        if path.parent.name != "cli" and path.name != "__main__.py":
            text = path.read_text()
            assert not re.search(r"\bprint\(|sys\.std(out|err)", text), path


def all_errors(kind=errors.ZoomPickError):
    yield kind
    for below in kind.__subclasses__():
        yield from all_errors(below)


def test_every_error_has_its_exit_code():
    table = {
        kind.__name__: exits.code_of(kind.__new__(kind))
        for kind in all_errors()
        if kind.__module__.startswith("zoompick")
    }
    assert table["BriefError"] == table["BusyError"] == table["UnknownNameError"] == 2
    assert (table["NothingFoundError"], table["SourceError"], table["IncompleteError"]) == (3, 4, 5)
    assert (table["ChecksumError"], table["GridError"], table["CancelledError"]) == (1, 2, 130)


def test_the_public_face():
    assert set(zoompick.__all__) <= set(dir(zoompick))
    for name in zoompick.__all__:
        assert getattr(zoompick, name).__doc__
    with pytest.raises(AttributeError, match="no attribute 'nonsense'"):
        zoompick.nonsense  # noqa: B018
    assert tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["version"] == zoompick.__version__
    cost = subprocess.run(
        [sys.executable, "-c", "import sys, zoompick; print(sum(m.startswith('zoompick') for m in sys.modules))"],
        capture_output=True, text=True,
    )  # fmt: skip
    assert cost.stdout.strip() == "1"


def test_each_command_has_its_place_in_python():
    """A row for every command of the reference, and every name in it is one of the package's or a parameter."""
    page = (ROOT / "docs" / "python.md").read_text()
    rows = [row.strip("| ").split(" | ") for row in page.splitlines() if row.startswith("| `")]
    told = {word for row in rows for word in re.findall(r"`([a-z ]+)`", row[0])}
    headings = re.findall(
        r"^### `zoompick ([a-z]+(?: [a-z]+)?)", (ROOT / "docs" / "commands.md").read_text(), re.MULTILINE
    )
    assert set(headings) == told
    for row in rows:
        for name in re.findall(r"`(\w+)[`(]", row[1]):
            assert name in zoompick.__all__, name
        for name in re.findall(r"`study\.(\w+)", row[1]):
            assert hasattr(zoompick.Study, name), name


def commands() -> list[str]:
    help_text = subprocess.run([sys.executable, "-m", "zoompick", "--help"], capture_output=True, text=True).stdout
    return re.findall(r"^  ([a-z]+)\s{2,}\S", help_text, re.MULTILINE)


def test_every_command_is_in_the_readme_and_its_help_is_a_sentence(program):
    readme = (ROOT / "README.md").read_text()
    names = commands()
    assert {"new", "area", "source", "search", "pick", "download", "stack", "clip", "composite", "index", "verify",
            "run", "demo", "standin"} <= set(names)  # fmt: skip
    for name in names:
        assert f"`{name}`" in readme or f"`{name} " in readme, name
        assert "Usage:" in program(name, "--help").out


def test_pictures_are_linked_and_few():
    readme = (ROOT / "README.md").read_text()
    pictures = list((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    for picture in pictures:
        assert f"docs/screenshots/{picture.name}" in readme


def test_the_architecture_page_names_every_room():
    page = (ROOT / "docs" / "architecture.md").read_text()
    for room in (ROOT / "src" / "zoompick").iterdir():
        is_file = room.name.endswith(".py") and not room.name.startswith("__")
        if is_file or (room / "__init__.py").exists():
            assert f"`{room.stem}`" in page, room.name
