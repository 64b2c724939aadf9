"""Lists of scenes on disk: the last search and the shortlist, both STAC ItemCollections."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zoompick.catalog.scene import Scene
from zoompick.errors import DataError, SourceError, UnknownNameError, UsageError
from zoompick.files import read_json, write_json

_NOTE = "zoompick:pick"


@dataclass(frozen=True)
class Entry:
    """A scene and the percent of the study area that its footprint covers."""

    scene: Scene
    cover_percent: float

    def to_item(self) -> dict[str, Any]:
        """The STAC Item, with what we know of it in a member of its own."""
        return dict(self.scene.item) | {_NOTE: {"source": self.scene.source, "cover": round(self.cover_percent, 2)}}


def to_collection(entries: Iterable[Entry]) -> dict[str, Any]:
    """An ItemCollection (STAC API 1.0, item collection fragment)."""
    return {"type": "FeatureCollection", "features": [entry.to_item() for entry in entries]}


def from_collection(value: Any, where: str) -> list[Entry]:
    """Entries of an ItemCollection; DataError when it is none."""
    features = value.get("features") if isinstance(value, dict) else None
    if not isinstance(features, list):
        raise DataError(f"{where} holds no ItemCollection.", "Give one as 'zoompick search --json' writes it.")
    entries = []
    for item in features:
        note = item.get(_NOTE) if isinstance(item, dict) else None
        note = note if isinstance(note, dict) else {}
        plain = {key: member for key, member in item.items() if key != _NOTE} if isinstance(item, dict) else {}
        try:
            scene = Scene.from_item(plain, str(note.get("source", "")))
        except SourceError as error:
            raise DataError(f"{where} holds an item that cannot be used. {error.what}", "Remove it.") from error
        entries.append(Entry(scene, float(note.get("cover") or 0)))
    return entries


def read_list(path: Path) -> list[Entry]:
    """Entries of a file; empty when there is no such file."""
    return from_collection(read_json(path), str(path)) if path.exists() else []


def write_list(path: Path, entries: Iterable[Entry]) -> None:
    """Write entries atomically."""
    write_json(path, to_collection(entries))


def select(entries: Sequence[Entry], words: Sequence[str], what: str) -> list[Entry]:
    """Entries named by number (from 1) or id.

    Raises
    ------
    UsageError, UnknownNameError
    """
    chosen = []
    for word in words:
        if word.isdigit():
            if not 1 <= int(word) <= len(entries):
                raise UsageError(
                    f"There is no number {word}: {what} has {len(entries)} scenes.", "Look at the list again."
                )
            chosen.append(entries[int(word) - 1])
            continue
        match = [entry for entry in entries if entry.scene.id == word]
        if not match:
            raise UnknownNameError.of("scene", word, [entry.scene.id for entry in entries], f"That is in {what}.")
        chosen.append(match[0])
    return chosen
