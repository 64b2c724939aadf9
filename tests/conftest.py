"""Fixtures: the archive as a server of its own, the built program, a study with an area."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cache
from importlib import metadata
from pathlib import Path

import pytest
from filelock import FileLock

import within
import zoompick
from forking import Launcher
from helpers import FEN

PROGRAM = [sys.executable, "-m", "zoompick"]
ARCHIVE = "archive.json"


def pytest_xdist_auto_num_workers(config: pytest.Config) -> int:
    """Many tests wait for a server: three at once keep two cores busy."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return cores + cores // 2


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The longest test begins first, so that nobody waits for it alone at the end."""
    items.sort(key=lambda item: "pasted_from_top_to_bottom" not in item.name)


@dataclass(frozen=True)
class Result:
    """What a run of the program gave back."""

    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)


def pytest_sessionfinish(session: pytest.Session) -> None:
    """Whoever began the tests ends the archive that all of them asked."""
    factory = getattr(session.config, "_tmp_path_factory", None)
    if factory is None or "PYTEST_XDIST_WORKER" in os.environ:
        return
    note = _root(factory) / ARCHIVE
    if note.exists():
        with contextlib.suppress(ProcessLookupError):
            os.kill(json.loads(note.read_text())["pid"], signal.SIGTERM)


def _root(factory: pytest.TempPathFactory) -> Path:
    """A folder that all processes of one run of the tests share."""
    base = factory.getbasetemp()
    return base.parent if "PYTEST_XDIST_WORKER" in os.environ else base


@pytest.fixture(scope="session")
def root(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that all processes of one run of the tests share."""
    return _root(tmp_path_factory)


@cache
def _makers() -> str:
    """Changes with anything that decides the bytes of the archive's files."""
    source = Path(zoompick.__file__).parent
    digest = hashlib.sha256()
    for room in ("standin", "raster", "geo"):
        for path in sorted(path for path in (source / room).rglob("*") if path.suffix in (".py", ".toml", ".npz")):
            digest.update(path.name.encode() + path.read_bytes())
    for name in ("numpy", "scipy", "imagecodecs", "tifffile", "h5py", "opencv-python-headless", "pyproj"):
        digest.update(f"{name} {metadata.version(name)}".encode())
    return digest.hexdigest()[:16]


@pytest.fixture(scope="session")
def shared_cache(pytestconfig: pytest.Config, root: Path) -> Path:
    """World and scenes are made once for all tests, and for later runs, as long as what makes them is the same."""
    kept = getattr(pytestconfig, "cache", None)
    if kept is None:
        return root / "cache"
    folder = kept.mkdir("archive")
    with FileLock(folder / ".lock"):
        for other in folder.iterdir():
            if other.is_dir() and other.name != _makers():
                shutil.rmtree(other)
    return folder / _makers()


