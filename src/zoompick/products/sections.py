"""Sections of a brief that ask for products: values read by the rules of each kind, names held against each other.

A complaint has its line before anything is computed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from zoompick.errors import BriefError, UsageError
from zoompick.given import MADE_OF, NAME, SHOWN
from zoompick.jsontypes import JsonMap
from zoompick.products.kind import Kind
from zoompick.products.rules import Row, Section

Line = Callable[[str, int, str], int]
"""Line of a key in the n-th section of a kind; of the section for an empty key."""


def keys_of(kind: Kind) -> dict[str, Row]:
    """Keys of a section in a brief; where there may be several, each has a name."""
    own = kind.own_name or kind.name
    named = {"name": Row("", NAME, own, "of the product", "", "name")} if kind.is_several else {}
    return named | {row.key: row for row in kind.rules.rows() if row.key}


@dataclass(frozen=True)
class Reader:
    """Reads the sections of one brief.

    Attributes
    ----------
    table : mapping
        The brief.
    where : str
        Its name, for people.
    """

    table: JsonMap
    line: Line
    where: str

    def read(self, kinds: Sequence[Kind]) -> tuple[Section[Any], ...]:
        """All sections, in the order of the kinds.

        Raises
        ------
        BriefError
            Names the line, the key, the value and what is expected.
        """
        found = tuple(section for kind in kinds for section in self._of_kind(kind))
        made = [(section, name) for kind, section in _with_kinds(found, kinds) for name in kind.makes(section)]
        self._refuse_twins(found, made)
        bands = ["clip", *(one.name for kind, one in _with_kinds(found, kinds) if kind.keeps_bands(one))]
        names = [name for _, name in made]
        for section in found:
            for row in section.rules.rows():
                known = {id(MADE_OF): (bands, "It must be"), id(SHOWN): (names, "The brief makes")}.get(id(row.value))
                value = getattr(section.rules, row.field)
                if known and value not in known[0]:
                    words = " or ".join(known[0]) if row.value is MADE_OF else ", ".join(known[0])
                    raise self._unusable(section, row.key, value, f"{known[1]} {words}.")
        return found

    def _of_kind(self, kind: Kind) -> list[Section[Any]]:
        given = self.table.get(kind.name, [] if kind.is_several else {})
        entries = [given] if isinstance(given, dict) else given
        return [self._section(kind, entry, place) for place, entry in enumerate(entries)]

    def _section(self, kind: Kind, entry: JsonMap, place: int) -> Section[Any]:
        values, name, keys = {}, kind.name, keys_of(kind)
        lines = {key: self.line(kind.name, place, key) for key in keys}
        head = f"[[{kind.name}]]" if kind.is_several else f"[{kind.name}]"
        for key, row in keys.items():
            value = entry.get(key, row.default)
            try:
                read = row.value(value)
            except UsageError as error:
                what = f"{self.where}, line {lines[key]}: {head} {key} = {value!r} cannot be used."
                raise BriefError(what, str(error)) from error
            if row.field:
                values[row.field] = read
            else:
                name = read
        try:
            return Section(name, kind.rules(**values), lines)
        except UsageError as error:
            raise BriefError(
                f"{self.where}, line {self.line(kind.name, place, '')}: {error.what}", error.todo
            ) from error

    def _refuse_twins(self, found: Sequence[Section[Any]], made: Sequence[tuple[Section[Any], str]]) -> None:
        """No two products of one name."""
        names: dict[str, Section[Any]] = {}
        named = [(one, one.name) for one in found if "name" in one.lines]
        for section, name in [*made, *named]:
            other = names.setdefault(name, section)
            if other is not section:
                late = section if "name" in section.lines else other
                raise BriefError(
                    f"{self.where}, line {late.line('name')}: two products are called '{name}'.",
                    'Give one another: name = "…".',
                )

    def _unusable(self, section: Section[Any], key: str, value: object, todo: str) -> BriefError:
        head = f"[[{section.kind}]]" if "name" in section.lines else f"[{section.kind}]"
        return BriefError(f"{self.where}, line {section.line(key)}: {head} {key} = {value!r} cannot be used.", todo)


def _with_kinds(found: Sequence[Section[Any]], kinds: Sequence[Kind]) -> list[tuple[Kind, Section[Any]]]:
    by_rules = {kind.rules: kind for kind in kinds}
    return [(by_rules[type(section.rules)], section) for section in found]
