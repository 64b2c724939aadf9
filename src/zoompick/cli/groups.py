"""Command groups that are also commands: ``area FILE`` means ``area set FILE``, bare ``area`` means ``area show``."""

from __future__ import annotations

from typing import Any

import typer
from typer.core import TyperGroup


def defaulting(with_words: str, without: str) -> type[TyperGroup]:
    """A group class that runs ``with_words`` when what follows is no command, ``without`` when nothing follows."""

    class Defaulting(TyperGroup):
        """A group with a default command."""

        def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
            """Put the default command in front where none is named."""
            if not args:
                args = [without]
            elif args[0] not in self.commands and args[0] not in ("--help", "-h"):
                args = [with_words, *args]
            return super().parse_args(ctx, args)

    return Defaulting


class InOrder(TyperGroup):
    """The root: commands in the order of the work, groups among them."""

    order: tuple[str, ...] = ()

    def list_commands(self, ctx: Any) -> list[str]:
        """Names in the wished order."""
        return sorted(self.commands, key=self.order.index)


def group(cls: type[TyperGroup] | None = None, text: str = "") -> typer.Typer:
    """A group in the house's manner."""
    return typer.Typer(cls=cls, help=text, no_args_is_help=cls is None, rich_markup_mode=None)
