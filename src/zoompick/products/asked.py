"""What a brief asks to be made, as values."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Self

from zoompick.products.rules import R, Rules, Section


@dataclass(frozen=True, kw_only=True)
class Asked:
    """What products are asked for, and how they are made.

    Attributes
    ----------
    bands : tuple of str
        Of the stack, in order.
    sections : tuple of Section
        One for each kind that every study has, then those that may be asked for several times.
    """

    bands: tuple[str, ...]
    sections: tuple[Section[Any], ...] = ()

    def all(self, kind: type[R]) -> list[Section[R]]:
        """Sections of a kind, in the order of the brief."""
        return [one for one in self.sections if type(one.rules) is kind]

    def one(self, kind: type[R]) -> R:
        """The rules of a kind that every study has."""
        return next((one.rules for one in self.all(kind)), kind())

    def changed(self, rules: Rules) -> Self:
        """With other rules for a kind that every study has."""
        kept = [one for one in self.sections if type(one.rules) is not type(rules)]
        return replace(self, sections=(Section(rules.section, rules), *kept))
