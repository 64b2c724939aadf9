"""Command lines as people write them: options that were called otherwise before, a box in one word."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from zoompick.cli import show

_OLD: Mapping[str, Mapping[str, str]] = {
    "align": {"--each": "--each-band", "--limit": "--shift-min", "--to": "--reference"},
    "area": {"--buffer": "--grow", "--picture": "--out"},
    "blend": {"--every": "--per"},
    "calendar": {"--picture": "--out"},
    "clip": {"--buffer": "--grow"},
    "compare": {"--by": "--change-min"},
    "look": {"--most": "--limit"},
    "order": {"--limit": "--wait-max"},
    "pick": {"--most": "--limit"},
    "run": {"--name": "--column"},
    "unpack": {"--only": "--files"},
    "verify": {"--limit": "--threshold", "--only": "--checks"},
}
"""Command of the root to its options of old and of now."""


_SIDES = 4


def with_box(words: Sequence[str]) -> list[str]:
    """A command line in which a box in one word, ``--box=-12.1,-38.7,-12,-38.6``, has four."""
    found, ahead = list[str](), list(words)
    while ahead:
        name, sign, value = (word := ahead.pop(0)).partition("=")
        if name == "--box" and not sign and ahead and len(ahead[0].replace(",", " ").split()) == _SIDES:
            value = ahead.pop(0)
        sides = [one for one in value.replace(",", " ").split() if one] if name == "--box" else []
        found += [name, *sides] if sides else [word]
    return found


def renewed(words: Sequence[str]) -> list[str]:
    """A command line in the words of now."""
    command = next((word for word in words if not word.startswith("-")), "")
    found = []
    for word in words:
        name, sign, value = word.partition("=")
        new = _OLD.get(command, {}).get(name)
        if new is not None:
            show.note(f"{name} is called {new} now; the old word works for one version more.")
        found.append(f"{new}{sign}{value}" if new is not None else word)
    return found