@pytest.fixture(scope="session")
def _config(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("config")


@pytest.fixture(autouse=True)
def environment(shared_cache: Path, _config: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test touches the user's own folders, and none waits long to try again."""
    monkeypatch.setenv("ZOOMPICK_CACHE", str(shared_cache))
    monkeypatch.setenv("ZOOMPICK_CONFIG", str(_config))
    monkeypatch.setenv("ZOOMPICK_RETRY_WAIT_MAX_S", "2")


def _serve(cache: Path, *faults: str) -> Iterator[str]:
    words = [word for fault in faults for word in ("--fault", fault)]
    process = subprocess.Popen(
        [*PROGRAM, "standin", "serve", "--port", "0", *words],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
        env=os.environ | {"ZOOMPICK_CACHE": str(cache)},
    )
    try:
        yield process.stdout.readline().strip()
    finally:
        process.terminate()
        process.wait(10)


@pytest.fixture(scope="session")
def archive(shared_cache: Path, root: Path) -> str:
    """Address of an archive without troubles, the same for all tests: the first process that asks starts it."""
    note = root / ARCHIVE
    with FileLock(root / ".archive.lock"):
        if not note.exists():
            process = subprocess.Popen(
                [*PROGRAM, "standin", "serve", "--port", "0"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                text=True, env=os.environ | {"ZOOMPICK_CACHE": str(shared_cache)}, start_new_session=True,
            )  # fmt: skip
            note.write_text(json.dumps({"url": process.stdout.readline().strip(), "pid": process.pid}))
    return json.loads(note.read_text())["url"]


MASK = '\n[[mask]]\nname = "ground"\nwhere = "cloud or shadow"\napply = true\n'


@pytest.fixture(scope="session")
def clean_study(root: Path, shared_cache: Path, archive: str) -> Path:
    """A study of two summers, whole: stack, clip, mask, composite, index, and a mosaic; to be copied, not changed.

    The first process that asks makes it, for all.
    """
    made = root / "clean" / "s"
    made.parent.mkdir(exist_ok=True)
    with FileLock(made.parent / ".lock"):
        if not (made / "mosaic.tif").exists():
            _make_study(made, shared_cache, archive)
    return made


@pytest.fixture(scope="session")
def demo(root: Path, shared_cache: Path) -> tuple[Path, Result]:
    """The demo's study, not to be changed, and what the demo said; made once for all."""
    home = root / "demo"
    home.mkdir(exist_ok=True)
    said = home / "said.json"
    with FileLock(home / ".lock"):
        if not said.exists():
            env = os.environ | {"ZOOMPICK_CACHE": str(shared_cache), "ZOOMPICK_CONFIG": str(home / "config")}
            done = subprocess.run([*PROGRAM, "demo", "fen"], cwd=home, env=env, capture_output=True, text=True)
            said.write_text(json.dumps([done.returncode, done.stdout, done.stderr]))
    return home / "fen", Result(*json.loads(said.read_text()))


def copied(study: Path, target: Path) -> Path:
    """A copy of a study; its rasters, which may be replaced and not written into, take no room."""

    def copy(one: str, other: str) -> None:
        (os.link if one.endswith(".tif") else shutil.copy2)(one, other)

    return Path(shutil.copytree(study, target, copy_function=copy, ignore=shutil.ignore_patterns(".lock")))


def knows(root: Path, archive: str) -> Path:
    """A study whose source is the archive of this process: that of the process that made it may be gone."""
    (root / "sources.json").write_text(json.dumps({"o": {"url": archive, "kind": "stac-api", "day": ""}}))
    return root


def _make_study(root: Path, cache: Path, archive: str) -> None:
    env = os.environ | {"ZOOMPICK_CACHE": str(cache), "ZOOMPICK_CONFIG": str(root.parent / "config")}

    def run(*words: str, cwd: Path = root) -> None:
        done = subprocess.run([*PROGRAM, *words], cwd=cwd, env=env, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr + done.stdout

    run("source", "add", "o", archive, cwd=root.parent)
    run("new", "s", "--area", "Harrow Fen", "--around", "3km", "--source", "o", "--collection", "lapwing-l2",
        "--dates", "2024-12", "--dates", "2025-12", "--cloud", "60", cwd=root.parent)  # fmt: skip
    text = (root / "study.toml").read_text()
    text = re.sub(r'(?m)^recipes *= \["natural.*?\]', 'recipes = ["natural"]', text)
    (root / "study.toml").write_text(re.sub(r"(?m)^cloud( *)= 10", "cloud = 60", text) + MASK)
    run("run")
    files = sorted(
        path for path in root.glob("scenes/*/*/*20251215*/*.tif") if re.search("green|red.tif|nir", path.name)
    )
    run("mosaic", *map(str, files), "--like", "products/2025-12-15/stack.tif", "--out", "mosaic.tif")


@pytest.fixture(scope="session")
def troubled(shared_cache: Path, archive: str) -> Iterator[str]:
    """Address of an archive that cuts connections, is busy and fails now and then."""
    yield from _serve(shared_cache, "cut:0.3", "busy:0.05", "error:0.1")


@pytest.fixture(scope="session")
def launcher(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Launcher]:
    """Starts runs of the program, each a process of its own."""
    made = Launcher(tmp_path_factory.mktemp("streams"))
    yield made
    made.end()


@pytest.fixture
def program(tmp_path: Path, launcher: Launcher) -> Callable[..., Result]:
    """Run the program in the test's folder (or ``cwd``) as a user does.

    It runs inside this process; where a test asks from several threads, in a process of its own.
    """

    def run(*words: object, cwd: Path | None = None, stdin: str = "", env: dict[str, str] | None = None) -> Result:
        asked = [*map(str, words)], cwd or tmp_path, stdin, {**os.environ, **(env or {})}
        code, out, err = within.run(*asked) or launcher.run(*asked)
        assert "Traceback" not in err, err
        return Result(code, out, err)

    return run


@pytest.fixture
def fen_file(tmp_path: Path) -> Path:
    """The demo's area as a file."""
    path = tmp_path / "fen.geojson"
    feature = {"type": "Feature", "properties": {"name": "Fen"}, "geometry": FEN}
    path.write_text(json.dumps(feature))
    return path


@pytest.fixture
def study(tmp_path: Path, fen_file: Path, program: Callable[..., Result], archive: str) -> Path:
    """A study of a small area with the archive as its source and nothing searched yet."""
    folder = tmp_path / "study"
    made = program("new", folder, "--area", fen_file, "--source", "ostrell", "--collection", "lapwing-l2",
                   "--dates", "2025-12", "--cloud", "10")  # fmt: skip
    assert made.code == 0, made.err
    assert program("source", "add", "ostrell", archive, "--here", cwd=folder).code == 0
    return folder
