"""Command groups that are also commands: ``area FILE`` means ``area set FILE``, bare ``area`` means ``area show``."""

from __future__ import annotations

import difflib
import importlib
import json
import re
from collections.abc import Iterable, Mapping, Sequence
from importlib import resources
from pathlib import Path
from typing import Any, ClassVar, NamedTuple

import typer
from typer.core import TyperCommand, TyperGroup

from zoompick.cli import completing, light
from zoompick.cli.front import front_page
from zoompick.discovery.rules import FIELDS
from zoompick.errors import UsageError


class Group(TyperGroup):
    """A group that answers a slip with the command that was meant."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """The command that is called."""
        if args and args[0] not in self.commands:
            raise UsageError(
                f"There is no command '{ctx.command_path} {args[0]}'.",
                f"{_near(args[0], self.commands, ctx.command_path)}'{ctx.command_path} --help' lists them.",
            )
        return super().resolve_command(ctx, args)


def defaulting(with_words: str, without: str) -> type[TyperGroup]:
    """A group class that runs ``with_words`` when what follows is no command, ``without`` when nothing follows."""

    class Defaulting(Group):
        """A group with a default command."""

        @staticmethod
        def meant(args: list[str], names: set[str]) -> str:
            """The command that the words mean; empty when all of them may be asked for."""
            if not args:
                return without
            if args[0] in ("--help", "-h"):
                return ""
            if _is_slip(args[0], names):
                return ""
            return args[0] if args[0] in names else with_words

        def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
            """Put the default command in front where none is named."""
            if not args:
                args = [without]
            elif _is_slip(args[0], self.commands):
                path = ctx.command_path
                as_name = f"As a name: '{path} {with_words} {args[0]}'." if with_words != without else ""
                raise UsageError(
                    f"There is no command '{path} {args[0]}'.",
                    f"{_near(args[0], self.commands, path)}{as_name}".strip(),
                )
            elif args[0] not in self.commands and args[0] not in ("--help", "-h"):
                args = [with_words, *args]
            return super().parse_args(ctx, args)

    return Defaulting


class Entry(NamedTuple):
    """Where a command of the root lives: a file of this room, a name in it, and the panel it is listed under."""

    file: str
    name: str
    panel: str


class Root(TyperGroup):
    """The root: commands in the order of the work, each built only when it is called.

    For the list of all commands their first sentences are enough; those stand in the file of the completions.
    """

    table: ClassVar[Mapping[str, Entry]] = {}

    def __init__(self, **told: Any) -> None:
        super().__init__(**told)
        light.lighten(self)

    def list_commands(self, ctx: Any) -> list[str]:
        """Names in the order of the table."""
        return list(self.table)

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """The first page; see :mod:`zoompick.cli.front`."""
        panels: dict[str, dict[str, str]] = {}
        for name, entry in self.table.items():
            panels.setdefault(entry.panel, {})[name] = f"{completing.commands()[name]['help']}."
        front_page(str(self.help), self.get_params(ctx), panels, str(self.epilog))

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        """The command if it was built, else a stand-in that knows what the list says of it."""
        if cmd_name in self.commands or cmd_name not in self.table:
            return self.commands.get(cmd_name)

        text = completing.commands()[cmd_name]["help"]
        return TyperCommand(cmd_name, help=f"{text}.", rich_help_panel=self.table[cmd_name].panel)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Build what is called."""
        if args and args[0] in self.table:
            self.build(args[0], args[1:])
        elif args:
            raise UsageError(
                f"There is no command '{args[0]}'.",
                f"{_near(args[0], self.table, 'zoompick')}'zoompick --help' lists the commands.",
            )
        return super().resolve_command(ctx, args)

    def build(self, name: str, args: list[str] | None = None) -> Any:
        """Load the file of a command and make the command of what is there.

        Of a group only what ``args``, the words after its name, mean; all of it without.
        """
        entry = self.table[name]
        made = getattr(importlib.import_module(f"zoompick.cli.{entry.file}"), entry.name)
        command: Any
        if isinstance(made, typer.Typer):
            command = typer.main.get_group(made if args is None else _meant(made, args))
        else:
            alone = typer.Typer(add_completion=False, rich_markup_mode=None)
            alone.command(name)(made)
            command = typer.main.get_command(alone)
        command.name, command.rich_help_panel = name, entry.panel
        self.commands[name] = _with_examples(light.lighten(command), name)
        return command


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


