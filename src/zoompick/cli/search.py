"""The search: its options come out of the table of filters; a study's brief fills in what is not given."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from zoompick.cli import elsewhere, exits, known, options, show
from zoompick.cli.declared import as_told, grouped
from zoompick.cli.scenes import counts, form_of, put_out, show_scenes
from zoompick.discovery import find
from zoompick.discovery.criteria import Criteria
from zoompick.discovery.filters import ACCESS, ROWS, SORTS, Row
from zoompick.errors import UsageError
from zoompick.files import refuse_existing
from zoompick.journal import act
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.scenes import sources as table
from zoompick.scenes.scenelist import write_list
from zoompick.study import lastsearch
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.scenes.source import Source

_SCENE, _OUT = "What a scene must be", "What comes back"
_TYPES: JsonObject = {"PERCENT": float | None, "DEGREES": float | None, "METRES": float | None, "": bool,
                          "COUNT": int | None}  # fmt: skip
_OFFERED = {
    "collection": known.collections, "has": known.in_list(known.bands), "sort": known.one_of(*SORTS),
    "unknown-cloud": known.one_of("keep", "drop"), "access": known.one_of(*ACCESS),
}  # fmt: skip


def _option(row: Row) -> inspect.Parameter:
    """The option of a filter; not given, it is None, False or empty."""
    kind = list[str] | None if row.repeats else _TYPES.get(row.unit, str)
    default = False if kind is bool else "" if kind is str else None
    told: JsonObject = {"metavar": row.unit} if row.unit else {}
    if row.unit == "PERCENT":
        told["parser"] = options.percent(f"value of --{row.option}")
    if row.option in _OFFERED:
        told["autocompletion"] = _OFFERED[row.option]
    panel = None if row.is_basic else _SCENE
    info = typer.Option(f"--{row.option}", help=row.help, rich_help_panel=panel, **told)
    return inspect.Parameter(
        row.field, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=Annotated[kind, info]
    )


def with_filters(command: Callable[..., Any]) -> Callable[..., Any]:
    """A command whose ``filters`` are options of its own: one for every filter that has one, in the table's order."""
    own = inspect.signature(command, eval_str=True)
    given = [_option(row) for row in ROWS if row.option]
    basic = [param for param, row in zip(given, (r for r in ROWS if r.option), strict=True) if row.is_basic]
    first = [param for name, param in own.parameters.items() if name in ("area", "box", "around")]
    rest = [p for name, p in own.parameters.items() if name not in ("area", "box", "around", "filters")]
    params = [p.replace(kind=inspect.Parameter.KEYWORD_ONLY) for p in first] + basic
    params += [p for p in given if p not in basic] + [p.replace(kind=inspect.Parameter.KEYWORD_ONLY) for p in rest]
    names = {param.name for param in given}

    def run(**values: object) -> object:
        filters = {name: value for name, value in values.items() if name in names}
        return command(filters=filters, **{name: value for name, value in values.items() if name not in names})

    return as_told(run, command, params)


@with_filters
@grouped
def search(
    filters: JsonMap,
    place: options.Place = options.NOWHERE,
    source: options.SourceNames = None,
    by_month: Annotated[
        bool, typer.Option("--counts", help="Count scenes per platform and month.", rich_help_panel=_OUT)
    ] = False,
    form: Annotated[
        str,
        typer.Option(
            "--format",
            metavar="FORM",
            help="table, json, csv, geojson, parquet.",
            rich_help_panel=_OUT,
            autocompletion=known.one_of("table", "json", "csv", "geojson", "parquet"),
        ),
    ] = "",
    out: options.Out = None,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
    cluster: elsewhere.Where = "",
) -> int:
    """Search scenes; in a study the brief fills in what is not given here."""
    if out is not None:
        form = form or form_of(out)
        refuse_existing([out], overwrite)
    if by_month and form not in ("", "table", "json"):
        raise UsageError(f"Counts are not written as {form}.", "As a table, or with --json.")
    study = Study.find(Path.cwd())
    given = place.area()
    wanted = _request(study, given, filters, source or [])
    return _carry_out(study, wanted, given is None, _Shown("json" if as_json else form, out, overwrite, by_month))


@dataclass(frozen=True, slots=True)
class _Request:
    sources: list[Source]
    criteria: Criteria


@dataclass(frozen=True, slots=True)
class _Shown:
    form: str
    out: Path | None
    overwrite: bool
    by_month: bool


def _carry_out(study: Study | None, wanted: _Request, own_area: bool, shown: _Shown) -> int:
    names = ", ".join(entry.name for entry in wanted.sources)
    journal = study.journal_file if study else None
    marked = lastsearch.searching(study, wanted.sources, own_area) if study else nullcontext()
    with show.progress() as report, act(journal, "search", source=names) as doing, marked:
        found = find.search_all(wanted.sources, wanted.criteria, report)
        doing.note(found=len(found.entries))
        if study is not None:
            write_list(study.found_file, found.entries)
    if shown.by_month:
        head, *rows = counts(found.entries)
        if shown.form == "json":
            show.as_json([dict(zip(head, row, strict=True)) for row in rows])
        else:
            show.table([show.Column(head[0]), *(show.Column(name, "right") for name in head[1:])], rows)
    else:
        is_table = not put_out(found.entries, shown.form, shown.out, shown.overwrite)
        if is_table:
            show_scenes(found.entries)
        show.note(_in_force(wanted.criteria, len(found.entries)))
        if is_table and study is not None:
            show.note("Next: 'zoompick look', 'zoompick pick NUMBER …' or 'zoompick pick --cover'.")
    for problem in found.problems:
        show.error(problem)
    return exits.IN_PART if found.problems else exits.DONE


def _request(study: Study | None, area: Area | None, given: JsonMap, sources: Sequence[str]) -> _Request:
    """What is asked: the brief first, then the command line over it, filter by filter."""
    base = Criteria()
    if study is not None:
        brief = study.brief()
        base, area = brief.search, area or study.area()
        sources = sources or ([brief.source] if brief.source else [])
    criteria = base.with_given(given)
    if area is None:
        raise UsageError("There is no area to search.", "Give --area AREA or --box W S E N, or work in a study.")
    for note in area.notes:
        show.note(note)
    known = table.known(study.root if study else None)
    if list(sources) == ["all"]:
        sources = sorted(known)
    return _Request([table.named(name, known) for name in sources or [""]], replace(criteria, area=area.polygon))


def _in_force(criteria: Criteria, count: int) -> str:
    limits = criteria.in_force()
    return f"{count} scene{'' if count == 1 else 's'} found" + (f"; {', '.join(limits)}." if limits else ".")
