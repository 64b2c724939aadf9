"""Completion of words in bash, zsh and fish without loading the application, so that the Tab key answers at once.

What there is to complete stands in ``data/completions.json``, made from the application by ``scripts/completions.py``
and held against it by a test. The shells call the program with the variables that Typer's installed scripts set.
"""

from __future__ import annotations

import json
import re
import shlex
import sys
from collections.abc import Mapping
from functools import cache
from importlib import resources
from typing import Any

from zoompick.cli import known

VARIABLE = "_ZOOMPICK_COMPLETE"


def answer(environment: Mapping[str, str]) -> int | None:
    """Print what fits the word being typed; returns the exit code, or None when Typer should answer.

    Options are offered after a hyphen, commands elsewhere, and what local records know; nothing at all lets the shell
    offer files.
    """
    shell = environment[VARIABLE].removeprefix("complete_")
    if shell not in ("bash", "zsh", "fish") or not environment[VARIABLE].startswith("complete_"):
        return None
    words, begun = _typed(shell, environment)
    fitting = {name: text for name, text in _offered(words, begun).items() if name.startswith(begun)}
    if shell == "fish":
        return _to_fish(fitting, environment.get("_TYPER_COMPLETE_FISH_ACTION", ""))
    sys.stdout.write((_for_zsh(fitting) if shell == "zsh" else "\n".join(fitting)) + "\n")
    return 0


def _typed(shell: str, environment: Mapping[str, str]) -> tuple[list[str], str]:
    """Words before the one being typed, the program's name left out, and what of it is there."""
    if shell == "bash":
        words, place = _split(environment.get("COMP_WORDS", "")), int(environment.get("COMP_CWORD") or 0)
        return words[1:place], words[place] if place < len(words) else ""
    line = environment.get("_TYPER_COMPLETE_ARGS", "")
    words = _split(line)[1:]
    return (words[:-1], words[-1]) if words and not line.endswith(" ") else (words, "")


def _split(line: str) -> list[str]:
    try:
        return shlex.split(line)
    except ValueError:
        # A quote is still open.
        return line.split()


def _table() -> dict[str, Any]:
    text = resources.files("zoompick.cli").joinpath("data/completions.json").read_text(encoding="utf-8")
    table: dict[str, Any] = json.loads(text)
    return table


@cache
def commands() -> dict[str, Any]:
    """What there is to complete, by command of the root."""
    found: dict[str, Any] = _table()["commands"]
    return found


def _offered(words: list[str], begun: str) -> dict[str, str]:
    here, path = _table(), []
    for word in words:
        if word in here["commands"]:
            here = here["commands"][word]
            path.append(word)
    option = words[-1] if words and words[-1].startswith("--") else ""
    if begun.startswith("-"):
        return dict(here["options"])
    if path and (option or not here["commands"] or path == ["pick"]):
        first = begun.rpartition(",")[0] + "," if "," in begun else ""
        found = {first + name: text for name, text in known.values(tuple(path), option).items()}
        if found or option:
            return {name: entry["help"] for name, entry in here["commands"].items()} | found if not option else found
    return {name: entry["help"] for name, entry in here["commands"].items()}


def _for_zsh(fitting: dict[str, str]) -> str:
    def quoted(text: str) -> str:
        # The shell evaluates this: quotes and signs that it would act on are left out, a colon separates.
        return '"' + re.sub("[\"'`$]", "", text).replace(":", r"\\:") + '"'

    pairs = [f"{quoted(name)}:{quoted(text)}" if text else quoted(name) for name, text in fitting.items()]
    return "_arguments '*: :((" + "\n".join(pairs) + "))'" if pairs else "_files"


def _to_fish(fitting: dict[str, str], action: str) -> int:
    if action == "is-args":
        return 0 if fitting else 1
    sys.stdout.write("".join(f"{name}\t{text}\n" if text else f"{name}\n" for name, text in fitting.items()))
    return 0
