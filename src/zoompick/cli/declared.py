"""Options of a command out of the rules of its product: one for each field, as the brief knows it."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from typing import Annotated, Any, get_type_hints

import typer

from zoompick.cli import known
from zoompick.errors import UsageError
from zoompick.jsontypes import JsonObject
from zoompick.products.rules import Row, Rules


def grouped(command: Callable[..., Any]) -> Callable[..., Any]:
    """A command whose parameters that are groups of options (:class:`~zoompick.cli.options.Place`) become those."""
    own = inspect.signature(command, eval_str=True).parameters
    groups = {name: param.annotation for name, param in own.items() if hasattr(param.annotation, "_field_defaults")}
    params: list[inspect.Parameter] = []
    for name, param in own.items():
        params += _fields(groups[name]) if name in groups else [param.replace(kind=inspect.Parameter.KEYWORD_ONLY)]

    def run(**values: Any) -> object:
        made = {name: kind(**{one: values.pop(one) for one in kind._fields}) for name, kind in groups.items()}
        return command(**made, **values)

    return as_told(run, command, params)


def _fields(group: Any) -> list[inspect.Parameter]:
    kinds = get_type_hints(group, include_extras=True)
    return [
        inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=kinds[name])
        for name, default in group._field_defaults.items()
    ]


def as_told(
    run: Callable[..., Any], command: Callable[..., Any], params: Sequence[inspect.Parameter]
) -> Callable[..., Any]:
    """A command with these options in place of its own parameters."""
    run.__doc__ = command.__doc__
    run.__signature__ = inspect.Signature(params)  # type: ignore[attr-defined]
    run.__annotations__ = {param.name: param.annotation for param in params}
    return run


def with_rules(kind: type[Rules], *but: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """A command whose parameter ``rules`` becomes options of its own; ``told``, where it has one, those given.

    Parameters
    ----------
    but : str
        Fields that mean nothing to it.
    """
    rows = [row for row in kind.rows() if row.option and row.field not in but]

    def declared(command: Callable[..., Any]) -> Callable[..., Any]:
        own = inspect.signature(command, eval_str=True).parameters
        params: list[inspect.Parameter] = []
        for name, param in own.items():
            if name == "rules":
                params += [_option(row, kind.section) for row in rows]
            elif name != "told":
                params.append(param.replace(kind=inspect.Parameter.KEYWORD_ONLY))

        def run(**values: Any) -> object:
            given = {row.field: _read(row, values.pop(row.field)) for row in rows if values[row.field] is not None}
            others = {name: value for name, value in values.items() if name in own}
            more = {"told": given} if "told" in own else {}
            return command(rules=kind.from_values(given), **others, **more)

        return as_told(run, command, params)

    return declared


def _option(row: Row, section: str) -> inspect.Parameter:
    is_flag = not row.value.metavar
    told: JsonObject = {} if is_flag else {"metavar": row.value.metavar, "autocompletion": _offer(row, section)}
    info = typer.Option(f"--{row.option}", help=_words(row), show_default=False, **told)
    return inspect.Parameter(
        row.field, inspect.Parameter.KEYWORD_ONLY, default=None,
        annotation=Annotated[bool | None if is_flag else str | None, info],
    )  # fmt: skip


def _words(row: Row) -> str:
    """The sentence of an option; its default behind it."""
    is_value = row.words.partition(" ")[0].strip(",") in row.value.offer
    words = row.words if is_value else f"{row.words[:1].upper()}{row.words[1:]}"
    if row.value.metavar == "DISTANCE":
        words += ": 50m"
    default = _default(row)
    return f"{words}. [{default}]" if default else f"{words}."


def _default(row: Row) -> str:
    """The default as a person would type it; what does nothing is not told."""
    if not row.default:
        return ""
    if isinstance(row.default, list):
        return ",".join(f"{one:g}" if isinstance(one, float) else str(one) for one in row.default)
    return f"{row.default:g}" if isinstance(row.default, float) else str(row.default)


def _offer(row: Row, section: str) -> known.Offer:
    if row.field == "recipes":
        return known.recipes(section)
    if row.value.metavar == "BAND":
        return known.bands
    words = known.one_of(*row.value.offer)
    return known.in_list(words) if row.value.metavar in ("A,B", "WAYS") else words


def _read(row: Row, words: Any) -> Any:
    if isinstance(words, bool):
        return words
    try:
        return row.value(row.value.typed(words))
    except UsageError as error:
        raise UsageError(f"--{row.option} '{words}' cannot be used.", str(error)) from error
