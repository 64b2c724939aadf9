"""Sources by name: the user's own, and those of one study, which come first."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path

from zoompick.errors import DataError, UnknownNameError, UsageError
from zoompick.files import read_json, write_json
from zoompick.net.vault import joined, put_away
from zoompick.records import of_row
from zoompick.scenes.source import Source
from zoompick.scenes.sourcekinds import KINDS, kind_of
from zoompick.settings import config_folder

FILE_NAME = "sources.json"


def checked(name: str, url: str, kind: str = "", day: str = "") -> Source:
    """A source as a person gives it; the kind is told by the address where it is not given.

    Raises
    ------
    UsageError
        The name or address cannot be, or there is no such kind.
    """
    if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,39}", name):
        raise UsageError(
            f"'{name}' cannot be the name of a source.",
            "Use small letters, digits and hyphens: my-archive, say.",
        )
    if kind and kind not in KINDS:
        raise UnknownNameError.of("kind of source", kind, KINDS)
    url = joined(url, "")
    is_web = bool(re.match(r"(https?|s3)://[^/\s]+", url))
    if not is_web and not Path(url).is_file():
        raise UsageError(
            f"'{url}' is no web address, and no file.",
            "Give one that begins with http:// or https://, or a file of footprints.",
        )
    if url.startswith("s3://") and (kind or kind_of(url)) == "stac-api":
        raise UsageError(
            f"'{url}' is no source.",
            "Object storage can hold static catalogs (.json), GeoParquet of footprints, tiles by {z}, {x}, {y}.",
        )
    address = url if is_web else str(Path(url).resolve())
    return Source(name, address, kind or kind_of(address), day)


def sources_file(study: Path | None) -> Path:
    """Where sources are kept: in the study's folder, or for all studies in the user's configuration folder."""
    return (study or config_folder()) / FILE_NAME


def load(path: Path) -> dict[str, Source]:
    """Sources of one file; none when it does not exist."""
    if not path.exists():
        return {}
    table = read_json(path)
    try:
        found = {name: of_row(Source, row | {"name": name}) for name, row in table.items()}
        if strange := [source.kind for source in found.values() if source.kind not in KINDS]:
            raise TypeError(f"there is no kind {strange[0]}")
        return found
    except (AttributeError, TypeError) as error:
        raise DataError(f"{path} does not hold sources.", "Remove it and add the sources again.") from error


def known(study: Path | None) -> dict[str, Source]:
    """All sources, the study's above the user's."""
    table = load(sources_file(None))
    return table | load(sources_file(study)) if study else table


def add(source: Source, path: Path) -> bool:
    """Keep a source, in place of one of the same name; returns True when there was one.

    Secrets of its address are kept elsewhere (:mod:`zoompick.net.vault`).
    """
    table = load(path)
    replaced = source.name in table
    table[source.name] = source
    _write(table, path)
    return replaced


def remove(name: str, path: Path) -> bool:
    """Forget a source of a file; True when it was there."""
    table = load(path)
    if name not in table:
        return False
    del table[name]
    _write(table, path)
    return True


def _write(table: Mapping[str, Source], path: Path) -> None:
    rows = {}
    for name in sorted(table):
        row = asdict(table[name])
        rows[name] = {key: value for key, value in row.items() if key != "name"} | {
            "url": put_away(table[name].url, name, lasting=True) if table[name].is_web else table[name].url
        }
    write_json(path, rows)


def named(name: str, table: Mapping[str, Source]) -> Source:
    """The source called ``name``; the only one when the name is empty.

    Raises
    ------
    UnknownNameError, UsageError
    """
    if name:
        if name not in table:
            raise UnknownNameError.of("source", name, table, "'zoompick source add NAME URL' adds one.")
        return table[name]
    if len(table) == 1:
        return next(iter(table.values()))
    if not table:
        raise UsageError("No source is known yet.", "Add one: zoompick source add NAME URL.")
    raise UsageError(f"There are {len(table)} sources: {', '.join(sorted(table))}.", "Say which by its name.")
