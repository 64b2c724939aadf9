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
from zoompick.sensors.words import UNKNOWN, meaning_in, meaning_of
from zoompick.settings import own_files

if TYPE_CHECKING:
    Codes = Numbers
    Mask = Mask

MEANINGS = ("fill", "clear", "shadow", "cloud", "snow", "water", "doubtful")


_MOST_CODES, _LARGEST_CODE = 16, 255


def few_codes(values: Numbers) -> tuple[int, ...]:
    """Distinct values as codes where they look like codes: 2 to 16 whole numbers from 0 to 255; none else."""
    if not 1 < len(values) <= _MOST_CODES or any(v != v // 1 or not 0 <= v <= _LARGEST_CODE for v in values.tolist()):
        return ()
    return tuple(sorted(int(value) for value in values))


@dataclass(frozen=True, slots=True)
class ClassTable:
    """Codes by meaning. ``cloud`` holds thin and thick cloud; what is ``water`` is ``clear`` too.

    What is ``doubtful`` (defective, saturated, not classified) and what no table knows is seen, but not trusted: it
    is neither clear ground nor counted.

    Attributes
    ----------
    fields : tuple of (str, int, int)
        For layers of bit fields in place of codes: meaning, bits that count, and what they hold where it is meant.
    unknown : tuple of (int, str)
        Codes whose words no table knows.
    silent : tuple of str
        Names of bit fields that no table knows: they are not looked at.
    """

    fill: frozenset[int] = frozenset()
    clear: frozenset[int] = frozenset()
    shadow: frozenset[int] = frozenset()
    cloud: frozenset[int] = frozenset()
    snow: frozenset[int] = frozenset()
    water: frozenset[int] = frozenset()
    doubtful: frozenset[int] = frozenset()
    fields: tuple[tuple[str, int, int], ...] = ()
    unknown: tuple[tuple[int, str], ...] = ()
    silent: tuple[str, ...] = ()

    def holds(self, codes: Codes, meanings: Iterable[str]) -> Mask:
        """True where a code of a class layer has one of some meanings."""
        wanted = list(meanings)
        if not self.fields:
            found = frozenset[int]().union(*(getattr(self, meaning) for meaning in wanted))
            return np.isin(codes, list(found))
        values = codes.astype(np.int64)
        out = np.zeros(values.shape, bool)
        for meaning, bits, value in self.fields:
            if meaning in wanted:
                out |= (values & bits) == value
        if "clear" in wanted and all(meaning != "clear" for meaning, _, _ in self.fields):
            out |= ~self.holds(codes, [one for one in MEANINGS if one not in ("clear", "water")])
        return out

    def doubts(self, codes: Codes) -> Mask:
        """True where what was seen is not trusted: doubtful, or a code whose word no table knows."""
        out = self.holds(codes, ("doubtful",))
        return out | np.isin(codes, [code for code, _ in self.unknown]) if self.unknown else out

    @property
    def told(self) -> tuple[str, ...]:
        """Sentences about what no table knows; mostly none."""
        own = ", ".join(f"'{word}' ({code})" for code, word in self.unknown)
        fields = ", ".join(self.silent)
        found = []
        if own:
            found += [
                f"No table knows these classes, which do not count as clear ground: {own}. A guide can tell them."
            ]
        if fields:
            found += [f"No table knows these bits, which are not looked at: {fields}. A guide can tell them."]
        return tuple(found)

    def rows(self) -> tuple[tuple[int, str], ...]:
        """Codes and their meanings in order; none for bit fields."""
        found = {code: meaning for meaning in MEANINGS for code in getattr(self, meaning)}
        return tuple(sorted((found | dict(self.unknown)).items()))

    @classmethod
    def of_bits(cls, bits: Mapping[str, Iterable[int]]) -> ClassTable:
        """Bits by meaning; UsageError for a meaning that there is not, or a bit that cannot be."""
        for meaning, given in bits.items():
            if meaning not in MEANINGS:
                raise UnknownNameError.of("meaning of a class", meaning, MEANINGS)
            if any(not 0 <= bit < 32 for bit in given):
                raise UsageError(f"A bit of {meaning} lies outside 0 to 31.", "Count from 0, the lowest.")
        every = ((meaning, 1 << bit) for meaning, given in bits.items() for bit in given)
        return cls(fields=tuple((meaning, bit, bit) for meaning, bit in every))

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
        """Read ``classification:classes`` or ``classification:bitfields``, by the words in their names.

        Source: STAC classification extension 2.0, "Class Object" and "Bit Field Object".
        """
        told = list(classes)
        if any("offset" in entry for entry in told):
            return cls._of_fields(told)
        return cls.of_words((entry["value"], _name(entry)) for entry in told if isinstance(entry.get("value"), int))

    @classmethod
    def of_words(cls, rows: Iterable[tuple[int, str]]) -> ClassTable:
        """Codes with the words that name them."""
        found: dict[str, set[int]] = {role: set() for role in MEANINGS}
        unknown: list[tuple[int, str]] = []
        for code, word in rows:
            meaning = meaning_of(word)
            if meaning == UNKNOWN:
                unknown.append((code, word))
                continue
            found[meaning].add(code)
            if meaning == "water":
                found["clear"].add(code)
        sets: JsonObject = {role: frozenset(codes) for role, codes in found.items()}
        return cls(**sets, unknown=tuple(unknown))

    @classmethod
    def _of_fields(cls, told: Iterable[JsonMap]) -> ClassTable:
        fields: list[tuple[str, int, int]] = []
        silent: list[str] = []
        for entry in told:
            offset, length, name = entry.get("offset"), entry.get("length", 1), _name(entry)
            if not (
                isinstance(offset, int) and isinstance(length, int) and 0 <= offset < _BITS and 0 < length <= _BITS
            ):
                continue
            bits = ((1 << length) - 1) << offset
            classes = entry.get("classes")
            rows = [one for one in classes if isinstance(one, dict)] if isinstance(classes, list) else []
            rows = rows or [{"value": 1, "name": "set"}]
            named = [(meaning_in(name, _name(one)), one.get("value")) for one in rows]
            if all(meaning in ("", UNKNOWN) for meaning, _ in named):
                silent.append(name)
                continue
            # Beside classes that are known one that is not is doubtful.
            fields += [("doubtful" if meaning == UNKNOWN else meaning, bits, value << offset)
                       for meaning, value in named if meaning and isinstance(value, int)]  # fmt: skip
        return cls(fields=tuple(fields), silent=tuple(silent))


_BITS = 32


def _name(entry: JsonMap) -> str:
    """Name of a class or field; its title where the name says nothing."""
    name = str(entry.get("name") or "")
    title = str(entry.get("title") or "")
    return title if title and meaning_of(name) == UNKNOWN and meaning_of(title) != UNKNOWN else name


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
