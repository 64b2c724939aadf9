"""Sections of the brief that may stand there several times: ``[[mosaic]]``, ``[[blend]]``, ``[[compare]]``.

Each makes products of all the study's days together. What the words of a value may be is told here, so that a
complaint has its line before anything is computed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from zoompick.catalog.filters import number, text
from zoompick.errors import BriefError, UsageError

_ORDERS = r"given|newest|oldest|clearest|nadir|nearest=\d{4}-\d{2}-\d{2}"
_WAYS = r"median|mean|clearest|newest|percentile=\d+(\.\d+)?|highest=[a-z][a-z0-9-]*"
_HIDDEN = ("fill", "clear", "shadow", "cloud", "snow", "water")


@dataclass(frozen=True)
class Extra:
    """One such section, its values checked and complete.

    Attributes
    ----------
    kind : str
        ``mosaic``, ``blend`` or ``compare``.
    values : tuple of (str, object)
    """

    kind: str
    values: tuple[tuple[str, Any], ...]

    def __getitem__(self, key: str) -> Any:
        """The value of a key."""
        return dict(self.values)[key]

    @property
    def name(self) -> str:
        """Of its products."""
        return str(self["name"])


def _words(pattern: str, example: str) -> Callable[[Any], str]:
    def read(value: Any) -> str:
        if not re.fullmatch(pattern, text(value)):
            raise UsageError(f"It must be {example}.")
        return str(value)

    return read


def _metres(value: Any) -> float:
    found = number(value)
    if found < 0:
        raise UsageError("It must be 0 or more metres.")
    return found


def _count(value: Any) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or value < 1:
        raise UsageError("It must be a whole number from 1.")
    return value


def _flag(value: Any) -> bool:
    if not isinstance(value, bool):
        raise UsageError("It must be true or false.")
    return value


def _meanings(value: Any) -> tuple[str, ...]:
    if not isinstance(value, list) or any(word not in _HIDDEN for word in value):
        raise UsageError(f"It must be a list of {', '.join(_HIDDEN)}.")
    return tuple(value)


def _limit(value: Any) -> float | None:
    return None if value is None else number(value)


_NAME = _words(r"[A-Za-z0-9][A-Za-z0-9_-]{0,60}", "a name of letters, digits, - and _")
_INDEX = _words(r"[a-z][a-z0-9-]*", "an index recipe, as ndwi")
KEYS: dict[str, dict[str, tuple[Callable[[Any], Any], object]]] = {
    "mosaic": {
        "name": (_NAME, "mosaic"),
        "order": (_words(_ORDERS, "newest, oldest, clearest, nadir or nearest=2025-12-15"), "newest"),
        "hide": (_meanings, ["cloud", "shadow"]), "grow_m": (_metres, 0), "clear_only": (_flag, False),
        "feather_m": (_metres, 0), "match": (_flag, False),
    },
    "blend": {
        "name": (_NAME, "blend"),
        "by": (_words(_WAYS, "median, mean, percentile=90, clearest, newest or highest=ndvi"), "median"),
        "every": (_words(r"|8d|month|season|year", "8d, month, season or year"), ""),
        "hide": (_meanings, ["cloud", "shadow"]), "grow_m": (_metres, 0), "least": (_count, 1),
    },
    "compare": {
        "name": (_NAME, "change"), "index": (_INDEX, "ndwi"), "above": (_limit, None), "by": (_limit, None),
    },
}  # fmt: skip
"""Section to key to how it is read and its default."""


def extras_of(table: Mapping[str, Any], line: Callable[[str, int, str], int], where: str) -> tuple[Extra, ...]:
    """All such sections of a brief, in the order of KEYS.

    Parameters
    ----------
    line : callable
        Line of a key in the n-th section of a kind.

    Raises
    ------
    BriefError
        Names the line, the key, the value and what is expected.
    """
    found = []
    for kind, keys in KEYS.items():
        given = table.get(kind, [])
        for place, entry in enumerate([given] if isinstance(given, dict) else given):
            values = {}
            for key, (read, default) in keys.items():
                value = entry.get(key, default)
                try:
                    values[key] = read(value)
                except UsageError as error:
                    raise BriefError(
                        f"{where}, line {line(kind, place, key)}: [[{kind}]] {key} = {value!r} cannot be used.",
                        str(error),
                    ) from error
            if kind == "compare" and (values["above"] is None) == (values["by"] is None):
                raise BriefError(
                    f"{where}, line {line(kind, place, '')}: [[compare]] takes `above` or `by`, one of them.",
                    "As above = 0, or by = 0.2.",
                )
            found.append(Extra(kind, tuple(values.items())))
    _refuse_twins(found, where)
    return tuple(found)


def _refuse_twins(found: list[Extra], where: str) -> None:
    names = [extra.name for extra in found]
    twin = next((name for name in names if names.count(name) > 1), None)
    if twin:
        raise BriefError(f"{where}: two products are called '{twin}'.", 'Give one another: name = "…".')
