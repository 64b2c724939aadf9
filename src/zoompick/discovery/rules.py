"""Scenes of a list by number, range, id or rule; what rules can be about stands in the table of filters."""

from __future__ import annotations

import fnmatch
import operator
import re
from collections.abc import Callable, Sequence
from typing import Any

from zoompick.discovery.filters import ALSO, BY_RULE, Row
from zoompick.errors import NothingFoundError, UnknownNameError, UsageError
from zoompick.scenes.period import Period
from zoompick.scenes.scenelist import Entry

_RULE = re.compile(r"([a-z][a-z -]*?)\s*(<=|>=|!=|<|>|=)\s*(.+)", re.IGNORECASE)
_OR = re.compile(r"\s+or\s+|\s*\|\|?\s*", re.IGNORECASE)
_COMPARE = {"<=": operator.le, ">=": operator.ge, "<": operator.lt, ">": operator.gt, "=": operator.eq,
            "!=": operator.ne}  # fmt: skip
FIELDS = tuple(sorted({*BY_RULE, *(name for name in ALSO if " " not in name)}))
"""What rules can be about."""


def select(entries: Sequence[Entry], words: Sequence[str], what: str) -> list[Entry]:
    """Entries named by number (from 1), range (``3-7``) or id, narrowed by rules.

    A rule (``cloud<=10``, ``date>=2025-12``) may hold several, of which one has to fit: ``cloud<=5 or tile=41b``.
    Rules narrow what is named; all of the list when nothing is.

    Raises
    ------
    UsageError, UnknownNameError, NothingFoundError
    """
    words = _apart(words)
    ids = {entry.scene.id for entry in entries}
    rules = [word for word in words if word not in ids and _RULE.fullmatch(_OR.split(word)[0])]
    named = [word for word in words if word not in rules]
    chosen: dict[tuple[str, str, str], Entry] = {}
    for word in named:
        for entry in _named(entries, word, what):
            chosen[entry.scene.key] = entry
    found = list(chosen.values()) if named else list(entries) if rules else []
    for rule in rules:
        tests = [_test(part) for part in _OR.split(rule)]
        found = [entry for entry in found if any(test(entry) for test in tests)]
        if not found:
            others = " among those named" if named else ""
            raise NothingFoundError(f"No scene of {what}{others} has {rule}.", "Look at the list again.")
    return found


def names_numbers(words: Sequence[str]) -> bool:
    """True when a word means a place in the list."""
    return any(_SPAN.fullmatch(word) for word in _apart(words))


_SPAN = re.compile(r"(\d+)(?:-(\d+))?")
_SPANS = re.compile(rf"{_SPAN.pattern}(?:,{_SPAN.pattern})+")


def _apart(words: Sequence[str]) -> list[str]:
    """Words; numbers and ranges with commas between them are several."""
    stripped = [word.strip() for word in words]
    return [part for word in stripped for part in (word.split(",") if _SPANS.fullmatch(word) else [word])]


def _named(entries: Sequence[Entry], word: str, what: str) -> list[Entry]:
    match = [entry for entry in entries if entry.scene.id == word]
    span = _SPAN.fullmatch(word)
    if span and not match:
        first, last = (int(part[:9]) for part in (span[1], span[2] or span[1]))
        if first > last and last >= 1:
            raise UsageError(f"{word} runs backwards.", f"Write {last}-{first}.")
        if not 1 <= first <= last <= len(entries):
            raise UsageError(
                f"There is no number {word}: {what} has {len(entries)} scenes.", "Look at the list again."
            )
        return list(entries[first - 1 : last])
    if not match:
        raise UnknownNameError.of("scene", word, [entry.scene.id for entry in entries], f"That is in {what}.")
    if len(match) > 1:
        owners = ", ".join(f"{entry.scene.source} {entry.scene.collection}" for entry in match)
        raise UsageError(f"{len(match)} scenes are called {word} ({owners}).", "Pick by number.")
    return match


def _test(rule: str) -> Callable[[Entry], bool]:
    """One comparison.

    Raises
    ------
    UnknownNameError
        No such field.
    UsageError
        A value that does not fit it.
    """
    parts = _RULE.fullmatch(rule.strip())
    if not parts:
        raise UsageError(f"'{rule}' is no rule.", "As cloud<=10, date>=2025-12, tile=41b.")
    name, sign, text = parts[1].strip().lower(), parts[2], parts[3].strip()
    name = ALSO.get(name, name)
    if name not in BY_RULE:
        raise UnknownNameError.of("field for a rule", name, FIELDS, f"There is {', '.join(FIELDS)}.")
    row = BY_RULE[name]
    compare = _comparison(row, sign, text)
    return lambda entry: compare(_value(entry, row))


def _comparison(row: Row, sign: str, text: str) -> Callable[[Any], bool]:
    """How values of a row are held against what was given: numbers as numbers, dates as dates, words as words."""
    if row.unit == "DATE":
        return _of_dates(sign, Period.parse(text))
    limit: Any = text.lower()
    if row.is_number:
        limit = _number(row, sign, text)

    def compare(value: Any) -> bool:
        if value is None:
            return False
        if isinstance(value, tuple):
            return (limit in value) is (sign != "!=")
        if isinstance(value, str) and sign in ("=", "!="):
            return fnmatch.fnmatchcase(value, limit) is (sign == "=")
        return bool(_COMPARE[sign](value, limit))

    return compare


def _of_dates(sign: str, given: Period) -> Callable[[Any], bool]:
    """After, before or in a period: ``>2024-11`` is after November, ``>=2024-11`` from its first day."""
    first, last = given.start, given.end

    def compare(value: Any) -> bool:
        begin, end = value
        inside = given.meets(begin, end)
        if sign in ("=", "!="):
            return inside is (sign == "=")
        if sign in (">", ">="):
            return (last is not None and begin > last) or (sign == ">=" and inside)
        return (first is not None and end < first) or (sign == "<=" and inside)

    return compare


_SIZES = {"": 1.0, "b": 1.0, "kb": 1e3, "mb": 1e6, "gb": 1e9}


def _number(row: Row, sign: str, text: str) -> float:
    match = re.fullmatch(r"([-+]?\d{1,18}(?:[.,]\d{1,18})?)\s*(%|°|m|b|kb|mb|gb)?", text.lower())
    if not match:
        raise UsageError(f"'{text}' in the rule {row.rule}{sign}{text} is no number.", "As cloud<=10.")
    factor = _SIZES.get(match[2] or "", 1.0) if row.unit == "SIZE" else 1.0
    return float(match[1].replace(",", ".")) * factor


def _value(entry: Entry, row: Row) -> Any:
    """What a row's rule is about; texts in small letters, a date as its first and last moment."""
    if row.unit == "DATE":
        return entry.scene.when, entry.scene.until
    own = {"cloud-area": entry.cloud_area_percent, "cover": entry.cover_percent, "tag": entry.tags}
    value = own[row.rule] if row.rule in own else row.told(entry.scene) if row.told else None
    if isinstance(value, tuple):
        return tuple(word.lower() for word in value)
    return value.lower() if isinstance(value, str) else value
