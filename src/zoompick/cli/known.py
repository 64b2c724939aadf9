"""Names known on this machine, for the shells to complete: from local records only, never from the network."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Callable, Iterable, Iterator
from contextlib import closing
from importlib import resources
from pathlib import Path
from typing import Any

from zoompick.jsontypes import JsonObject
from zoompick.later import sqlite3
from zoompick.settings import config_folder, own_files, study_folder

_MOST_BYTES = 20_000_000

Offer = Callable[[str], list[tuple[str, str]]]
"""Out of the begun word: words that may stand there, each with a line that tells it apart."""


def in_list(offer: Offer) -> Offer:
    """The same for the last of several names between commas."""

    def offered(incomplete: str) -> list[tuple[str, str]]:
        begun, comma, last = incomplete.rpartition(",")
        return [(f"{begun}{comma}{name}", text) for name, text in offer(last)]

    return offered


def one_of(*names: str) -> Offer:
    """Names of a closed list."""
    return lambda incomplete: [(name, "") for name in names]


def bands(incomplete: str) -> list[tuple[str, str]]:
    """Files of pixels of the shortlist and the last search: those that an item gives the role of data."""
    items = [*_items("shortlist.json"), *_items("found.json")]
    return _named(name for item in items for name in _bands(item))


def collections(incomplete: str) -> list[tuple[str, str]]:
    """Collections of the last search."""
    return _named(str(item["collection"]) for item in _items("found.json") if item.get("collection"))


def found_scenes(incomplete: str) -> list[tuple[str, str]]:
    """Numbers and ids of the last search."""
    return _scenes("found.json")


def picked_scenes(incomplete: str) -> list[tuple[str, str]]:
    """Numbers and ids of the shortlist."""
    return _scenes("shortlist.json")


def sources(incomplete: str) -> list[tuple[str, str]]:
    """Sources of this person and of the study, with their addresses."""
    return list(dict(_sources()).items())


def layers(incomplete: str) -> list[tuple[str, str]]:
    """Layers of picture tiles that the study keeps."""
    return _named(_layers())


def recipes(command: str) -> Offer:
    """Recipes of a command: ``composite`` or ``index``."""
    return in_list(lambda incomplete: _named(_recipes(command)))


def _named(names: Iterable[str]) -> list[tuple[str, str]]:
    return [(name, "") for name in dict.fromkeys(names)]


def _scenes(name: str) -> list[tuple[str, str]]:
    told = [(str(item.get("id")), _day(item)) for item in _items(name)]
    return [(str(number), f"{day} {name}") for number, (name, day) in enumerate(told, 1)] + told


def _day(item: JsonObject) -> str:
    told = item.get("properties")
    return str(told.get("datetime") or "")[:10] if isinstance(told, dict) else ""


def _bands(item: JsonObject) -> list[str]:
    assets = item.get("assets")
    entries = assets.items() if isinstance(assets, dict) else ()
    return [name for name, entry in entries if isinstance(entry, dict) and "data" in (entry.get("roles") or ())]


def _read(path: Path) -> Any:
    """A record; None where there is none that can be read: completing a word never fails."""
    try:
        return json.loads(path.read_bytes()) if path.stat().st_size <= _MOST_BYTES else None
    except (OSError, ValueError, RecursionError):
        return None


def _items(name: str) -> list[JsonObject]:
    study = study_folder(Path.cwd())
    table = _read(study / name) if study else None
    found = table.get("features") if isinstance(table, dict) else None
    return [item for item in found if isinstance(item, dict)] if isinstance(found, list) else []


def _sources() -> Iterator[tuple[str, str]]:
    for folder in filter(None, (config_folder(), study_folder(Path.cwd()))):
        table = _read(folder / "sources.json")
        for name, entry in table.items() if isinstance(table, dict) else ():
            yield name, str(entry.get("url", "")) if isinstance(entry, dict) else ""


def _layers() -> Iterator[str]:
    study = study_folder(Path.cwd())
    for path in sorted((study / "tiles").glob("*.mbtiles")) if study else ():
        try:
            with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=0)) as base:
                yield from (str(row[0]) for row in base.execute("SELECT value FROM metadata WHERE name = 'name'"))
        except sqlite3.Error:
            continue


def _recipes(command: str) -> Iterator[str]:
    shipped = resources.files("zoompick.products").joinpath("data/recipes.toml")
    for place in (shipped, *own_files("recipes")):
        try:
            table = tomllib.loads(place.read_text(encoding="utf-8")).get(command)
        except (OSError, ValueError, RecursionError):
            continue
        yield from table if isinstance(table, dict) else ()
