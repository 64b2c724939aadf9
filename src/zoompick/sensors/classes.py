"""Class tables: which codes of a class layer mean what."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zoompick.arrays import Mask, Numbers
from zoompick.errors import UnknownNameError, UsageError
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np
from zoompick.records import read_facts, refuse
from zoompick.settings import own_files

if TYPE_CHECKING:
    Codes = Numbers
    Mask = Mask

MEANINGS = ("fill", "clear", "shadow", "cloud", "snow", "water")


@dataclass(frozen=True, slots=True)
class ClassTable:
    """Codes by meaning. ``cloud`` holds thin and thick cloud; what is ``water`` is ``clear`` too.

    Attributes
    ----------
    bits : tuple of (str, int)
        For layers of bit fields in place of codes: meanings, with bits (0 is the lowest) of which one is set.
    """

    fill: frozenset[int] = frozenset()
    clear: frozenset[int] = frozenset()
    shadow: frozenset[int] = frozenset()
    cloud: frozenset[int] = frozenset()
    snow: frozenset[int] = frozenset()
    water: frozenset[int] = frozenset()
    bits: tuple[tuple[str, int], ...] = ()

    def holds(self, codes: Codes, meanings: Iterable[str]) -> Mask:
        """True where a code of a class layer has one of some meanings."""
        wanted = list(meanings)
        if self.bits:
            chosen = [1 << bit for meaning, bit in self.bits if meaning in wanted]
            return np.asarray((codes.astype(np.int64) & sum(dict.fromkeys(chosen))) != 0)
        found = frozenset[int]().union(*(getattr(self, meaning) for meaning in wanted))
        return np.isin(codes, list(found))

    def rows(self) -> tuple[tuple[int, str], ...]:
        """Codes and their meanings in order; none for bit fields."""
        found = {code: meaning for meaning in MEANINGS for code in getattr(self, meaning)}
        return tuple(sorted(found.items()))

    @classmethod
    def of_bits(cls, bits: Mapping[str, Iterable[int]]) -> ClassTable:
        """Bits by meaning; UsageError for a meaning that there is not, or a bit that cannot be."""
        for meaning, given in bits.items():
            if meaning not in MEANINGS:
                raise UnknownNameError.of("meaning of a class", meaning, MEANINGS)
            if any(not 0 <= bit < 32 for bit in given):
                raise UsageError(f"A bit of {meaning} lies outside 0 to 31.", "Count from 0, the lowest.")
        return cls(bits=tuple((meaning, bit) for meaning, given in bits.items() for bit in given))

    @classmethod
    def of_codes(cls, codes: Mapping[str, Iterable[int]]) -> ClassTable:
        """Codes by meaning; UsageError for a meaning that there is not."""
        for meaning in codes:
            if meaning not in MEANINGS:
                raise UnknownNameError.of("meaning of a class", meaning, MEANINGS)
        found: JsonObject = {meaning: frozenset(given) for meaning, given in codes.items()}
        return cls(**found | {"clear": found.get("clear", frozenset()) | found.get("water", frozenset())})

    @classmethod
    def from_stac(cls, classes: Iterable[JsonMap]) -> ClassTable:
        """Read ``classification:classes`` (STAC classification extension 2.0), by the words in the names."""
        found: JsonObject = {role: set() for role in MEANINGS}
        for entry in classes:
            name, value = str(entry.get("name", "")).lower(), entry.get("value")
            if isinstance(value, int):
                found[_role(name)].add(value)
                if "water" in name and _role(name) == "clear":
                    found["water"].add(value)
        sets: JsonObject = {role: frozenset(codes) for role, codes in found.items()}
        return cls(**sets)


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
