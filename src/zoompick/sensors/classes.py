"""Class tables: which codes of a class layer mean what."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class ClassTable:
    """Codes by meaning. ``cloud`` holds thin and thick cloud."""

    fill: frozenset[int] = frozenset()
    clear: frozenset[int] = frozenset()
    shadow: frozenset[int] = frozenset()
    cloud: frozenset[int] = frozenset()
    snow: frozenset[int] = frozenset()

    @classmethod
    def from_stac(cls, classes: Iterable[Mapping[str, Any]]) -> ClassTable:
        """Read ``classification:classes`` (STAC classification extension 2.0), by the words in the names."""
        found: dict[str, set[int]] = {role: set() for role in ("fill", "clear", "shadow", "cloud", "snow")}
        for entry in classes:
            name, value = str(entry.get("name", "")).lower(), entry.get("value")
            if isinstance(value, int):
                found[_role(name)].add(value)
        return cls(**{role: frozenset(codes) for role, codes in found.items()})


def _role(name: str) -> str:
    words = (("shadow", "shadow"), ("cloud", "cloud"), ("cirrus", "cloud"), ("snow", "snow"), ("ice", "snow"),
             ("fill", "fill"), ("no_data", "fill"), ("nodata", "fill"))  # fmt: skip
    return next((role for word, role in words if word in name), "clear")
