"""Names known on this machine, for the shells to complete: from local records only, never from the network."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterator
from contextlib import closing
from importlib import resources
from pathlib import Path
from typing import Any

from zoompick.later import sqlite3
from zoompick.settings import config_folder, own_files, study_folder

_MOST_BYTES = 20_000_000
_NUMBERED = {("scene",), ("look",), ("pick",), ("pick", "add"), ("pick", "drop"), ("pick", "tag"), ("pick", "note")}
_PICKED = {("pick", "drop"), ("pick", "tag"), ("pick", "note")}
_NAMED_SOURCE = {("source", word) for word in ("show", "check", "login", "remove")}


def values(path: tuple[str, ...], option: str) -> dict[str, str]:
    """What may follow: values of an option, or words of a command; each with a line that tells it apart.

    Parameters
    ----------
    path : tuple of str
        The command's words.
    option : str
        The option just typed; empty where a word of the command is wanted.
    """
    match option:
        case "--recipe":
            return dict.fromkeys(_recipes(path[-1] if path else ""), "")
        case "--source":
            return dict(_sources())
        case "--collection":
            return {str(item.get("collection")): "" for item in _items("found.json") if item.get("collection")}
        case "--layer":
            return dict.fromkeys(_layers(), "")
        case "--bands" | "--has":
            items = [*_items("shortlist.json"), *_items("found.json")]
            return {name: "" for item in items for name in _bands(item)}
        case "" if path in _NUMBERED:
            items = _items("shortlist.json" if path in _PICKED else "found.json")
            told = [(str(item.get("id")), _day(item)) for item in items]
            return {str(number): f"{day} {name}" for number, (name, day) in enumerate(told, 1)} | dict(told)
        case "" if path in _NAMED_SOURCE:
            return dict(_sources())
        case _:
            pass
    return {}


def _day(item: dict[str, Any]) -> str:
    told = item.get("properties")
    return str(told.get("datetime") or "")[:10] if isinstance(told, dict) else ""


def _bands(item: dict[str, Any]) -> list[str]:
    """Files of pixels: those that the item gives the role of data."""
    assets = item.get("assets")
    entries = assets.items() if isinstance(assets, dict) else ()
    return [name for name, entry in entries if isinstance(entry, dict) and "data" in (entry.get("roles") or ())]


def _read(path: Path) -> Any:
    """A record; None where there is none that can be read: completing a word never fails."""
    try:
        return json.loads(path.read_bytes()) if path.stat().st_size <= _MOST_BYTES else None
    except (OSError, ValueError, RecursionError):
        return None


def _items(name: str) -> list[dict[str, Any]]:
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
    """Layers of picture tiles that the study keeps."""
    study = study_folder(Path.cwd())
    for path in sorted((study / "tiles").glob("*.mbtiles")) if study else ():
        try:
            with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=0)) as base:
                yield from (str(row[0]) for row in base.execute("SELECT value FROM metadata WHERE name = 'name'"))
        except sqlite3.Error:
            continue


def _recipes(command: str) -> Iterator[str]:
    """Names of the recipes of a command: ``composite`` or ``index``."""
    shipped = resources.files("zoompick.products").joinpath("data/recipes.toml")
    for place in (shipped, *own_files("recipes")):
        try:
            table = tomllib.loads(place.read_text(encoding="utf-8")).get(command)
        except (OSError, ValueError, RecursionError):
            continue
        yield from table if isinstance(table, dict) else ()
