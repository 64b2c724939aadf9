"""Commands and groups in the house's manner: help that ends with examples, slips that are answered, groups that are
commands (``area FILE`` means ``area set FILE``, bare ``area`` means ``area show``), a root that loads what is called.
"""

from __future__ import annotations

import difflib
import importlib
import json
import re
from collections.abc import Callable, Iterable, Mapping
from importlib import resources
from pathlib import Path
from typing import Any, ClassVar, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup

from zoompick.errors import UsageError

_TYPES = {"str": "TEXT", "int": "NUMBER", "float": "NUMBER", "path": "FILE"}


class Command(TyperCommand):
    """A command whose help tells arguments as a person reads them, and ends with examples."""

    def format_usage(self, ctx: Any, formatter: Any) -> None:
        """Options, then each argument."""
        words = [_argument(param) for param in self.get_params(ctx) if param.param_type_name == "argument"]
        formatter.write_usage(ctx.command_path, " ".join(["[OPTIONS]", *words]))

    def format_options(self, ctx: Any, formatter: Any) -> None:
        """Arguments, options, and options of one purpose under a title of their own."""
        sections: dict[str, list[tuple[str, str]]] = {"Arguments": [], "Options": []}
        params = self.get_params(ctx)
        for param in params:
            if (row := param.get_help_record(ctx)) is not None:
                title, row = _row(param, row)
                sections.setdefault(title, []).append(row)
        for title, rows in sections.items():
            if rows:
                with formatter.section(title):
                    formatter.write_dl(rows)
        if any("RULE" in str(param.metavar) for param in params):
            # The rooms behind it are loaded for the help of these commands alone.
            from zoompick.discovery.rules import FIELDS

            with formatter.section("Fields of rules"):
                formatter.write_text(", ".join(FIELDS))

    def format_epilog(self, ctx: Any, formatter: Any) -> None:
        """Examples out of ``data/examples.json``."""
        text = resources.files("zoompick.cli").joinpath("data/examples.json").read_text(encoding="utf-8")
        with formatter.section("Examples"):
            for line in json.loads(text)[ctx.command_path.partition(" ")[2]]:
                formatter.write(f"{'':{formatter.current_indent}}{line}\n")


def _row(param: Any, row: tuple[str, str]) -> tuple[str, tuple[str, str]]:
    """The section where a parameter is told, and its line there."""
    if param.param_type_name == "argument":
        return "Arguments", (_argument(param), row[1])
    left = re.sub(r"<(\w+)>", lambda found: _TYPES.get(found[1], found[1].upper()), row[0])
    return getattr(param, "rich_help_panel", None) or "Options", (left, row[1])


def _argument(argument: Any) -> str:
    """An argument as a person reads it: in brackets where it may be left out, with … where there may be several."""
    name = str(argument.metavar or argument.name).strip("[]")
    several = " …" if argument.nargs != 1 and "…" not in name else ""
    return f"{name}{several}" if argument.required else f"[{name}{several}]"


class Commands(typer.Typer):
    """An application or a part of it, whose commands are the house's."""

    def command(self, name: str | None = None, **told: Any) -> Callable[[Any], Any]:
        """Register a command."""
        return super().command(name, cls=Command, **told)


class Group(TyperGroup):
    """A group that answers a slip with the command that was meant."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """The command that is called."""
        if args and args[0] not in self.commands and not ctx.resilient_parsing:
            raise UsageError(
                f"There is no command '{ctx.command_path} {args[0]}'.",
                f"{_near(args[0], self.commands, ctx.command_path)}'{ctx.command_path} --help' lists them.",
            )
        return super().resolve_command(ctx, args)


def defaulting(with_words: str, without: str) -> type[TyperGroup]:
    """A group class that runs ``with_words`` when what follows is no command, ``without`` when nothing follows."""

    class Defaulting(Group):
        """A group with a default command."""

        def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
            """Put the default command in front where none is named."""
            if not args:
                args = [] if ctx.resilient_parsing else [without]
            elif _is_slip(args[0], self.commands) and not ctx.resilient_parsing:
                path = ctx.command_path
                as_name = f"As a name: '{path} {with_words} {args[0]}'." if with_words != without else ""
                raise UsageError(
                    f"There is no command '{path} {args[0]}'.",
                    f"{_near(args[0], self.commands, path)}{as_name}".strip(),
                )
            elif args[0] not in self.commands and args[0] not in ("--help", "-h"):
                args = [with_words, *args]
            return super().parse_args(ctx, args)

        def shell_complete(self, ctx: Any, incomplete: str) -> Any:
            """Commands, and what the default command takes."""
            words = [one for one in self.commands[with_words].params if one.param_type_name == "argument"]
            return super().shell_complete(ctx, incomplete) + words[0].shell_complete(ctx, incomplete)

    return Defaulting


class Entry(NamedTuple):
    """A command of the root: the file of this room that has it, the panel it is listed under, its first sentence."""

    file: str
    panel: str
    words: str


class Root(TyperGroup):
    """The root: commands in the order of the work, each loaded only when it is called.

    For the list of all commands their first sentences are enough.
    """

    table: ClassVar[Mapping[str, Entry]] = {}

    def list_commands(self, ctx: Any) -> list[str]:
        """Names in the order of the table."""
        return list(self.table)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """The command if it was built, else a stand-in that knows what the list says of it."""
        if cmd_name in self.commands or cmd_name not in self.table:
            return self.commands.get(cmd_name)
        return TyperCommand(cmd_name, help=self.table[cmd_name].words)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Build what is called."""
        if args and args[0] in self.table:
            self.build(args[0])
        elif args and not ctx.resilient_parsing:
            raise UsageError(
                f"There is no command '{args[0]}'.",
                f"{_near(args[0], self.table, 'zoompick')}'zoompick --help' lists the commands.",
            )
        return super().resolve_command(ctx, args)

    def build(self, name: str) -> Any:
        """Load the file of a command and make the command of what is there."""
        made = getattr(importlib.import_module(f"zoompick.cli.{self.table[name].file}"), name)
        if not isinstance(made, typer.Typer):
            alone = Commands(add_completion=False, rich_markup_mode=None)
            alone.command(name)(made)
            made = alone
        command: Any = typer.main.get_command(made)
        command.name = name
        self.commands[name] = command
        return command

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """The list under its panels, in columns of one width."""
        width = max(map(len, self.table))
        for panel in dict.fromkeys(entry.panel for entry in self.table.values()):
            with formatter.section(panel):
                formatter.write_dl(
                    [(f"{name:<{width}}", one.words) for name, one in self.table.items() if one.panel == panel]
                )


def _near(word: str, names: Iterable[str], prefix: str) -> str:
    """A question after the command that was meant; empty where none is near."""
    near = difflib.get_close_matches(word.lower(), list(names), n=2, cutoff=0.7)
    quoted = " or ".join(f"'{prefix} {name}'" for name in near)
    return f"Did you mean {quoted}? " if near else ""


def _is_slip(word: str, names: Iterable[str]) -> bool:
    """True for a word that is a command but for a slip, and no file: it would be taken for a place or a scene."""
    known = list(names)
    is_word = word not in known and bool(re.fullmatch(r"[a-z]{3,}", word)) and not Path(word).exists()
    return is_word and bool(_near(word, known, ""))


def group(cls: type[TyperGroup] | None = None, text: str = "") -> Commands:
    """A group in the house's manner."""
    return Commands(
        cls=cls or Group, help=text, no_args_is_help=cls is None, rich_markup_mode=None, add_completion=False
    )
