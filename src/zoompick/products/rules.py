"""How a product is made, declared once: one frozen value whose fields tell type, unit, default, range and a sentence.

The options of its command, the arguments of its function in Python, the section of the brief with its JSON Schema and
the page of the brief's keys all come out of these fields.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from functools import cache
from typing import Any, ClassVar, Generic, NamedTuple, Self, TypeVar

from zoompick.errors import UnknownNameError, UsageError
from zoompick.given import Value

_UNITS = ("_m", "_px", "_deg")


class Row(NamedTuple):
    """A field as people meet it.

    Attributes
    ----------
    value : Value
        How it is read, from a brief, from words of a command line and from Python alike.
    default : object
        As it would stand in a brief.
    words : str
        What it is for.
    option : str
        On the command line, without dashes; empty for none.
    key : str
        In the brief; empty for none.
    note : str
        Beside it in a new brief; empty for what a new brief does not show.
    start : object
        What a new brief shows in place of the default.
    """

    field: str
    value: Value
    default: object
    words: str
    option: str
    key: str
    note: str = ""
    start: object = None


def asked(
    value: Value,
    default: object,
    words: str,
    *,
    option: str | None = None,
    key: str | None = None,
    note: str = "",
    start: object = None,
) -> Any:
    """A field of rules; option and key are called after it where nothing else is said."""
    told = {"value": value, "default": default, "words": words, "option": option, "key": key, "note": note,
            "start": start}  # fmt: skip
    return field(default=value(default), metadata=told)


@dataclass(frozen=True)
class Rules:
    """How a product is made; whoever makes one, its values are checked."""

    section: ClassVar[str]

    def __post_init__(self) -> None:
        for row in self.rows():
            given = getattr(self, row.field)
            try:
                object.__setattr__(self, row.field, row.value(given))
            except UsageError as error:
                raise UsageError(f"`{row.option or row.field}` {given!r} cannot be used.", str(error)) from error
        self.check()

    def check(self) -> None:
        """What values together must hold.

        Raises
        ------
        UsageError
        """

    @classmethod
    def rows(cls) -> tuple[Row, ...]:
        """Its fields as people meet them."""
        return _rows(cls)  # type: ignore[arg-type]

    @classmethod
    def from_values(cls, given: Mapping[str, object]) -> Self:
        """Rules out of some values by field, the others at their defaults.

        Raises
        ------
        UnknownNameError, UsageError
        """
        known = [row.field for row in cls.rows()]
        for name in given:
            if name not in known:
                raise UnknownNameError.of(f"option of {cls.section}", name, known)
        return cls(**given)


@cache
def _rows(kind: Any) -> tuple[Row, ...]:
    found = []
    for one in fields(kind):
        if "value" in one.metadata:
            told = dict(one.metadata)
            plain = next((one.name.removesuffix(unit) for unit in _UNITS if one.name.endswith(unit)), one.name)
            option, key = told.pop("option"), told.pop("key")
            found.append(Row(
                one.name, **told, option=plain.replace("_", "-") if option is None else option,
                key=one.name if key is None else key,
            ))  # fmt: skip
    return tuple(found)


R = TypeVar("R", bound=Rules)


@dataclass(frozen=True)
class Section(Generic[R]):
    """A section of a brief, its values checked and complete.

    Attributes
    ----------
    name : str
        Of its products; that of its kind where there is one of it.
    lines : mapping
        Line in the brief of each key; of the section where the key is not there.
    """

    name: str
    rules: R
    lines: Mapping[str, int] = field(default_factory=dict, compare=False, repr=False)

    @property
    def kind(self) -> str:
        """Its name in the brief."""
        return self.rules.section

    def line(self, key: str) -> int:
        """Line of a key in the brief."""
        return self.lines.get(key, 0)
