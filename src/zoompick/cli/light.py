"""Plain values of options are taken as they are, so that a command that gets no other starts at once.

Typer converts every value by way of a library that takes longer to load than most commands take to answer; it is
asked here only for what is no plain text, number or flag. Where Typer changes its ways, nothing is spared.
"""

from __future__ import annotations

from typing import Any

_PLAIN = (str, int, float, bool)


def lighten(command: Any) -> Any:
    """Make a command, and all below it, spare what it can; returns it."""
    given = command.get_params

    def get_params(ctx: Any) -> list[Any]:
        params: list[Any] = given(ctx)
        for param in params:
            if hasattr(param, "get_runtime_param") and hasattr(param, "type_descriptor"):
                coercion = _Coercion(param)
                param.get_runtime_param = lambda coercion=coercion: coercion
        return params

    command.get_params = get_params
    for below in getattr(command, "commands", {}).values():
        lighten(below)
    return command


class _Coercion:
    """Stands in front of a parameter's own coercion."""

    def __init__(self, param: Any) -> None:
        self._is_many = param.multiple or param.nargs == -1
        self._annotation = param.type_descriptor.annotation

    def coerce(self, value: Any, param: Any, ctx: Any) -> Any:
        """The value: what is of its type already, or was not given, needs no library."""
        if value is None:
            return () if self._is_many else None
        if isinstance(value, str) and param.metavar == "PERCENT":
            value = value.strip().removesuffix("%")
        if self._annotation in _PLAIN and type(value) is self._annotation:
            return value
        return type(param).get_runtime_param(param).coerce(value, param=param, ctx=ctx)
