"""Plain values out of what machines and people wrote, checked: rows of JSON, and files of facts in TOML."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any, TypeVar, get_args, get_type_hints

from zoompick.errors import FactsError
from zoompick.later import msgspec

Record = TypeVar("Record")


def of_row(kind: type[Record], row: object) -> Record:
    """A record, an instance of a dataclass, out of a row of JSON; a list stands for a tuple.

    Raises
    ------
    TypeError
        A field is missing, unknown, or of another type: people edit files, and programs are killed.
    """
    if not isinstance(row, dict):
        raise TypeError("a row is no object")
    for place, name in _unknown(row, kind, ""):
        raise TypeError(f"{name} is not known ({place})")
    try:
        return msgspec.convert(row, kind)
    except (msgspec.ValidationError, UnicodeEncodeError, OverflowError, RecursionError) as error:
        raise TypeError(str(error)) from error


def read_facts(path: Path, kind: type[Record]) -> Record:
    """A file of facts as a value.

    Raises
    ------
    FactsError
        Names the file, the line, and what is expected there.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
        table = tomllib.loads(text)
    except (OSError, ValueError, RecursionError) as error:
        raise FactsError(f"{_shown(path)} cannot be read: {error}.", "Mend that line.") from error
    for place, name in _unknown(table, kind, "$"):
        known = ", ".join(sorted(_names_at(kind, place)))
        raise FactsError(f"{_shown(path)}, line {line_of(text, f'{place}.{name}')}: {name} is not known here.",
                         f"There is {known}.")  # fmt: skip
    try:
        return msgspec.convert(table, kind)
    except msgspec.ValidationError as error:
        what, _, place = str(error).partition(" - at `")
        where = f"{_shown(path)}, line {line_of(text, place.rstrip('`'))}"
        raise FactsError(f"{where}: {what.replace('`', '')}.", "Mend that line.") from error


def refuse(path: Path, place: str, what: str, todo: str) -> FactsError:
    """The error for a value in a file of facts that is of the right type and yet of no use.

    Parameters
    ----------
    place : str
        As ``$.band[2].name``.
    """
    return FactsError(f"{_shown(path)}, line {line_of(path.read_text('utf-8-sig'), place)}: {what}", todo)


def line_of(text: str, place: str) -> int:
    """Line of a place in a TOML text, counted from 1; of the table around it where the key itself is not found."""
    steps = [(name, int(number or 0)) for name, number in re.findall(r"([^.\[\]$]+)(?:\[(\d+)\])?", place)]
    found, table, counts = 1, "", dict[str, int]()
    for row, line in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[\[?\s*([^\]]+?)\s*\]", line)
        if header:
            table = header[1]
            counts[table] = counts.get(table, -1) + 1
        depth = next((n for n in range(len(steps), -1, -1) if ".".join(s for s, _ in steps[:n]) == table), None)
        if depth is None or (depth and counts.get(table, 0) != steps[depth - 1][1]):
            continue
        found = row if header else found
        key = re.match(r"""\s*["']?([^"'=\s]+)["']?\s*=""", line)
        if key and depth < len(steps) and key[1] == steps[depth][0]:
            return row
    return found


def _shown(path: Path) -> str:
    return f"{path.parent.name}/{path.name}"


def _unknown(value: object, kind: Any, place: str) -> Iterator[tuple[str, str]]:
    """Keys that a dataclass has no field for, with the place of the object that holds them."""
    if isinstance(value, list | tuple):
        inner = next((one for one in get_args(kind) if is_dataclass(one)), None)
        for number, entry in enumerate(value if inner else ()):
            yield from _unknown(entry, inner, f"{place}[{number}]")
    if isinstance(value, dict) and is_dataclass(kind):
        known = {entry.name for entry in fields(kind)}
        yield from ((place, name) for name in value if name not in known)
        if any(isinstance(entry, list | dict) for entry in value.values()):
            hints = get_type_hints(kind)
            for name in value.keys() & known:
                yield from _unknown(value[name], hints[name], f"{place}.{name}")


def _names_at(kind: Any, place: str) -> set[str]:
    """Fields of the dataclass at a place."""
    for name in re.findall(r"\.([^.\[\]]+)", place):
        inner = get_type_hints(kind)[name]
        kind = next((one for one in (inner, *get_args(inner)) if is_dataclass(one)), kind)
    return {entry.name for entry in fields(kind)}
