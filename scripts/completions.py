"""Write what the shells complete from the application itself: ``python scripts/completions.py``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import typer

from zoompick.cli.app import app
from zoompick.cli.groups import Root

TARGET = Path(__file__).parents[1] / "src" / "zoompick" / "cli" / "data" / "completions.json"


def table() -> dict[str, Any]:
    """Commands, their options and the first sentence of each help text, as deep as they go."""
    return _entry(typer.main.get_command(app))


def _entry(command: Any) -> dict[str, Any]:
    options = {name: _first(param.help) for param in command.params for name in param.opts if name.startswith("--")}
    names = command.list_commands(None) if hasattr(command, "commands") else []
    made = {name: command.build(name) if isinstance(command, Root) else command.commands[name] for name in names}
    return {
        "help": _first(command.help),
        "options": options | {"--help": "Show this message and exit."},
        "commands": {name: _entry(made[name]) for name in names},
    }


def _first(text: str | None) -> str:
    return " ".join((text or "").split("\n\n")[0].split()).split(". ")[0].rstrip(".")


if __name__ == "__main__":
    TARGET.write_text(json.dumps(table(), indent=1) + "\n")
