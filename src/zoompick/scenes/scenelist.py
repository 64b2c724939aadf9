"""Lists of scenes on disk: the last search and the shortlist, both STAC ItemCollections."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

from zoompick.errors import DataError, SourceError
from zoompick.files import json_bytes, read_json, writing
from zoompick.jsontypes import JsonObject
from zoompick.net.vault import put_away
from zoompick.scenes.scene import Scene

_NOTE = "zoompick:pick"


@dataclass(frozen=True)
class Entry:
    """A scene as it stands in a list.

    Attributes
    ----------
    cover_percent : float
        Of the study area, by its footprint.
    cloud_area_percent : float or None
        Cloud inside the area, once it was read from the class layer.
    tags : tuple of str
    note : str
        A person's words on it.
    """

    scene: Scene
    cover_percent: float
    cloud_area_percent: float | None = None
    tags: tuple[str, ...] = ()
    note: str = ""

    def with_inside(self, inside: HasCloud | None) -> Entry:
        """The entry with its cloud inside the area."""
        return replace(self, cloud_area_percent=None if inside is None else inside.cloud)

    def to_item(self) -> JsonObject:
        """The STAC Item, with what we know of it in a member of its own."""
        known: JsonObject = {"source": self.scene.source, "cover": round(self.cover_percent, 2)}
        if self.cloud_area_percent is not None:
            known["cloud_inside"] = round(self.cloud_area_percent, 2)
        if self.tags:
            known["tags"] = list(self.tags)
        if self.note:
            known["note"] = self.note
        return dict(put_away(self.scene.item, self.scene.source)) | {_NOTE: known}


class HasCloud(Protocol):
    """Figures of the cloud inside an area."""

    @property
    def cloud(self) -> float:
        """Percent."""


def to_collection(entries: Iterable[Entry]) -> JsonObject:
    """An ItemCollection (STAC API 1.0, item collection fragment)."""
    return {"type": "FeatureCollection", "features": [entry.to_item() for entry in entries]}


def from_collection(value: object, where: str) -> list[Entry]:
    """Entries of an ItemCollection; DataError when it is none."""
    features = value.get("features") if isinstance(value, dict) else None
    if not isinstance(features, list):
        raise DataError(f"{where} holds no ItemCollection.", "Give one as 'zoompick search' with `json` writes it.")
    entries = []
    for item in features:
        note = item.get(_NOTE) if isinstance(item, dict) else None
        note = note if isinstance(note, dict) else {}
        plain = {key: member for key, member in item.items() if key != _NOTE} if isinstance(item, dict) else {}
        try:
            scene = Scene.from_item(plain, str(note.get("source", "")))
        except SourceError as error:
            raise DataError(f"{where} holds an item that cannot be used. {error.what}", "Remove it.") from error
        inside, tags = note.get("cloud_inside"), note.get("tags")
        entries.append(
            Entry(
                scene,
                float(note.get("cover") or 0),
                float(inside) if isinstance(inside, int | float) else None,
                tuple(map(str, tags)) if isinstance(tags, list) else (),
                str(note.get("note") or ""),
            )
        )
    return entries


def read_list(path: Path) -> list[Entry]:
    """Entries of a file; empty when there is no such file."""
    return from_collection(read_json(path), str(path)) if path.exists() else []


def write_list(path: Path, entries: Iterable[Entry]) -> None:
    """Write entries atomically, one after the other: there may be very many."""
    with writing(path) as stream:
        stream.writelines(part.encode() for part in collection_text(entries))


def collection_text(entries: Iterable[Entry]) -> Iterator[str]:
    """An ItemCollection as JSON in pieces, an item a line."""
    yield '{"type": "FeatureCollection", "features": [\n'
    between = ""
    for entry in entries:
        yield between + json_bytes(entry.to_item()).decode()
        between = ",\n"
    yield "\n]}\n"
