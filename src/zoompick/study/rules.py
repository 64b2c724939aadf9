"""Scenes of a list by number, range, id or rule; what rules can be about stands in the table of filters."""

from __future__ import annotations

import operator
import re
from collections.abc import Sequence
from typing import Any

from zoompick.catalog.filters import BY_RULE, Row
from zoompick.errors import NothingFoundError, UnknownNameError, UsageError
from zoompick.study.scenelist import Entry

_NAMES = "|".join(sorted(BY_RULE, key=len, reverse=True))
_RULE = re.compile(rf"({_NAMES})\s*(<=|>=|<|>|=)\s*(.+)")
_COMPARE = {"<=": operator.le, ">=": operator.ge, "<": operator.lt, ">": operator.gt, "=": operator.eq}


def select(entries: Sequence[Entry], words: Sequence[str], what: str) -> list[Entry]:
    """Entries named by number (from 1), range (``3-7``), id, or rule (``cloud<=10``, ``date>=2025-12``); each once.

    Raises
    ------
    UsageError, UnknownNameError
    """
    chosen: dict[tuple[str, str, str], Entry] = {}
    for word in words:
        for entry in _named(entries, word.strip(), what):
            chosen[entry.scene.key] = entry
    return list(chosen.values())


def _named(entries: Sequence[Entry], word: str, what: str) -> list[Entry]:
    span = re.fullmatch(r"(\d+)(?:-(\d+))?", word)
    if span:
        first, last = int(span[1]), int(span[2] or span[1])
        if not 1 <= first <= last <= len(entries):
            raise UsageError(
                f"There is no number {word}: {what} has {len(entries)} scenes.", "Look at the list again."
            )
        return list(entries[first - 1 : last])
    rule = _RULE.fullmatch(word)
    if rule:
        return _by_rule(entries, rule[1], rule[2], rule[3].strip(), what)
    match = [entry for entry in entries if entry.scene.id == word]
    if not match:
        raise UnknownNameError.of("scene", word, [entry.scene.id for entry in entries], f"That is in {what}.")
    if len(match) > 1:
        owners = ", ".join(f"{entry.scene.source} {entry.scene.collection}" for entry in match)
        raise UsageError(f"{len(match)} scenes are called {word} ({owners}).", "Pick by number.")
    return match


def _by_rule(entries: Sequence[Entry], name: str, sign: str, text: str, what: str) -> list[Entry]:
    row = BY_RULE[name]
    if row.is_number:
        try:
            limit: float | str = float(text.rstrip("% "))
        except ValueError as error:
            raise UsageError(f"'{text}' in the rule {name}{sign}{text} is no number.", "As cloud<=10.") from error
    else:
        limit = text.lower()
    found = [entry for entry in entries if _passes(_value(entry, row), row, sign, limit)]
    if not found:
        raise NothingFoundError(f"No scene of {what} has {name}{sign}{text}.", "Look at the list again.")
    return found


def _passes(value: Any, row: Row, sign: str, limit: float | str) -> bool:
    """Numbers compare as numbers; of several words one has to fit; a date begins with what was given."""
    if value is None:
        return False
    if isinstance(value, tuple):
        return limit in value
    if row.unit == "DATE" and sign == "=":
        return str(value).startswith(str(limit))
    return bool(_COMPARE[sign](value, limit))


def _value(entry: Entry, row: Row) -> Any:
    """What a row's rule is about; texts in small letters."""
    own = {"cloud-area": entry.cloud_area_percent, "cover": entry.cover_percent, "tag": entry.tags}
    value = own[row.rule] if row.rule in own else row.told(entry.scene) if row.told else None
    if isinstance(value, tuple):
        return tuple(word.lower() for word in value)
    return value.lower() if isinstance(value, str) else value
