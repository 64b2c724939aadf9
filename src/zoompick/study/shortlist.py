"""The shortlist of a study: who chose it, and the way back when a change was a mistake."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from zoompick import files
from zoompick.addresses import public
from zoompick.errors import NothingFoundError
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.scenes import sources
from zoompick.scenes.scenelist import Entry, from_collection, to_collection
from zoompick.study.folder import Study

BY_HAND = "hand"
_CHOSEN_BY, _SOURCES, _ORDER = "zoompick:chosen_by", "zoompick:sources", "zoompick:order"
_MOST_KEPT = 20


def shortlist(study: Study) -> list[Entry]:
    """The picked scenes; those of a source that has moved since have moved with it."""
    path = study.shortlist_file
    return entries_of(study, files.read_json(path), str(path)) if path.exists() else []


def entries_of(study: Study, value: Any, where: str) -> list[Entry]:
    """Scenes of a list as :func:`listed` writes it; those of a source that has moved since have moved with it.

    Raises
    ------
    DataError
        It is no list of scenes.
    """
    told = value.get(_SOURCES) if isinstance(value, dict) else None
    now = sources.known(study.root) if isinstance(told, dict) and told else {}
    for name, url in told.items() if isinstance(told, dict) else ():
        if name in now and isinstance(url, str) and public(now[name].url) != public(url):
            value = _moved(value, _root(public(url)), _root(public(now[name].url)))
    return from_collection(value, where)


def listed(study: Study, entries: Sequence[Entry]) -> JsonObject:
    """Scenes as an ItemCollection that tells where their sources are now."""
    known = sources.known(study.root)
    used = {entry.scene.source for entry in entries}
    places = {name: public(known[name].url) for name in sorted(used & set(known))}
    return to_collection(entries) | {_SOURCES: places}


def _root(url: str) -> str:
    """What the addresses of a source's files begin with."""
    return (url.rpartition("/")[0] if url.endswith(".json") else url).rstrip("/")


def _moved(value: Any, old: str, new: str) -> Any:
    """A JSON value whose addresses begin anew."""
    if isinstance(value, dict):
        return {key: _moved(entry, old, new) for key, entry in value.items()}
    if isinstance(value, list):
        return [_moved(entry, old, new) for entry in value]
    is_there = isinstance(value, str) and (value == old or value.startswith((f"{old}/", f"{old}?")))
    return new + value[len(old) :] if is_there else value


def chosen_by(study: Study) -> str:
    """By whom it was chosen: a person, or the brief with this fingerprint; empty when nothing is picked."""
    if not study.shortlist_file.exists():
        return ""
    value = files.read_json(study.shortlist_file)
    return str(value.get(_CHOSEN_BY, "")) if isinstance(value, dict) and value.get("features") else ""


def keep(study: Study, entries: Sequence[Entry], by: str) -> None:
    """Write the shortlist; what it was before is kept for :func:`undo`."""
    path = study.shortlist_file
    kept = _kept(study)
    number = int(kept[-1].stem.rpartition("-")[2]) + 1 if kept else 1
    before = files.read_json(path) if path.exists() else to_collection([])
    after = listed(study, entries) | {_CHOSEN_BY: by}
    files.write_json(study.undo_folder / f"shortlist-{number:06d}.json", _way_back(before, after))
    for old in kept[: max(0, len(kept) + 1 - _MOST_KEPT)]:
        old.unlink(missing_ok=True)
    files.write_json(path, after)


def rename(study: Study, by: str) -> None:
    """Tell anew by whom the shortlist was chosen; the scenes stay, and no change is to be undone."""
    files.write_json(study.shortlist_file, files.read_json(study.shortlist_file) | {_CHOSEN_BY: by})


def undo(study: Study) -> list[Entry]:
    """Put the shortlist back as it was before the last change; returns it.

    Raises
    ------
    NothingFoundError
        There was no change.
    """
    kept = _kept(study)
    if not kept:
        raise NothingFoundError("There is no earlier shortlist.", "The last 20 changes can be undone.")
    now = files.read_json(study.shortlist_file) if study.shortlist_file.exists() else to_collection([])
    files.write_json(study.shortlist_file, _gone_back(now, files.read_json(kept[-1])))
    kept[-1].unlink()
    return shortlist(study)


def _way_back(before: JsonMap, after: JsonMap) -> JsonObject:
    """What leads from a list back to the one before: its order, and only those scenes that changed or went."""
    now = {_name(one): one for one in after["features"]}
    gone = [one for one in before["features"] if now.get(_name(one)) != one]
    return {**before, "features": gone, _ORDER: [_name(one) for one in before["features"]]}


def _gone_back(now: JsonMap, way: JsonMap) -> JsonObject:
    """The list before; a whole one, as earlier versions kept it, is it."""
    if _ORDER not in way:
        return dict(way)

    known = {_name(one): one for one in (*now["features"], *way["features"])}
    features = [known[name] for name in way[_ORDER] if name in known]
    return {**{key: value for key, value in way.items() if key != _ORDER}, "features": features}


def _name(feature: JsonMap) -> str:
    """What tells a scene of a list from the others."""
    pick = feature.get("zoompick:pick")
    source = pick.get("source") if isinstance(pick, dict) else None
    return json.dumps([source, feature.get("collection"), feature.get("id")])


def _kept(study: Study) -> list[Path]:
    return sorted(study.undo_folder.glob("shortlist-*.json"))
