"""The shortlist: pick scenes by number, rule or cover, drop, tag, note, list, import, export, undo."""

from __future__ import annotations

import csv
import math
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import known, options, show
from zoompick.cli.declared import grouped
from zoompick.cli.groups import defaulting, group
from zoompick.cli.piped import piped_scenes
from zoompick.cli.scenes import put_out, show_scenes
from zoompick.discovery.cover import CoverOptions
from zoompick.discovery.rules import names_numbers, select
from zoompick.errors import DataError, MissingFileError, NothingFoundError, StudyError, UsageError
from zoompick.given import percent
from zoompick.money import Money
from zoompick.outgoing import csv_cell, csv_text
from zoompick.scenes.period import Period
from zoompick.scenes.scenelist import read_list
from zoompick.study import lastsearch
from zoompick.study.choosing import change_shortlist, undo_shortlist
from zoompick.study.folder import Study
from zoompick.study.needs import study_crs
from zoompick.study.shortlist import shortlist

if TYPE_CHECKING:
    from collections.abc import Callable

    from zoompick.discovery.pick import Choice
    from zoompick.scenes.scenelist import Entry

pick = group(
    defaulting("add", "list"),
    "The shortlist: pick, drop, tag, note, list, export, import, undo.\n\n"
    "Pick scenes by number, id, range or rule, or by --cover, --pairs, --clearest-per; "
    "'zoompick pick add --help' lists all options.",
)
_RULES = "rules narrow: 'cloud<=10', 'date>2025-11', 'tile=a or tile=b'"
_HOW, _WISH = "Choose by rule", "What a cover should be like"
Words = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[NUMBER|RANGE|ID|RULE …]",
        help=f"As listed: 3, 2-5, an id; {_RULES}.",
        autocompletion=known.picked_scenes,
    ),
]

Scenes = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[NUMBER|RANGE|ID|RULE …]",
        help=f"From the last search: 3, 2-5, an id; {_RULES}; '-' reads an ItemCollection.",
        autocompletion=known.found_scenes,
    ),
]
Cover = Annotated[
    bool, typer.Option("--cover", help="The scenes that cover the area best together.", rich_help_panel=_HOW)
]
Clearest = Annotated[
    str,
    typer.Option(
        "--clearest-per", metavar="SPAN", help="The clearest of each day, month, year, tile.", rich_help_panel=_HOW
    ),
]
Pairs = Annotated[
    str,
    typer.Option(
        "--pairs", metavar="DATE", help="Propose pairs before and after a day, to --take.", rich_help_panel=_HOW
    ),
]
Take = Annotated[int, typer.Option("--take", metavar="NUMBER", help="Pair to pick.", rich_help_panel=_HOW)]
Near = Annotated[str, typer.Option("--near", metavar="DATE", help="Wished date.", rich_help_panel=_WISH)]
Within = Annotated[
    float | None, typer.Option("--within", metavar="DAYS", help="All within so many days.", rich_help_panel=_WISH)
]
OnePlatform = Annotated[bool, typer.Option("--one-platform", help="All of one platform.", rich_help_panel=_WISH)]
Most = Annotated[
    int | None, typer.Option("--limit", metavar="SCENES", help="So many at most.", rich_help_panel=_WISH)
]
CloudArea = Annotated[
    float | None,
    typer.Option(
        "--cloud-area",
        metavar="PERCENT",
        help="Cloud over each piece of the area, at most.",
        parser=options.percent("cloud limit"),
        rich_help_panel=_WISH,
    ),
]
Look = Annotated[bool, typer.Option("--inside", help="Read the cloud over each piece first.", rich_help_panel=_WISH)]
Weights = Annotated[
    str,
    typer.Option(
        "--weights",
        metavar="S,C,D,P",
        help="Cost of a scene, a percent of cloud, a day off the date, a unit of its price.",
        rich_help_panel=_WISH,
    ),
]
Budget = Annotated[
    str,
    typer.Option(
        "--budget", metavar="MONEY", help="The most ground for so much money: '300 crowns'.", rich_help_panel=_WISH
    ),
]
Instead = Annotated[bool, typer.Option("--instead", help="In place of what is picked already.")]


class Wished(NamedTuple):
    """What counts where scenes are chosen for a cover."""

    near: Near = ""
    within: Within = None
    one_platform: OnePlatform = False
    most: Most = None
    cloud_area: CloudArea = None
    look: Look = False
    weights: Weights = "1,0.05,0.01,0.05"
    budget: Budget = ""


CHEAPEST = Wished()


