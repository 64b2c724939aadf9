"""Writes docs/commands.md and the manual page out of the commands themselves: ``python scripts/reference.py``."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from importlib import resources
from pathlib import Path
from typing import Any

import typer

from zoompick import __version__
from zoompick.cli.app import app
from zoompick.cli.groups import Root
from zoompick.settings import TABLE

ROOT = Path(__file__).parents[1]
PAGE, MANUAL = ROOT / "docs" / "commands.md", ROOT / "docs" / "man" / "zoompick.1"
_HEAD = """\
# All commands

What `zoompick COMMAND --help` tells, on one page, made of the commands themselves: `python scripts/reference.py`. The
manual page `zoompick(1)` is made of the same. Options that all commands share stand before the command: `zoompick
--quiet run`.

"""
_CODES = (
    (0, "done"), (1, "a check failed, or a file is damaged"), (2, "wrong use"), (3, "nothing was found"),
    (4, "a source failed"), (5, "a part was done, the rest failed"), (130, "stopped"),
)  # fmt: skip


def commands() -> Iterator[tuple[str, str, Any]]:
    """Name, panel and command of each, groups' own commands among them, in the order of the work."""
    root: Any = typer.main.get_command(app)
    assert isinstance(root, Root)
    for name, entry in root.table.items():
        yield from _below(name, entry.panel, root.build(name))


def _below(name: str, panel: str, command: Any) -> Iterator[tuple[str, str, Any]]:
    below = getattr(command, "commands", {})
    if not below:
        yield name, panel, command
    for word, one in below.items():
        yield from _below(f"{name} {word}", panel, one)


def rows_of(command: Any) -> Iterator[tuple[str, str]]:
    """What is given to a command, and what for."""
    for param in command.params:
        metavar = param.metavar or ""
        if param.param_type_name == "argument":
            if getattr(param, "help", None):
                yield metavar or param.name.upper(), param.help
            continue
        takes = "" if getattr(param, "is_flag", False) else f" {metavar or param.name.upper()}"
        names = "/".join([*param.opts, *param.secondary_opts])
        default = param.default
        is_told = default not in (None, "", False, 0, 0.0, (), []) and not callable(default) and takes
        yield f"{names}{takes}", (param.help or "") + (f" [{default}]" if is_told else "")


def words_of(command: Any) -> list[str]:
    """The paragraphs of a command's help."""
    return [" ".join(part.split()) for part in (command.help or "").split("\n\n") if part.strip()]


def examples() -> dict[str, list[str]]:
    """Lines to begin with, by command."""
    text = resources.files("zoompick.cli").joinpath("data/examples.json").read_text(encoding="utf-8")
    told: dict[str, list[str]] = json.loads(text)
    return told


def usage(name: str, command: Any) -> str:
    """As it is called."""
    takes = [param.metavar or param.name.upper() for param in command.params if param.param_type_name == "argument"]
    return " ".join(["zoompick", name, *takes, "[OPTIONS]"])


def page() -> str:
    """The page of all commands."""
    parts, shown, last = [_HEAD], examples(), ""
    for name, panel, command in commands():
        if panel != last:
            parts.append(f"## {panel}\n\n")
            last = panel
        parts.append(f"### `{usage(name, command)}`\n\n" + "\n\n".join(words_of(command)) + "\n\n")
        rows = list(rows_of(command))
        if rows:
            parts.append(
                "| | |\n|---|---|\n" + "".join(f"| `{key}` | {_cell(text)} |\n" for key, text in rows) + "\n"
            )
        if shown.get(name):
            parts.append("```\n" + "\n".join(shown[name]) + "\n```\n\n")
    parts.append("## Exit codes\n\n| code | |\n|---|---|\n")
    parts += [f"| {code} | {words} |\n" for code, words in _CODES]
    parts.append("\n## Settings\n\nIn `settings.toml` in the configuration folder, or in the environment as "
                 "`ZOOMPICK_` and the key in capitals.\n\n| key | default | |\n|---|---|---|\n")  # fmt: skip
    parts += [f"| `{row.key}` | {row.default} {row.unit} | {_cell(row.help)} |\n" for row in TABLE]
    return "".join(parts)


def _cell(text: str) -> str:
    return text.replace("|", "\\|")


def manual() -> str:
    """The manual page (man(7))."""
    root: Any = typer.main.get_command(app)
    lines = [
        f'.TH ZOOMPICK 1 "" "Zoom Pick {__version__}" "User commands"', ".SH NAME",
        f"zoompick \\- {_roff(words_of(root)[0].rstrip('.'))}", ".SH SYNOPSIS", ".B zoompick",
        "[OPTIONS] COMMAND [ARGUMENTS]", ".SH DESCRIPTION",
        "A study lies in a folder of its own; its brief, study.toml, tells what is sought and what is made, and",
        ".B zoompick run", "carries it out. Begin with", ".BR \"zoompick demo\" .", ".SH OPTIONS",
    ]  # fmt: skip
    lines += _roff_rows(rows_of(root))
    last, shown = "", examples()
    for name, panel, command in commands():
        if panel != last:
            lines.append(f".SH COMMANDS: {panel.upper()}")
            last = panel
        lines += [f".SS {_roff(usage(name, command))}"]
        lines += [line for words in words_of(command) for line in (_roff(words), ".PP")][:-1]
        lines += _roff_rows(rows_of(command))
        for line in shown.get(name, []):
            lines += [".PP", f".B {_roff(line)}"]
    lines.append(".SH EXIT STATUS")
    lines += _roff_rows((str(code), words) for code, words in _CODES)
    lines.append(".SH ENVIRONMENT")
    lines += _roff_rows((f"ZOOMPICK_{row.key.upper()}", row.help) for row in TABLE)
    lines += [".SH FILES", ".TP", ".B study.toml", "The brief of a study.", ".TP", ".B study.lock.json",
              "Scenes, files and products of a run, with their digests."]  # fmt: skip
    return "\n".join(lines) + "\n"


def _roff_rows(rows: Any) -> list[str]:
    return [line for key, text in rows for line in (".TP", f".B {_roff(key)}", _roff(text) or "\\&")]


def _roff(text: str) -> str:
    """A line of text as roff takes it: backslashes and hyphens told apart, no line begins with a control sign."""
    plain = text.replace("\\", "\\e").replace("-", "\\-")
    plain = re.sub(r"[^\x00-\x7f]", lambda sign: f"\\[u{ord(sign[0]):04X}]", plain)
    return re.sub(r"^([.'])", r"\\&\1", plain)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    MANUAL.parent.mkdir(exist_ok=True)
    MANUAL.write_text(manual(), encoding="utf-8")
