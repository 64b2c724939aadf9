"""Every example that a command's help shows is run as it stands, in a study that has what they speak of."""

from __future__ import annotations

import json
import re
import shlex
import shutil
import tarfile
import zipfile
from pathlib import Path

import h5py
import pytest

from conftest import copied, knows
from helpers import noise

ROOT = Path(__file__).parents[1]
EXAMPLES = json.loads((ROOT / "src" / "zoompick" / "cli" / "data" / "examples.json").read_text())
ENDLESS = ("standin serve", "run --watch", "demo")
"""They serve or watch until they are stopped; the demo has tests of its own."""
ELSEWHERE = {"run --each": {0, 1, 5}, "order": {0, 2, 3, 5}, "source login": {0, 2, 4}, "search --id": {0, 3},
             "verify": {0, 1, 5}, "mosaic scenes": {0, 2}}  # fmt: skip
"""Exit codes of examples that speak of what is not here: orders, a password, that scene, all bands, texture."""
SLIPS = re.compile(r"There is no (option|command)|is more than the command takes|needs an? \w+ after it|is missing\.")


def square(west: float, south: float, side: float, **told: str) -> dict:
    ring = [[west, south], [west + side, south], [west + side, south + side], [west, south + side], [west, south]]
    return {"type": "Feature", "properties": told, "geometry": {"type": "Polygon", "coordinates": [ring]}}


def furnish(study: Path, archive: str) -> None:
    """Files that the examples name, made of the study's own."""
    scene = next(path for path in study.glob("scenes/*/*/*") if "2025" in path.name)
    bands = {path.stem.rpartition("-")[2]: path for path in scene.glob("*.tif")}
    (study / "fen.geojson").write_bytes((study / "area.geojson").read_bytes())
    (study / "quay.geojson").write_text(json.dumps(square(-12.06, -38.615, 0.002)))
    fields = [square(-12.06, -38.62, 0.01, code="a"), square(-12.05, -38.62, 0.01, code="b")]
    (study / "fields.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": fields}))
    (study / "places.csv").write_text("name,lon,lat\nOld Weir,-12.05,-38.61\n")
    shutil.copytree(scene, study / "scene")
    (study / "delivery").mkdir()
    for name, path in bands.items():
        shutil.copy(path, study / "delivery" / f"heron_{name}.tif")
        shutil.copy(path, study / f"{name}.tif")
    for path in study.glob("mosaic*"):
        path.unlink()
    with zipfile.ZipFile(study / "delivery.zip", "w") as packed:
        packed.write(bands["red"], "heron_red.tif")
    with tarfile.open(study / "whole.tar", "w") as packed:
        packed.add(bands["red"], "heron_red.tif")
    data = (study / "whole.tar").read_bytes()
    for number, half in enumerate((data[: len(data) // 2], data[len(data) // 2 :]), 1):
        (study / f"delivery.tar.{number:03d}").write_bytes(half)
    with h5py.File(study / "scene.h5", "w") as file:
        for name in ("red", "nir"):
            entry = file.create_dataset(name, data=noise((1, 64, 64), "int16", 1, 900)[0])
            entry.attrs.update({"epsg": 32728, "west": 400_000.0, "north": 5_730_000.0, "pixel_m": 8.0})
    days = sorted(path for path in (study / "products").iterdir() if path.is_dir())
    for word, day in (("before", days[0]), ("after", days[-1])):
        shutil.copy(day / "stack.tif", study / f"{word}.tif")
        shutil.copy(day / "natural.tif", study / f"{word}-natural.tif")
    for name in ("stack", "clip"):
        shutil.copy(days[-1] / f"{name}.tif", study / f"{name}.tif")


def spread(study: Path, word: str) -> list[str]:
    """As a shell spreads patterns of paths."""
    return sorted(map(str, study.glob(word))) if "*" in word and "/" in word else [word]


def allowed(words: str) -> set[int]:
    return next((codes for start, codes in ELSEWHERE.items() if words.startswith(start)), {0})


@pytest.mark.slow
def test_every_example_runs(clean_study, archive, tmp_path, program):
    study = knows(copied(clean_study, tmp_path / "s"), archive)
    furnish(study, archive)
    env, bad = {"ZOOMPICK_CONFIG": str(tmp_path / "config"), "ZOOMPICK_RETRIES": "0"}, []
    assert program("lock", cwd=study, env=env).code == 0
    add = ("source", "add", "ostrell", archive)
    assert program("source", "add", "relief", f"{archive}/tiles/wmts", cwd=study, env=env).code == 0
    for line in [line for lines in EXAMPLES.values() for line in lines]:
        words = line.replace("http://127.0.0.1:8638", archive).rpartition("zoompick ")[2]
        if words.startswith(ENDLESS):
            continue
        given = [part for word in shlex.split(words) for part in spread(study, word)]
        done = program(*given, cwd=study, env=env)
        if words == "source remove ostrell":
            program(*add, cwd=study, env=env)
        elif words.startswith("search --id"):
            program("search", "--cloud", "60", cwd=study, env=env)
        if done.code not in allowed(words) or SLIPS.search(done.err):
            bad.append(f"{line}\n  {done.code}: {done.err.strip()[-300:]}")
    assert not bad, "\n".join(bad)
