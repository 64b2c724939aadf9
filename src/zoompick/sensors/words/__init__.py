"""What the words in names of classes mean, by a table."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from importlib import resources

from zoompick.records import read_facts

_HIDING = ("shadow", "cloud", "snow")
UNKNOWN = "unknown"
"""What a name means of which no word is in the table."""


@dataclass(frozen=True)
class _File:
    """The table: words by meaning, and marks that turn a meaning around."""

    meanings: dict[str, tuple[str, ...]]
    marks: dict[str, tuple[str, ...]]


@cache
def _table() -> _File:
    with resources.as_file(resources.files(__name__).joinpath("class_words.toml")) as path:
        return read_facts(path, _File)


def meaning_of(name: str) -> str:
    """What a class is, by its name: fill, clear, shadow, cloud, snow, water, doubtful, or :data:`UNKNOWN`.

    ``cloud_free``, ``NotCloudy`` and ``no snow`` are clear; a cloud of low probability is doubtful.
    """
    words = _words(name)
    if not words:
        return UNKNOWN
    found = _meanings(words)
    if "fill" in found and not any(one in found for one in _HIDING):
        return "fill"
    hiding = [one for one in found if one in _HIDING]
    if hiding and _is_denied(words, hiding):
        others = [one for one in found if one not in (*_HIDING, "clear", "fill")]
        return others[0] if others else "clear"
    if hiding:
        return "doubtful" if _has(words, _table().marks["weak"]) else hiding[0]
    if found == ["clear"] and words[0] == "not" and "clear" in words:
        return "doubtful"
    if "doubtful" in found and _negated(words, "doubtful"):
        return "clear"
    return found[0] if found else UNKNOWN


def meaning_in(field: str, name: str) -> str:
    """What a class of a bit field means, by its own name and the field's; empty where it says nothing of the ground.

    ``high`` in ``cloud_confidence`` is cloud, ``low`` and ``not_set`` are nothing; what neither tells is
    :data:`UNKNOWN`.
    """
    words, of_field = _words(name), meaning_of(field)
    marks = _table().marks
    own = meaning_of(name)
    is_denied = words[:1] in (["no"], ["not"], ["non"]) and not _has(words, ("no data", "no value"))
    if is_denied or " ".join(words) in marks["off"]:
        return ""
    if own == UNKNOWN and " ".join(words) in (*marks["on"], "1"):
        return of_field
    if own == "clear" and of_field != "clear":
        # "no cloud" in a field on cloud says nothing of snow.
        return ""
    return own


def _words(name: str) -> list[str]:
    """A name in small words: parted at signs, and where a capital begins another word; plurals as singulars."""
    parts = re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+", name)
    return [_singular(part.lower()) for part in parts]


def _singular(word: str) -> str:
    known = _known()
    if word in known or not word.endswith("s"):
        return word
    short = [word[:-3] + "y"] if word.endswith("ies") else []
    short += [word[:-2]] if word.endswith("es") else []
    return next((one for one in [word[:-1], *short] if one in known), word)


@cache
def _known() -> frozenset[str]:
    told = _table()
    phrases = [phrase for table in (told.meanings, told.marks) for row in table.values() for phrase in row]
    return frozenset(word for phrase in phrases for word in phrase.split())


def _meanings(words: list[str]) -> list[str]:
    """Meanings that are found, in the order of the table."""
    return [meaning for meaning, phrases in _table().meanings.items() if _has(words, phrases)]


def _has(words: list[str], phrases: tuple[str, ...]) -> bool:
    text = f" {' '.join(words)} "
    return any(f" {phrase} " in text for phrase in phrases)


def _is_denied(words: list[str], hiding: list[str]) -> bool:
    """True when every meaning that hides the ground is denied."""
    return all(_negated(words, meaning) for meaning in hiding)


def _negated(words: list[str], meaning: str) -> bool:
    text, marks = f" {' '.join(words)} ", _table().marks
    own = [phrase for phrase in _table().meanings[meaning] if f" {phrase} " in text]
    before = any(f" {mark} {phrase} " in text for mark in marks["no"] for phrase in own)
    behind = any(f" {phrase} {mark} " in text for mark in marks["free"] for phrase in own)
    # "no cloud or shadow": what is denied first denies what follows with "or".
    shared = words[0] in ("no", "not", "without", "non") and "or" in words
    return before or behind or shared
