"""Changes of method: which of them concern a product, so that one made before is out of date, and says why."""

from __future__ import annotations

import hashlib
import re
import tomllib
from collections.abc import Mapping, Sequence
from functools import cache
from importlib import resources
from pathlib import Path

from zoompick.errors import DataError
from zoompick.files import read_json
from zoompick.geo.crs import Crs
from zoompick.jsontypes import JsonMap
from zoompick.raster.grid import Grid
from zoompick.raster.pixelsize import middle_sizes_m
from zoompick.raster.reach import SAME
from zoompick.scenes.items import band_files, scene_of
from zoompick.scenes.sidecar import sidecar_of
from zoompick.sensors.classes import ClassTable
from zoompick.sensors.words import meaning_of

KEY = "methods"
"""In a product's options."""
_NAIVE = re.compile(r"(?i)cloud|shadow|cirrus|snow|ice|fill")
"""What was taken for the meaning wherever it stood in a name."""
_DISTANCES = ("grow_m", "shrink_m", "feather_m")


@cache
def _text() -> str:
    return resources.files("zoompick.products").joinpath("data/methods.toml").read_text(encoding="utf-8")


@cache
def _reasons() -> Mapping[str, str]:
    return {name: str(row["reason"]) for name, row in tomllib.loads(_text()).items()}


def edition() -> str:
    """Changes with the table."""
    return hashlib.sha256(_text().encode()).hexdigest()[:8]


def methods_of(options: JsonMap, inputs: Sequence[Path]) -> list[str]:
    """Names of the changes that concern a product of some options, made of some files."""
    found, grid = [], options.get("grid")
    if any(options.get(key) for key in _DISTANCES) and (
        "outside" in str(options.get("rule", "")) or (isinstance(grid, list) and _is_stretched(grid))
    ):
        found.append("ground")
    if isinstance(grid, list) and grid and any(_is_elsewhere(path, str(grid[0])) for path in inputs):
        found.append("fractions")
    if any(_has_words(path) for path in inputs):
        found.append("words")
    return found


def _is_stretched(facts: Sequence[object]) -> bool:
    """True for a grid whose unit is not as long on the ground as it says, in its middle."""
    code, pixel_x, west, north, width, height = facts
    sides = float(str(pixel_x)), float(str(pixel_x)), float(str(west)), float(str(north))
    grid = Grid(Crs.parse(str(code)), *sides, int(str(width)), int(str(height)))
    if grid.crs.is_geographic:
        return True
    return any(abs(side / grid.pixel_m - 1) > SAME for side in middle_sizes_m(grid, grid.window))


def _is_elsewhere(path: Path, crs: str) -> bool:
    """True for a file of a scene in another system than the grid's, as its item tells."""
    scene = scene_of(path)
    return scene is not None and scene.crs is not None and scene.crs.code != crs


def _has_words(path: Path) -> bool:
    """True for a class layer with words that meant something else before, or nothing."""
    for band in band_files(path):
        table = ClassTable.from_stac(band.classes)
        words = [str(entry.get("name", "")) for entry in band.classes]
        is_denied = any(meaning_of(word) == "clear" and _NAIVE.search(word) for word in words)
        if table.unknown or table.doubtful or table.fields or is_denied:
            return True
    return False


def reason_for(product: Path, wanted: Sequence[str]) -> str:
    """Why a product that was made before is out of date, by its record; empty where no method changed."""
    try:
        told = read_json(sidecar_of(product))["properties"]["zoompick:steps"][-1]["options"].get(KEY, [])
    except (DataError, AttributeError, IndexError, KeyError, TypeError):
        return ""
    return "; ".join(_reasons()[name] for name in wanted if name not in told and name in _reasons())