@pick.command("add")
@grouped
def pick_add(
    scenes: Scenes = None,
    cover: Cover = False,
    clearest: Clearest = "",
    pairs: Pairs = "",
    take: Take = 0,
    wished: Wished = CHEAPEST,
    instead: Instead = False,
) -> None:
    """Pick scenes of the last search, by number, id, range or rule, or let them be chosen."""
    from zoompick.discovery import pick as choose
    from zoompick.scenes.limits import of_orders
    from zoompick.study.session import session_of

    study = Study.need(Path.cwd())
    if sum([bool(scenes), cover, bool(clearest), bool(pairs)]) != 1:
        raise UsageError("Scenes are picked in one way at a time.",
                         "Give numbers, ids or rules, or one of --cover, --clearest-per, --pairs.")  # fmt: skip
    if scenes:
        chosen = choose.Choice(tuple(_named(study, scenes)))
    elif clearest:
        chosen = choose.pick_clearest(_found(study), clearest, study.area().polygon)
    elif pairs:
        chosen = _pair(study, pairs, take)
        if not chosen.entries:
            return
    else:
        chosen = _covering(study, wished)
    change_shortlist(study, chosen.entries, only=instead)
    show.note(f"Picked {', '.join(entry.scene.id for entry in chosen.entries)}.")
    with show.progress() as report:
        told = of_orders([entry.scene for entry in chosen.entries], session_of(study, report))
    for sentence in told:
        show.note(sentence)
    _tell_cover(chosen)


def _covering(study: Study, wished: Wished) -> Choice:
    from zoompick.discovery import pick as choose
    from zoompick.study.session import session_of

    area, budget = study.area(), Money.parse(wished.budget) if wished.budget else None
    wish = replace(_wish(wished), crs=study_crs(study.brief(), area), budget=budget)
    with show.progress() as report:
        is_looked = wished.look or wished.cloud_area is not None
        return choose.pick_cover(_found(study), area.polygon, wish, is_looked, report, session_of(study, report))


def _wish(wished: Wished) -> CoverOptions:
    within, most, cloud = wished.within, wished.most, wished.cloud_area
    try:
        costs = [float(part) for part in wished.weights.split(",")]
    except ValueError:
        costs = []
    if len(costs) not in (3, 4) or not all(0 <= cost < math.inf for cost in costs) or costs[0] <= 0:
        raise UsageError(
            f"The weights '{wished.weights}' cannot be used.",
            "Give three or four, none below 0, the first above: 1,0.05,0.01,0.05.",
        )
    if most is not None and most < 1:
        raise UsageError(f"At most {most} scenes cover nothing.", "Give --limit 1 or more.")
    if within is not None and within < 0:
        raise UsageError(f"{within:g} days are no stretch of time.", "Give --within 0 or more.")
    day = Period.parse(wished.near).start if wished.near else None
    limit = percent(cloud, "cloud limit") if cloud is not None else None
    price_cost = costs[3] if len(costs) == 4 else CoverOptions.price_cost
    return CoverOptions(costs[0], costs[1], costs[2], price_cost, day, wished.one_platform, within, most, limit)


def _tell_cover(chosen: Choice) -> None:
    found = chosen.cover
    if found is None:
        return
    scenes = "1 scene covers" if len(found.scenes) == 1 else f"{len(found.scenes)} scenes cover"
    proof = "proved the cheapest" if found.gap < 1e-9 else f"within {100 * found.gap:.2g} % of the cheapest"
    show.note(f"{scenes} {found.covered_percent:.2f} % of the area for {found.cost:.2f} points, {proof}.")
    if found.reason:
        show.note(f"Not covered: {found.reason}.")


def _pair(study: Study, day: str, take: int) -> Choice:
    from zoompick.discovery import pick as choose

    start = Period.parse(day).start
    if start is None:
        raise UsageError(f"'{day}' is no day.", "As --pairs 2025-09-01.")
    found = choose.propose_pairs(_found(study), start, study.area().polygon)
    if take:
        if not 1 <= take <= len(found):
            raise UsageError(f"There is no pair {take}: {len(found)} were found.", "Look at the list again.")
        by_key = {entry.scene.key: entry for entry in _found(study)}
        pair = found[take - 1]
        return choose.Choice(tuple(by_key[scene.key] for scene in (*pair.before.scenes, *pair.after.scenes)))
    columns = [
        show.Column("no.", "right"),
        show.Column("tile", flexible=True),
        show.Column("before"),
        show.Column("after"),
    ]
    columns += [show.Column(name, "right") for name in ("season days", "sun °", "cloud %")]
    rows = [
        [
            str(n),
            p.before.ground or p.before.scenes[0].id,
            p.before.scenes[0].day,
            p.after.scenes[0].day,
            f"{p.season_days:.0f}",
            f"{p.sun_deg:.1f}",
            f"{p.cloud:.0f}",
        ]
        for n, p in enumerate(found[:20], 1)
    ]
    show.table(columns, rows)
    show.note(f"{len(found)} pairs, the most alike first. Pick one: 'zoompick pick --pairs {day} --take NUMBER'.")
    return choose.Choice(())


