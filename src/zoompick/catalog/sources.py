"""Sources by name: the user's own, and those of one study, which come first."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path

from zoompick.errors import DataError, UnknownNameError, UsageError
from zoompick.files import read_json, write_json
from zoompick.settings import config_folder

FILE_NAME = "sources.json"


@dataclass(frozen=True, slots=True)
class Source:
    """A place that offers scenes: a name, the address of its landing page, its kind."""

    name: str
    url: str
    kind: str = "stac-api"

    @classmethod
    def checked(cls, name: str, url: str) -> Source:
        """A source as a person gives it; UsageError when the name or address cannot be."""
        if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,39}", name):
            raise UsageError(
                f"'{name}' cannot be the name of a source.",
                "Use small letters, digits and hyphens: my-archive, say.",
            )
        if not re.match(r"https?://[^/\s]+", url):
            raise UsageError(f"'{url}' is no web address.", "Give one that begins with http:// or https://.")
        return cls(name, url)


def sources_file(study: Path | None) -> Path:
    """Where sources are kept: in the study's folder, or for all studies in the user's configuration folder."""
    return (study or config_folder()) / FILE_NAME


def load(path: Path) -> dict[str, Source]:
    """Sources of one file; none when it does not exist."""
    if not path.exists():
        return {}
    table = read_json(path)
    try:
        return {name: Source(name, entry["url"], entry.get("kind", "stac-api")) for name, entry in table.items()}
    except (AttributeError, KeyError, TypeError) as error:
        raise DataError(f"{path} does not hold sources.", "Remove it and add the sources again.") from error


def known(study: Path | None) -> dict[str, Source]:
    """All sources, the study's above the user's."""
    table = load(sources_file(None))
    return table | load(sources_file(study)) if study else table


def add(source: Source, path: Path) -> bool:
    """Keep a source, in place of one of the same name; returns True when there was one."""
    table = load(path)
    replaced = source.name in table
    table[source.name] = source
    rows = {
        name: {key: value for key, value in asdict(table[name]).items() if key != "name"} for name in sorted(table)
    }
    write_json(path, rows)
    return replaced


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
    raise UsageError(f"There are {len(table)} sources: {', '.join(sorted(table))}.", "Say which with --source NAME.")
