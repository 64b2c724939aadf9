"""The lock of a study: which scenes, files and products, with their digests, a run came to; kept beside the brief."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path

from zoompick.errors import DataError, StudyError
from zoompick.files import read_json, write_json
from zoompick.geo.shapes import geojson_of
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.records import of_row
from zoompick.scenes.scenelist import Entry
from zoompick.settings import BRIEF_NAME
from zoompick.study.folder import Study
from zoompick.study.shortlist import entries_of, listed

NAME = "study.lock.json"
_SHAPE = 1


@dataclass(frozen=True)
class LockedFile:
    """A file as it was.

    Attributes
    ----------
    multihash : str
    url : str
        Where it came from, without its query; empty for a product.
    codec : str
        What a product was pressed with, as :class:`~zoompick.raster.codec.Codec` writes it.
    """

    size: int
    multihash: str
    url: str = ""
    codec: str = ""


@dataclass(frozen=True)
class Lock:
    """What a run came to.

    Attributes
    ----------
    versions : mapping
        Of this program and of what computes for it.
    brief : mapping
        The brief's table, without the study's name.
    area : mapping
        Geometry of the study area (GeoJSON).
    files, products : mapping
        By path in the study folder.
    """

    versions: Mapping[str, str]
    brief: JsonMap
    area: JsonMap
    entries: tuple[Entry, ...]
    files: Mapping[str, LockedFile]
    products: Mapping[str, LockedFile]


def brief_table(study: Study) -> JsonObject:
    """What the brief says, without the study's name."""
    table = tomllib.loads(study.brief_file.read_text(encoding="utf-8-sig"))
    table.get("study", {}).pop("name", None)
    return _plain(table)


def area_geometry(study: Study) -> JsonObject:
    """The study area as it stands in a lock."""
    return _plain(geojson_of(study.area().polygon))


def _plain(value: JsonObject) -> JsonObject:
    """As it comes back out of JSON; a day of TOML is its text."""
    return dict(json.loads(json.dumps(value, default=str)))


def write_lock(study: Study, lock: Lock) -> Path:
    """Write it beside the brief."""
    path = study.root / NAME
    rows = {part: {name: asdict(row) for name, row in getattr(lock, part).items()} for part in ("files", "products")}
    told = {"shape": _SHAPE, "versions": lock.versions, "brief": lock.brief, "area": lock.area}
    write_json(path, told | {"scenes": listed(study, lock.entries)} | rows)
    return path


def read_lock(study: Study) -> Lock:
    """The study's lock.

    Raises
    ------
    StudyError
        There is none.
    DataError
        It is of a later version, or was changed by hand.
    """
    path = study.root / NAME
    if not path.is_file():
        raise StudyError(f"The study has no {NAME}.", "'zoompick lock' writes it after a run.")
    told = read_json(path)
    try:
        if told["shape"] != _SHAPE:
            raise DataError(f"{NAME} has the shape {told['shape']}, known is {_SHAPE}.", "Use a newer version.")
        files, products = ({str(name): of_row(LockedFile, row) for name, row in told[part].items()}
                           for part in ("files", "products"))  # fmt: skip
        entries = tuple(entries_of(study, told["scenes"], NAME))
        return Lock(told["versions"], told["brief"], told["area"], entries, files, products)
    except (KeyError, TypeError, AttributeError) as error:
        raise DataError(f"{NAME} cannot be read: {error}.", "Lock the study again: 'zoompick lock'.") from error


def refuse_changed(study: Study, lock: Lock) -> None:
    """Refuse to repeat a run whose brief or area has changed since it was locked.

    Raises
    ------
    StudyError
        Names the keys.
    """
    todo = "'zoompick lock' after a plain run locks it anew."
    changed = _differing(lock.brief, brief_table(study))
    if changed:
        raise StudyError(f"{BRIEF_NAME} is not the one that was locked: {', '.join(changed[:6])}.", todo)
    if area_geometry(study) != lock.area:
        raise StudyError("The study area is not the one that was locked.", todo)


def _differing(locked: JsonMap, now: JsonMap) -> list[str]:
    """Keys with other values, as ``[section] key``."""
    found = []
    for section in sorted({*locked, *now}):
        one, other = locked.get(section), now.get(section)
        if isinstance(one or other, dict):
            one, other = one or {}, other or {}
            found += [f"[{section}] {key}" for key in sorted({*one, *other}) if one.get(key) != other.get(key)]
        elif one != other:
            found.append(f"[[{section}]]")
    return found
