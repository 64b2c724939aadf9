"""The search: its options, the brief behind them, and what comes back."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from zoompick.cli import exits, options
from zoompick.cli.scenes import counts, put_out, show_scenes

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.catalog.criteria import Criteria
    from zoompick.catalog.sources import Source
    from zoompick.study.folder import Study

_SCENE, _OUT = "What a scene must be", "What comes back"


def _limit(flag: str, unit: str, text: str) -> Any:
    return typer.Option(flag, metavar=unit, help=text, rich_help_panel=_SCENE)


def _names(flag: str, text: str) -> Any:
    return typer.Option(flag, metavar="NAME", help=text, rich_help_panel=_SCENE)


def search(
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    dates: options.Dates = None,
    cloud: options.Cloud = None,
    collection: options.Collections = None,
    source: options.SourceNames = None,
    cover: Annotated[float, _limit("--cover", "PERCENT", "Share of the area a scene covers, at least.")] = 0,
    cloud_area: Annotated[
        float | None, _limit("--cloud-area", "PERCENT", "Cloud inside the area, at most; read from the class layers.")
    ] = None,
    cloud_land: Annotated[
        float | None, _limit("--cloud-land", "PERCENT", "Cloud over the scene's land, at most.")
    ] = None,
    season: Annotated[str, _limit("--season", "MONTHS", "Months of any year: dec-feb.")] = "",
    hours: Annotated[str, _limit("--hours", "HH-HH", "Time of day, UTC: 10-13.")] = "",
    published: Annotated[list[str] | None, _limit("--published", "WHEN", "Dates of publication.")] = None,
    sun: Annotated[float | None, _limit("--sun", "DEGREES", "Sun elevation, at least.")] = None,
    off_nadir: Annotated[float | None, _limit("--off-nadir", "DEGREES", "View off nadir, at most.")] = None,
    pixel: Annotated[float | None, _limit("--pixel-max", "METRES", "Pixel size, at most.")] = None,
    platform: Annotated[list[str] | None, _names("--platform", "Satellite; may be given again.")] = None,
    instrument: Annotated[list[str] | None, _names("--instrument", "Instrument; may be given again.")] = None,
    level: Annotated[list[str] | None, _names("--level", "Processing level; may be given again.")] = None,
    access: Annotated[list[str] | None, _names("--access", "open, ask or priced; may be given again.")] = None,
    has: Annotated[str, _limit("--has", "A,B,C", "Bands a scene must have.")] = "",
    all_versions: Annotated[
        bool, typer.Option("--all-versions", help="Reprocessed twins too.", rich_help_panel=_SCENE)
    ] = False,
    inside: Annotated[
        bool, typer.Option("--inside", help="Read the cloud inside the area.", rich_help_panel=_OUT)
    ] = False,
    by_month: Annotated[
        bool, typer.Option("--counts", help="Count scenes per satellite and month.", rich_help_panel=_OUT)
    ] = False,
    form: Annotated[
        str,
        typer.Option("--format", metavar="FORM", help="table, json, csv, geojson, parquet.", rich_help_panel=_OUT),
    ] = "",
    out: options.Out = None,
    as_json: options.Json = False,
) -> int:
    """Search scenes; in a study the brief fills in what is not given here."""
    from zoompick.study.folder import Study

    study = Study.find(Path.cwd())
    given = {
        "cover_min": cover or None, "cloud_land_max": cloud_land, "cloud_area_max": cloud_area,
        "look_inside": inside or None, "season": season, "hours": hours, "published": published, "sun_min_deg": sun,
        "off_nadir_max_deg": off_nadir, "pixel_max_m": pixel, "platforms": platform, "instruments": instrument,
        "levels": level, "access": access, "bands": has, "versions": "all" if all_versions else None,
        "collections": collection, "periods": dates, "cloud_max": cloud,
    }  # fmt: skip
    wanted = _request(study, options.area_given(area, box, around), given, source or [])
    return _carry_out(study, wanted, _Shown("json" if as_json else form, out, by_month))


@dataclass(frozen=True, slots=True)
class _Request:
    sources: list[Source]
    criteria: Criteria


@dataclass(frozen=True, slots=True)
class _Shown:
    form: str
    out: Path | None
    by_month: bool


def _carry_out(study: Study | None, wanted: _Request, shown: _Shown) -> int:
    from zoompick.cli import show
    from zoompick.study.journal import act
    from zoompick.study.scenelist import write_list
    from zoompick.workflow import find

    names = ", ".join(entry.name for entry in wanted.sources)
    with show.progress() as report, act(study.journal_file if study else None, "search", source=names) as doing:
        found = find.search_all(wanted.sources, wanted.criteria, report)
        doing.note(found=len(found.entries))
        if study is not None:
            write_list(study.found_file, found.entries)
    if shown.by_month:
        head, *rows = counts(found.entries)
        show.table([show.Column(head[0]), *(show.Column(name, "right") for name in head[1:])], rows)
    else:
        is_table = not put_out(found.entries, shown.form, shown.out)
        if is_table:
            show_scenes(found.entries)
        show.note(_in_force(wanted.criteria, len(found.entries)))
        if is_table and study is not None:
            show.note("Next: 'zoompick look', 'zoompick pick NUMBER …' or 'zoompick pick --cover'.")
    for problem in found.problems:
        show.error(problem)
    return exits.IN_PART if found.problems else exits.DONE


def _request(study: Study | None, area: Area | None, given: dict[str, Any], sources: list[str]) -> _Request:
    """What is asked: the brief first, then the command line over it, filter by filter."""
    from zoompick.catalog import sources as table
    from zoompick.catalog.criteria import Criteria, cloud_limit
    from zoompick.cli import show
    from zoompick.errors import UsageError

    base: dict[str, Any] = {}
    if study is not None:
        brief = study.brief()
        area = area or study.area()
        base = {"collections": brief.collections, "periods": brief.periods, **brief.filters}
        base["cloud_max"] = cloud_limit(brief.cloud)
        sources = sources or ([brief.source] if brief.source else [])
    own = _checked(given)
    if area is None:
        raise UsageError("There is no area to search.", "Give --area AREA or --box W S E N, or work in a study.")
    for note in area.notes:
        show.note(note)
    criteria = replace(Criteria(area.polygon), **(base | own))
    known = table.known(study.root if study else None)
    if sources == ["all"]:
        sources = sorted(known)
    return _Request([table.named(name, known) for name in sources or [""]], criteria)


def _checked(given: dict[str, Any]) -> dict[str, Any]:
    """Values of the command line, read and checked; what was not given is not among them."""
    from zoompick.catalog.criteria import ACCESS, cloud_limit, percent
    from zoompick.catalog.period import Hours, Period, Season
    from zoompick.errors import UnknownNameError, UsageError

    for name in given["access"] or ():
        if name not in ACCESS:
            raise UnknownNameError.of("access class", name, ACCESS)
    if given["pixel_max_m"] is not None and given["pixel_max_m"] <= 0:
        raise UsageError(f"The pixel size {given['pixel_max_m']:g} is not above 0.", "As --pixel-max 10.")
    readers: dict[str, Any] = {
        "cover_min": lambda value: percent(value, "share of the area"),
        "cloud_max": cloud_limit,
        "cloud_land_max": cloud_limit,
        "cloud_area_max": lambda value: percent(value, "cloud limit"),
        "season": Season.parse,
        "hours": Hours.parse,
        "periods": lambda values: tuple(Period.parse(text) for text in values),
        "published": lambda values: tuple(Period.parse(text) for text in values),
        "bands": options.names,
    }
    kept = {key: value for key, value in given.items() if value not in (None, "", [])}
    return {
        key: readers[key](value) if key in readers else tuple(value) if isinstance(value, list) else value
        for key, value in kept.items()
    }


def _in_force(criteria: Criteria, count: int) -> str:
    limits = criteria.in_force()
    return f"{count} scene{'' if count == 1 else 's'} found" + (f"; {', '.join(limits)}." if limits else ".")
