"""Values of a brief: how each is read, and the same as JSON Schema for editors.

Source of the words of schemas: JSON Schema, draft 2020-12, validation vocabulary.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from zoompick.errors import AreaError, UnknownNameError, UsageError
from zoompick.geo.crs import Crs
from zoompick.jsontypes import JsonMap
from zoompick.patterns import NamePattern


def percent(value: object, what: str = "value") -> float:
    """Check a percentage."""
    given = _figure(value)
    if not 0 <= given <= 100:
        raise UsageError(f"The {what} {given:g} is not between 0 and 100.", "It is a percentage: 20, say.")
    return given


def percent_of(words: str | float, what: str = "percentage") -> float:
    """A percentage as a person types it, with its sign or without.

    Raises
    ------
    UsageError
        It is no number, or not between 0 and 100.
    """
    try:
        given = float(str(words).strip().removesuffix("%"))
    except ValueError:
        raise UsageError(f"'{words}' is no percentage.", "As 20, or 20%.") from None
    return percent(given, what)


def number_of(words: str, unit: str = "") -> float:
    """A number as a person types it, with its unit or without."""
    try:
        return float(words.strip().removesuffix(unit))
    except ValueError:
        raise UsageError(f"'{words}' is no number.", f"As 2{unit}." if unit else "As 0.5.") from None


def whole_of(words: str) -> int:
    """A whole number as a person types it."""
    try:
        return int(words.strip())
    except ValueError:
        raise UsageError(f"'{words}' is no whole number.", "As 2.") from None


_SECONDS = {"s": 1, "min": 60, "h": 3600, "d": 86400}


def seconds_of(words: str) -> float:
    """A span of time as a person types it: ``90s``, ``30min``, ``6h``, ``1d``.

    Raises
    ------
    UsageError
        It is none, or has no unit.
    """
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(s|min|h|d)\s*", words)
    if not found or float(found[1]) <= 0:
        raise UsageError(f"'{words}' is no span of time.", "Give one as 1d, 6h, 30min or 90s.")
    return float(found[1]) * _SECONDS[found[2]]


def names_of(words: str) -> list[str]:
    """Names between commas."""
    return [name for name in (part.strip() for part in words.split(",")) if name]


def length_m(words: str) -> float:
    """Metres of ``5km`` or ``800 m``; a number alone could be meant either way, and is refused."""
    match = re.fullmatch(r"(?i)\s*([-+]?\d+(?:\.\d+)?)\s*(km|m)\s*", words)
    if not match:
        raise AreaError(f"'{words}' is no distance with a unit.", "Give one as 5km or 800m.")
    return float(match[1]) * (1 if match[2].lower() == "m" else 1000)


def _numbers(words: str) -> list[float]:
    return [number_of(part) for part in words.split(",")]


def number(value: object) -> float:
    """Check a finite number."""
    given = _figure(value)
    if not math.isfinite(given):
        raise UsageError(f"{given} is no number to measure by.", "As 20.")
    return given


def _figure(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise UsageError("It must be a number.")
    return float(value)


def text(value: object) -> str:
    """Check a text."""
    if not isinstance(value, str):
        raise UsageError("It must be a text in quotes.")
    return value


def pixel(value: object) -> float:
    """Check a pixel size in metres."""
    given = number(value)
    if not 0 < given <= 100_000:
        raise UsageError(f"The pixel size {given:g} is not above 0.", "It is in metres, up to 100,000: 10, say.")
    return given


@dataclass(frozen=True)
class Value:
    """How a value is read.

    Attributes
    ----------
    read : callable
        Value to what is kept, or UsageError.
    schema : mapping
        What an editor may know of it: nothing that is read is refused by it.
    typed : callable
        Words of a command line to such a value, or UsageError.
    metavar : str
        What stands for it in help; empty for a flag.
    offer : tuple of str
        Words of a closed list.
    """

    read: Callable[[Any], Any]
    schema: JsonMap
    typed: Callable[[str], Any] = str
    metavar: str = "TEXT"
    offer: tuple[str, ...] = ()

    def __call__(self, value: Any) -> Any:
        """Read a value.

        Raises
        ------
        UsageError
            Tells what it must be.
        """
        return self.read(value)


def words(pattern: str, example: str, metavar: str = "TEXT", offer: tuple[str, ...] = ()) -> Value:
    """A text of some shape."""

    def read(value: Any) -> str:
        if not re.fullmatch(pattern, text(value)):
            raise UsageError(f"It must be {example}.")
        return str(value)

    return Value(read, {"type": "string", "pattern": f"^({pattern})$"}, metavar=metavar, offer=offer)


def within(low: float, high: float, unit: str = "") -> Value:
    """A number of a range, on a command line with its unit or without."""

    def read(value: Any) -> float:
        found = number(value)
        if not low <= found <= high:
            raise UsageError(f"It must be from {low:g} to {high:g}.")
        return found

    return Value(read, {"type": "number", "minimum": low, "maximum": high}, lambda typed: number_of(typed, unit),
                 "PIXELS" if unit == "px" else "NUMBER")  # fmt: skip


def optional(value: Value) -> Value:
    """The same, or nothing at all."""
    return replace(value, read=lambda given: None if given is None else value.read(given))


def one_of(*known: str) -> Value:
    """One of some words."""

    def read(value: Any) -> str:
        if value not in known:
            raise UsageError(f"It must be {', '.join(filter(None, known))}.")
        return str(value)

    return Value(read, {"enum": list(known)}, metavar="WAY", offer=known)


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


def _names(value: Any) -> tuple[str, ...]:
    if not isinstance(value, list | tuple) or not all(isinstance(entry, str) for entry in value):
        raise UsageError('It must be a list of names: ["red", "nir"], say.')
    if len(set(value)) < len(value):
        raise UsageError("A name stands in it twice.")
    return tuple(value)


def _stretch(value: Any) -> str:
    if isinstance(value, str) and re.fullmatch(_STRETCHES, value):
        return value
    if isinstance(value, str) and "," in value:
        value = _numbers(value)
    if not isinstance(value, list | tuple) or len(value) != 2:
        raise UsageError('It must be two percentiles, [2, 98], or "minmax", "sigma=2", "equalize", "local".')
    low, high = (percent(number(entry), "percentile") for entry in value)
    if low >= high:
        raise UsageError("The first percentile must be below the second.")
    return f"{low:g},{high:g}"


def _rising(value: Any) -> tuple[float, float] | None:
    if value is None or value == []:
        return None
    if not isinstance(value, list | tuple) or len(value) != 2:
        raise UsageError("It must be two rising numbers: [-0.2, 0.9].")
    low, high = (number(entry) for entry in value)
    if low >= high:
        raise UsageError("The first must be below the second.")
    return low, high


def listed(known: Sequence[str]) -> Value:
    """A list of some of these words."""

    def read(value: Any) -> tuple[str, ...]:
        if not isinstance(value, list | tuple) or any(word not in known for word in value):
            raise UsageError(f"It must be a list of {', '.join(known)}.")
        return tuple(value)

    return Value(
        read, {"type": "array", "items": {"enum": list(known)}},
        lambda typed: [] if typed.strip() in ("", "none") else names_of(typed), "A,B", tuple(known),
    )  # fmt: skip


_STRETCHES = r"minmax|equalize|local|sigma(=\d+(\.\d+)?)?"
_PERCENT = {"type": "number", "minimum": 0, "maximum": 100}
_LIST = {"type": "array", "items": {"type": "string"}, "uniqueItems": True}

TEXT = Value(text, {"type": "string"})
NAME = words(r"[A-Za-z0-9][A-Za-z0-9_-]{0,60}", "a name of letters, digits, - and _")
MADE_OF = Value(text, {"type": "string"}, metavar="PRODUCT")
"""What holds the bands of a day: checked against what the brief makes."""
SHOWN = Value(text, {"type": "string"}, metavar="PRODUCT")
"""Any product: checked against what the brief makes."""
BAND = Value(text, {"type": "string"}, metavar="BAND")
NAMES = Value(_names, _LIST, lambda typed: names_of(typed), "A,B")
FLAG = Value(_flag, {"type": "boolean"}, metavar="")
METRES = Value(_metres, {"type": "number", "minimum": 0}, lambda typed: length_m(typed), "DISTANCE")
COUNT = Value(_count, {"type": "integer", "minimum": 1}, lambda typed: whole_of(typed), "NUMBER")
LIMIT = Value(
    lambda value: None if value is None else number(value),
    {"type": "number"},
    lambda typed: number_of(typed),
    "VALUE",
)
PERCENT = Value(percent, _PERCENT, percent_of, "PERCENT")
PIXEL = Value(pixel, {"type": "number", "exclusiveMinimum": 0, "maximum": 100_000})
CRS = Value(lambda value: None if value == "auto" else Crs.parse(text(value)), {"type": "string"})
FOLDER = Value(lambda value: NamePattern.parse(text(value)), {"type": "string", "minLength": 1})
LIMIT_WORDS = {
    "cloud_differs": "percent between the cloud in the area and what the scenes tell of themselves",
    "hole": "percent of the area in the largest patch without pixels",
    "shift_px": "between the bands of a product",
    "dates_px": "between products of two dates",
    "negative": "percent of a band below zero",
    "saturated": "percent of a band at the end of its type",
    "odd": "percent of a band beyond what ground reflects",
    "seam": "step along a seam, in steps between neighbours beside it",
    "days": "from the first to the last scene of a product",
    "sun_deg": "between the sun's elevations over the scenes of a product",
    "sun_low_deg": "the sun's elevation, at least",
    "view_deg": "between the off-nadir angles of the scenes of a product",
    "bias": "percent off a reference, on average",
}
"""Limits that products are held to, beside those with a key of their own."""


def _limits(value: Any) -> tuple[str, ...]:
    if not isinstance(value, dict):
        raise UsageError("It must be a table of limits.", "As { shift_px = 0.3, seam = 2 }.")
    for name in value:
        if name not in LIMIT_WORDS:
            raise UnknownNameError.of("limit", name, LIMIT_WORDS)
    return tuple(f"{name}={number(given)!r}" for name, given in value.items())


LIMITS = Value(
    _limits,
    {
        "type": "object",
        "additionalProperties": False,
        "properties": {name: {"type": "number", "description": words} for name, words in LIMIT_WORDS.items()},
    },
)
RANGE = Value(
    _rising, {"type": "array", "items": {"type": "number"}, "maxItems": 2}, lambda typed: _numbers(typed), "LOW,HIGH"
)
STRETCH = Value(_stretch, {"anyOf": [
    {"type": "string", "pattern": f"^({_STRETCHES})$"},
    {"type": "array", "items": _PERCENT, "minItems": 2, "maxItems": 2},
]}, metavar="LOW,HIGH", offer=("minmax", "sigma=2", "equalize", "local"))  # fmt: skip
