"""Properties of an item by meaning, under whichever of the known names an archive writes them."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from functools import cache, cached_property
from importlib import resources
from typing import Any

from zoompick import foreign
from zoompick.jsontypes import JsonMap


@cache
def _names() -> Mapping[str, tuple[tuple[bool, str], ...]]:
    """By meaning: whether any prefix will do, and the name."""
    text = resources.files("zoompick.scenes").joinpath("data/fields.toml").read_text(encoding="utf-8")
    return {
        meaning: tuple((name.startswith("*:"), name.removeprefix("*:")) for name in names)
        for meaning, names in tomllib.loads(text).items()
    }


def aliases(name: str) -> tuple[str, ...]:
    """All names under which archives publish what one name means; the name alone where only it is known."""
    own = next((row for row in _names().values() if (False, name) in row), ((False, name),))
    return tuple(known for is_open, known in own if not is_open)


class Told:
    """The properties of one item, asked by meaning."""

    def __init__(self, properties: JsonMap) -> None:
        self._properties = properties

    @cached_property
    def _ends(self) -> JsonMap:
        """Properties of extensions by their name without the prefix."""
        found = ((key.partition(":")[2], value) for key, value in self._properties.items() if ":" in key)
        return {end: value for end, value in found if value is not None}

    def value(self, meaning: str) -> Any:
        """The first property of this meaning that is there, else None."""
        for any_prefix, name in _names()[meaning]:
            found = (self._ends if any_prefix else self._properties).get(name)
            if found is not None:
                return found
        return None

    def number(self, meaning: str) -> float | None:
        """A property as a finite number; None when it is missing or of another type."""
        return foreign.number(self.value(meaning))

    def text(self, meaning: str) -> str:
        """A property as text; empty when it is missing."""
        return foreign.text(self.value(meaning))


def edges_of(box: object) -> tuple[float, float, float, float] | tuple[()]:
    """West, south, east, north of a bbox of four numbers or, with heights, of six; empty for anything else."""
    numbers = [foreign.number(edge) for edge in box] if isinstance(box, list) else []
    if len(numbers) not in (4, 6) or None in numbers:
        return ()
    half = len(numbers) // 2
    west, south, east, north = (float(edge or 0) for edge in (*numbers[:2], *numbers[half : half + 2]))
    return west, south, east, north
