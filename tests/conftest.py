"""Fixtures: the archive as a server of its own, the built program, a study with an area."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from helpers import FEN

PROGRAM = [sys.executable, "-m", "zoompick"]


@dataclass(frozen=True)
class Result:
    """What a run of the program gave back."""

    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)


@pytest.fixture(scope="session")
def shared_cache(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """World and scenes are made once for all tests, also when several processes share them."""
    if "PYTEST_XDIST_WORKER" in os.environ:
        return tmp_path_factory.getbasetemp().parent / "cache"
    return tmp_path_factory.mktemp("cache")


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
def archive(shared_cache: Path) -> Iterator[str]:
    """Address of a running archive without troubles."""
    yield from _serve(shared_cache)


@pytest.fixture(scope="session")
def troubled(shared_cache: Path, archive: str) -> Iterator[str]:
    """Address of an archive that cuts connections, is busy and fails now and then."""
    yield from _serve(shared_cache, "cut:0.3", "busy:0.05", "error:0.1")


@pytest.fixture
def program(tmp_path: Path) -> Callable[..., Result]:
    """Run the program in the test's folder (or ``cwd``) as a user does."""

    def run(*words: object, cwd: Path | None = None, stdin: str = "", env: dict[str, str] | None = None) -> Result:
        done = subprocess.run(
            [*PROGRAM, *map(str, words)],
            cwd=cwd or tmp_path,
            input=stdin,
            capture_output=True,
            text=True,
            timeout=180,
            env=os.environ | (env or {}),
        )
        assert "Traceback" not in done.stderr, done.stderr
        return Result(done.returncode, done.stdout, done.stderr)

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