def _found(study: Study, by_number: bool = False) -> list[Entry]:
    """The last search; where numbers name its scenes it must still be what the person saw."""
    found = read_list(study.found_file)
    if not found:
        raise NothingFoundError("Nothing was searched in this study yet.", "Give 'zoompick search' first.")
    reason = lastsearch.stale(study)
    if reason and by_number:
        raise StudyError(f"Numbers mean nothing now: {reason}.", "Search again: 'zoompick search'.")
    if reason:
        show.note(f"The last search is old: {reason}. 'zoompick search' searches again.")
    return found


def _named(study: Study, words: list[str]) -> list[Entry]:
    if words == ["-"]:
        return piped_scenes()
    return select(_found(study, names_numbers(words)), words, "the last search")


@pick.command("drop")
def pick_drop(scenes: Words) -> None:
    """Take scenes off the shortlist; their files stay."""
    study = Study.need(Path.cwd())
    dropped = select(shortlist(study), scenes or [], "the shortlist")
    change_shortlist(study, drop=dropped, verb="drop")
    show.note(f"Dropped {', '.join(entry.scene.id for entry in dropped) or 'nothing'}.")


def _mark(words: list[str], name: str, mark: Callable[[Entry], Entry]) -> list[Entry]:
    """Change entries of the shortlist where they stand."""
    study = Study.need(Path.cwd())
    chosen = [mark(entry) for entry in select(shortlist(study), words, "the shortlist")]
    change_shortlist(study, chosen, verb=name)
    return chosen


@pick.command("tag")
def pick_tag(
    tag: Annotated[str, typer.Argument(metavar="TAG", help="A word; with '-' in front it is taken away.")],
    scenes: Words = None,
) -> None:
    """Tag scenes of the shortlist; 'tag=WORD' is a rule that finds them again."""
    word = tag.lstrip("+")

    def mark(entry: Entry) -> Entry:
        tags = [own for own in entry.tags if own != word.lstrip("-")]
        return replace(entry, tags=tuple(tags if word.startswith("-") else [*tags, word]))

    show.note(f"{show.counted(len(_mark(scenes or ['cover>=0'], 'tag', mark)), 'scene')} tagged {word}.")


@pick.command("note")
def pick_note(
    text: Annotated[str, typer.Argument(metavar="TEXT", help="A sentence; empty takes it away.")],
    scenes: Words = None,
) -> None:
    """Write a note on scenes of the shortlist."""
    marked = _mark(scenes or [], "note", lambda entry: replace(entry, note=text))
    show.note(f"{show.counted(len(marked), 'scene')} noted.")


@pick.command("undo")
def pick_undo() -> None:
    """Put the shortlist back as it was before the last change."""
    entries = undo_shortlist(Study.need(Path.cwd()))
    show.note(f"The shortlist has {len(entries)} scenes again.")


@pick.command("export")
def pick_export(
    out: Annotated[Path, typer.Argument(metavar="FILE", help=".json (ItemCollection), .csv or .parquet")],
    overwrite: options.Overwrite = False,
) -> None:
    """Write the shortlist to a file."""
    put_out(shortlist(Study.need(Path.cwd())), "", out, overwrite)


@pick.command("import")
def pick_import(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="An ItemCollection, or a CSV with ids of the search.")],
) -> None:
    """Add the scenes of a file to the shortlist."""
    study = Study.need(Path.cwd())
    if not file.is_file():
        raise MissingFileError.at(file)
    if file.suffix.lower() == ".csv":
        with file.open(newline="", encoding="utf-8-sig") as stream:
            rows = list(csv.DictReader(stream))
        if not rows or "id" not in rows[0]:
            raise DataError(
                f"{file} has no column 'id'.", "Export one to see the form: 'zoompick pick export x.csv'."
            )
        # What is picked already need not be in the last search: an exported list is taken in again.
        entries = list({one.scene.key: one for one in (*_found(study), *shortlist(study))}.values())
        ids = {csv_cell(entry.scene.id): entry.scene.id for entry in entries}
        cells = [row["id"] or "" for row in rows]
        chosen = select(
            entries, [ids.get(cell, csv_text(cell)) for cell in cells], "the last search and the shortlist"
        )
    else:
        chosen = read_list(file)
    change_shortlist(study, chosen, verb="import")
    show.note(f"{show.counted(len(chosen), 'scene')} taken in from {file}.")


@pick.command("list")
def pick_list(
    form: Annotated[str, typer.Option("--format", metavar="FORM", help="table, json, csv, geojson.")] = "",
    as_json: options.Json = False,
) -> None:
    """List the shortlist, and how far each scene is."""
    from zoompick.study.status import state_of

    study = Study.need(Path.cwd())
    entries = shortlist(study)
    if put_out(entries, "json" if as_json else form, None):
        return
    if not entries:
        show.note("The shortlist is empty. 'zoompick search', then 'zoompick pick NUMBER …'.")
        return
    states = {state.entry.scene.key: state.state for state in state_of(study, with_products=False).scenes}
    show_scenes(entries, with_id=True, states=states)
