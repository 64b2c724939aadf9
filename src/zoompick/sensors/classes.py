"""Class tables: which codes of a class layer mean what."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from zoompick.errors import UnknownNameError
from zoompick.records import read_facts, refuse
from zoompick.settings import own_files

MEANINGS = ("fill", "clear", "shadow", "cloud", "snow", "water")


@dataclass(frozen=True, slots=True)
class ClassTable:
    """Codes by meaning. ``cloud`` holds thin and thick cloud; what is ``water`` is ``clear`` too."""

    fill: frozenset[int] = frozenset()
    clear: frozenset[int] = frozenset()
    shadow: frozenset[int] = frozenset()
    cloud: frozenset[int] = frozenset()
    snow: frozenset[int] = frozenset()
    water: frozenset[int] = frozenset()

    @classmethod
    def of_codes(cls, codes: Mapping[str, Iterable[int]]) -> ClassTable:
        """Codes by meaning; UsageError for a meaning that there is not."""
        for meaning in codes:
            if meaning not in MEANINGS:
                raise UnknownNameError.of("meaning of a class", meaning, MEANINGS)
        found = {meaning: frozenset(given) for meaning, given in codes.items()}
        return cls(**found | {"clear": found.get("clear", frozenset()) | found.get("water", frozenset())})

    @classmethod
    def from_stac(cls, classes: Iterable[Mapping[str, Any]]) -> ClassTable:
        """Read ``classification:classes`` (STAC classification extension 2.0), by the words in the names."""
        found: dict[str, set[int]] = {role: set() for role in MEANINGS}
        for entry in classes:
            name, value = str(entry.get("name", "")).lower(), entry.get("value")
            if isinstance(value, int):
                found[_role(name)].add(value)
                if "water" in name and _role(name) == "clear":
                    found["water"].add(value)
        return cls(**{role: frozenset(codes) for role, codes in found.items()})


def _role(name: str) -> str:
    words = (("shadow", "shadow"), ("cloud", "cloud"), ("cirrus", "cloud"), ("snow", "snow"), ("ice", "snow"),
             ("fill", "fill"), ("no_data", "fill"), ("nodata", "fill"))  # fmt: skip
    return next((role for word, role in words if word in name), "clear")


@dataclass(frozen=True)
class _File:
    """A class table as a file tells it."""

    codes: dict[str, tuple[int, ...]]
    title: str = ""


def class_table(name: str) -> ClassTable:
    """A class table of the user's own, by the name of its file in the folder ``classes``.

    Raises
    ------
    UnknownNameError, FactsError
    """
    own = {path.stem: path for path in reversed(own_files("classes"))}
    if name not in own:
        raise UnknownNameError.of("class table", name, own)
    try:
        return ClassTable.of_codes(read_facts(own[name], _File).codes)
    except UnknownNameError as error:
        raise refuse(own[name], "$.codes", error.what, error.todo) from error