def _with_examples(command: Any, path: str) -> Any:
    """Make a command, and all below it, end its help with examples out of ``data/examples.json``; returns it."""
    below = getattr(command, "commands", None)
    for name, entry in (below or {}).items():
        _with_examples(entry, f"{path} {name}")
    if below is None:
        command.format_options = lambda ctx, formatter: _write_options(command.get_params(ctx), ctx, formatter)
        command.format_usage = lambda ctx, formatter: _write_usage(command, ctx, formatter)
        command.format_epilog = lambda ctx, formatter: _write_examples(formatter, path)
    return command


def _write_options(params: Sequence[Any], ctx: Any, formatter: Any) -> None:
    """Arguments, options, and options of one purpose under a title of their own."""
    sections: dict[str, list[tuple[str, str]]] = {"Arguments": [], "Options": []}
    for param in params:
        if (row := param.get_help_record(ctx)) is not None:
            is_argument = param.param_type_name == "argument"
            left = (
                _told(param) if is_argument else re.sub(r"<(\w+)>", lambda m: _TYPES.get(m[1], m[1].upper()), row[0])
            )
            row = (left, row[1])
            title = "Arguments" if is_argument else getattr(param, "rich_help_panel", None) or "Options"
            sections.setdefault(title, []).append(row)
    for title, rows in sections.items():
        if rows:
            with formatter.section(title):
                formatter.write_dl(rows)
    if any("RULE" in str(param.metavar) for param in params):
        with formatter.section("Fields of rules"):
            formatter.write_text(", ".join(FIELDS))


_TYPES = {"str": "TEXT", "int": "NUMBER", "float": "NUMBER", "path": "FILE"}


def _told(argument: Any) -> str:
    """An argument as a person reads it: in brackets where it may be left out, with … where there may be several."""
    name = str(argument.metavar or argument.name).strip("[]")
    several = " …" if argument.nargs != 1 and "…" not in name else ""
    return f"{name}{several}" if argument.required else f"[{name}{several}]"


def _write_usage(command: Any, ctx: Any, formatter: Any) -> None:
    """The line of usage: options, then each argument."""
    words = [_told(param) for param in command.get_params(ctx) if param.param_type_name == "argument"]
    formatter.write_usage(ctx.command_path, " ".join(["[OPTIONS]", *words]))


def _write_examples(formatter: Any, path: str) -> None:
    text = resources.files("zoompick.cli").joinpath("data/examples.json").read_text(encoding="utf-8")
    with formatter.section("Examples"):
        for line in json.loads(text)[path]:
            formatter.write(f"{'':{formatter.current_indent}}{line}\n")


def _meant(whole: typer.Typer, args: list[str]) -> typer.Typer:
    """A group of only that command which the words mean, where they mean one."""
    every = {str(info.name): info for info in whole.registered_commands}
    cls: Any = whole.info.cls
    name = cls.meant(args, set(every)) if hasattr(cls, "meant") else args[0] if args else ""
    if name not in every:
        return whole
    part = group(whole.info.cls, str(whole.info.help))
    part.registered_callback = whole.registered_callback
    part.registered_commands = [every[name]]
    return part


def group(cls: type[TyperGroup] | None = None, text: str = "") -> typer.Typer:
    """A group in the house's manner."""
    return typer.Typer(
        cls=cls or Group, help=text, no_args_is_help=cls is None, rich_markup_mode=None, add_completion=False
    )
