"""Commands that find scenes: source, search, pick."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import options
from zoompick.cli.groups import defaulting, group

if TYPE_CHECKING:
    from collections.abc import Sequence

    from zoompick.area.model import Area
    from zoompick.catalog.criteria import Criteria
    from zoompick.catalog.sources import Source
    from zoompick.study.folder import Study
    from zoompick.study.scenelist import Entry

source = group(text="Sources of scenes: add, list, show.")
pick = group(defaulting("add", "list"), "The shortlist: pick scenes by number or id, drop, list.")


@source.command("add")
def source_add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="Name to call it by.")],
    url: Annotated[str, typer.Argument(metavar="URL", help="Landing page of a STAC API.")],
    here: Annotated[bool, typer.Option("--here", help="Keep it in this study only.")] = False,
) -> None:
    """Add a source, or change the address of one."""
    from zoompick.catalog import sources
    from zoompick.cli import show
    from zoompick.study.folder import Study
    from zoompick.study.journal import act

    study = Study.need(Path.cwd()) if here else None
    path = sources.sources_file(study.root if study else None)
    with act(study.journal_file if study else None, "source add", source=name, url=url):
        replaced = sources.add(sources.Source.checked(name, url), path)
    where = "for this study" if here else "for all studies"
    show.note(f"{'Changed' if replaced else 'Added'} the source {name} {where}.")


def _known_sources() -> dict[str, Source]:
    from zoompick.catalog import sources
    from zoompick.study.folder import Study

    study = Study.find(Path.cwd())
    return sources.known(study.root if study else None)


@source.command("list")
def source_list(as_json: options.Json = False) -> None:
    """List the sources known here."""
    from dataclasses import asdict

    from zoompick.cli import show

    found = _known_sources()
    if as_json:
        show.as_json([asdict(entry) for entry in found.values()])
    elif found:
        columns = [show.Column("name"), show.Column("kind"), show.Column("address", flexible=True)]
        show.table(columns, [[entry.name, entry.kind, entry.url] for entry in found.values()])
    else:
        show.note("No source is known yet. Add one: zoompick source add NAME URL.")


@source.command("show")
def source_show(
    name: Annotated[str, typer.Argument(metavar="[NAME]", help="Source; the only one by default.")] = "",
    as_json: options.Json = False,
) -> None:
    """Ask a source what it has: collections, dates, bands."""
    from zoompick.catalog import sources
    from zoompick.catalog.stac import StacApi
    from zoompick.cli import show
    from zoompick.net.client import Client

    found = sources.named(name, _known_sources())
    with show.progress() as report:
        api = StacApi(found.url, Client(report))
        title, collections = str(api.landing.get("title") or found.name), api.collections()
    if as_json:
        show.as_json({"name": found.name, "url": found.url, "title": title, "collections": collections})
        return
    show.line(f"{found.name}: {title}, {found.url}")
    for entry in collections:
        show.line()
        show.line(f"{entry.get('id')}: {entry.get('title') or ''}")
        for label, text in _collection_facts(entry):
            show.line(f"  {label:<10} {text}")


def _collection_facts(entry: dict[str, object]) -> list[tuple[str, str]]:
    extent: dict[str, dict[str, list[list[object]]]] = entry.get("extent") or {}  # type: ignore[assignment]
    summaries: dict[str, list[object]] = entry.get("summaries") or {}  # type: ignore[assignment]
    boxes = (extent.get("spatial") or {}).get("bbox") or []
    times = (extent.get("temporal") or {}).get("interval") or []
    facts = [("dates", " to ".join(str(end)[:10] if end else "now" for end in times[0]))] if times else []
    if boxes:
        facts.append(("where", "west {}, south {}, east {}, north {}".format(*boxes[0][:4])))
    for key, label in (("platform", "platforms"), ("gsd", "pixels (m)")):
        if isinstance(summaries.get(key), list):
            facts.append((label, ", ".join(map(str, summaries[key]))))
    assets = entry.get("item_assets")
    if isinstance(assets, dict):
        facts.append(("bands", ", ".join(assets)))
    if entry.get("license"):
        facts.append(("licence", str(entry["license"])))
    return facts


def search(
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    dates: options.Dates = None,
    cloud: options.Cloud = None,
    cover: Annotated[
        float, typer.Option("--cover", metavar="PERCENT", help="Share of the area a scene covers, at least.")
    ] = 0,
    collection: options.Collections = None,
    source: options.SourceName = "",
    as_json: options.Json = False,
) -> None:
    """Search scenes; in a study the brief fills in what is not given here."""
    from zoompick.cli import show
    from zoompick.study.folder import Study
    from zoompick.study.journal import act
    from zoompick.study.scenelist import to_collection, write_list
    from zoompick.workflow import find

    study = Study.find(Path.cwd())
    found_source, criteria = _request(
        study, options.area_given(area, box, around), dates, cloud, cover, collection, source
    )
    journal = study.journal_file if study else None
    with show.progress() as report, act(journal, "search", source=found_source.name) as doing:
        entries = find.search(found_source, criteria, report)
        doing.note(found=len(entries))
        if study is not None:
            write_list(study.found_file, entries)
    if as_json:
        show.as_json(to_collection(entries))
    else:
        show_scenes(entries)
        show.note(_in_force(criteria, len(entries)))
        if study is not None:
            show.note("Next: 'zoompick pick NUMBER …', then 'zoompick download'.")


def _request(
    study: Study | None,
    area: Area | None,
    dates: list[str] | None,
    cloud: float | None,
    cover: float,
    collections: list[str] | None,
    source: str,
) -> tuple[Source, Criteria]:
    """What is asked: the command line first, then the brief."""
    from zoompick.catalog import sources
    from zoompick.catalog.criteria import Criteria, Period, percent
    from zoompick.errors import UsageError

    periods = tuple(Period.parse(text) for text in dates or ())
    limit = percent(cloud, "cloud limit") if cloud is not None else None
    least = percent(cover, "share of the area")
    if study is not None:
        brief = study.brief()
        area = area or study.area()
        periods = periods or brief.periods
        limit = brief.cloud if limit is None else limit
        collections = collections or list(brief.collections)
        source = source or brief.source
    if area is None:
        raise UsageError("There is no area to search.", "Give --area FILE or --box W S E N, or work in a study.")
    known = sources.known(study.root if study else None)
    return sources.named(source, known), Criteria(area.polygon, tuple(collections or ()), periods, limit, least)


def _in_force(criteria: Criteria, count: int) -> str:
    limits = []
    if criteria.periods:
        limits.append("dates " + " and ".join(map(str, criteria.periods)))
    if criteria.cloud_max is not None:
        limits.append(f"cloud at most {criteria.cloud_max:g} %")
    if criteria.cover_min:
        limits.append(f"cover at least {criteria.cover_min:g} %")
    if criteria.collections:
        limits.append("in " + ", ".join(criteria.collections))
    return f"{count} scene{'' if count == 1 else 's'} found" + (f"; {', '.join(limits)}." if limits else ".")


def show_scenes(entries: Sequence[Entry], with_id: bool = False) -> None:
    """A table of scenes."""
    from zoompick.cli.show import Column, table
    from zoompick.files import human_bytes

    columns = [Column("no.", "right"), Column("date"), Column("time"), Column("satellite"), Column("tile")]
    columns += [Column("cloud %", "right"), Column("cover %", "right"), Column("size", "right")]
    if with_id:
        columns = [*columns[:2], *columns[5:], Column("id", flexible=True)]
    rows = []
    for number, entry in enumerate(entries, 1):
        scene = entry.scene
        cloud = "?" if scene.cloud_percent is None else f"{scene.cloud_percent:.0f}"
        size = "?" if scene.size is None else human_bytes(scene.size)
        row = [str(number), scene.day, scene.when.strftime("%H:%M"), scene.platform, scene.tile, cloud]
        cover = "<1" if 0 < entry.cover_percent < 0.5 else f"{entry.cover_percent:.0f}"
        row += [cover, size]
        rows.append([*row[:2], *row[5:], scene.id] if with_id else row)
    table(columns, rows)


@pick.command("add")
def pick_add(
    scenes: Annotated[
        list[str],
        typer.Argument(metavar="NUMBER|ID …", help="From the last search; '-' reads an ItemCollection."),
    ],
) -> None:
    """Pick scenes of the last search, by number or id."""
    import json
    import sys

    from zoompick.cli import show
    from zoompick.errors import DataError, NothingFoundError
    from zoompick.study.folder import Study
    from zoompick.study.scenelist import from_collection, read_list, select

    study = Study.need(Path.cwd())
    if scenes == ["-"]:
        try:
            chosen = from_collection(json.load(sys.stdin), "standard input")
        except ValueError as error:
            raise DataError(
                f"Standard input is not JSON: {error}.", "Pipe 'zoompick search --json' into it."
            ) from error
    else:
        found = read_list(study.found_file)
        if not found:
            raise NothingFoundError("Nothing was searched in this study yet.", "Give 'zoompick search' first.")
        chosen = select(found, scenes, "the last search")
    _change_shortlist(study, "pick", chosen, [])
    show.note(f"Picked {', '.join(entry.scene.id for entry in chosen)}.")


@pick.command("drop")
def pick_drop(
    scenes: Annotated[list[str], typer.Argument(metavar="NUMBER|ID …", help="As 'zoompick pick list' shows them.")],
) -> None:
    """Take scenes off the shortlist; their files stay."""
    from zoompick.cli import show
    from zoompick.study.folder import Study
    from zoompick.study.scenelist import select
    from zoompick.workflow.run import shortlist

    study = Study.need(Path.cwd())
    dropped = select(shortlist(study), scenes, "the shortlist")
    _change_shortlist(study, "drop", [], dropped)
    show.note(f"Dropped {', '.join(entry.scene.id for entry in dropped)}.")


def _change_shortlist(study: Study, name: str, add: Sequence[Entry], drop: Sequence[Entry]) -> None:
    """Change the shortlist under the study's lock; from then on it counts as picked by hand."""
    from zoompick.study.journal import act
    from zoompick.workflow.run import BY_HAND, keep_shortlist, shortlist

    gone = {entry.scene.id for entry in drop}
    with study.locked(), act(study.journal_file, name, scenes=[entry.scene.id for entry in (*add, *drop)]):
        kept = {entry.scene.id: entry for entry in (*shortlist(study), *add) if entry.scene.id not in gone}
        entries = sorted(kept.values(), key=lambda entry: (entry.scene.when, -entry.cover_percent))
        keep_shortlist(study, entries, BY_HAND)


@pick.command("list")
def pick_list(as_json: options.Json = False) -> None:
    """List the shortlist."""
    from zoompick.cli import show
    from zoompick.study.folder import Study
    from zoompick.study.scenelist import to_collection
    from zoompick.workflow.run import shortlist

    entries = shortlist(Study.need(Path.cwd()))
    if as_json:
        show.as_json(to_collection(entries))
    elif entries:
        show_scenes(entries, with_id=True)
    else:
        show.note("The shortlist is empty. 'zoompick search', then 'zoompick pick NUMBER …'.")
