"""What is wrong with the words of a command line, said in our words: the parser's own never reach a person."""

from __future__ import annotations

import re
from typing import Any

import typer

from zoompick.errors import UsageError

_NOT = {
    "int_parsing": "is no whole number", "int_from_float": "is no whole number", "float_parsing": "is no number",
    "bool_parsing": "is neither true nor false",
}  # fmt: skip
_BOUNDS = {"ge": "at least", "gt": "more than", "le": "at most", "lt": "less than"}


def of_line(problem: typer.TyperException) -> UsageError:
    """What the parser of the command line says, as an error of ours."""
    context = getattr(problem, "ctx", None)
    path = context.command_path if context else "zoompick"
    what, hint = _said(problem, type(problem).__name__)
    return UsageError(what, f"{hint}'{path} --help' tells what it takes.")


def _said(problem: Any, kind: str) -> tuple[str, str]:
    match kind:
        case "NoSuchOption":
            near = problem.possibilities or ()
            hint = f"Did you mean {' or '.join(near)}? " if near else ""
            return f"There is no option {problem.option_name}.", hint
        case "MissingParameter":
            return f"{_named(problem.param)} is missing.", ""
        case "BadParameter":
            return _unusable(problem), ""
        case "BadOptionUsage":
            count = re.search(r"requires (\d+)", str(problem.message))
            return f"{problem.option_name} needs {f'{count[1]} values' if count else 'a value'} after it.", ""
        case _:
            found = re.search(r"\(([^()]*)\)$", str(problem.message))
            return f"'{found[1]}' is more than the command takes." if found else "The command is not whole.", ""


def _named(param: Any) -> str:
    """A parameter as a person types it."""
    if param is None:
        return "A value"
    return param.opts[0] if param.param_type_name == "option" else str(param.metavar or param.name).strip("[]")


def _unusable(problem: Any) -> str:
    """Why a value is refused."""
    details: list[Any] = getattr(problem.__cause__, "errors", list)()
    if not details:
        return f"The value of {_named(problem.param)} cannot be used."
    first = details[0]
    value, told = f"'{first['input']}'", first.get("ctx", {})
    bound = next((f"must be {words} {told[key]}" for key, words in _BOUNDS.items() if key in told), "")
    return f"{value} {_NOT.get(first['type']) or bound or 'cannot be used'}: {_named(problem.param)}."
