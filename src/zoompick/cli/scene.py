"""Looking closely before anything is loaded: one scene's facts, the calendar, pictures."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from zoompick.cli import facts, known, options, show
from zoompick.cli.declared import grouped
from zoompick.cli.halfblocks import half_blocks
from zoompick.cli.months import by_day, by_month
from zoompick.cli.piped import piped_scenes
from zoompick.discovery import agenda, clouds, find
from zoompick.discovery.find import cost_words
from zoompick.discovery.look import pictures
from zoompick.discovery.passes import next_passes
from zoompick.discovery.rules import names_numbers, select
from zoompick.errors import NothingFoundError, StudyError, UsageError, ZoomPickError
from zoompick.figures.calendar import calendar_picture
from zoompick.figures.maps import Outline, footprint_map
from zoompick.figures.sheets import Cell, contact_sheet
from zoompick.files import free_name, human_bytes
from zoompick.scenes import sources
from zoompick.scenes.scenelist import read_list
from zoompick.study import lastsearch
from zoompick.study.folder import Study
from zoompick.study.session import session_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    from zoompick.area.model import Area
    from zoompick.discovery.look import Picture
    from zoompick.scenes.scenelist import Entry

Chosen = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[NUMBER|RANGE|ID|RULE …]",
        help="Of the last search; '-' reads an ItemCollection. All by default.",
        autocompletion=known.found_scenes,
    ),
]
Picked = Annotated[bool, typer.Option("--picked", help="Of the shortlist in place of the last search.")]


class _Chosen(NamedTuple):
    """Scenes by words out of a list, each with its number there."""

    study: Study | None
    entries: list[Entry]
    numbers: list[int]

    def first(self, most: int) -> _Chosen:
        """So many of them at most."""
        return self._replace(entries=self.entries[:most], numbers=self.numbers[:most])


def _chosen(words: Sequence[str], picked: bool) -> _Chosen:
    """Scenes out of the last search, the shortlist or a pipe."""
    study = Study.find(Path.cwd())
    if list(words) == ["-"]:
        piped = piped_scenes()
        return _Chosen(study, piped, list(range(1, len(piped) + 1)))
    if study is None:
        raise StudyError("There is no study here, so there is no search to look at.",
                         "Pipe scenes in: 'zoompick search … --json | zoompick look -'.")  # fmt: skip
    found = read_list(study.shortlist_file if picked else study.found_file)
    what = "the shortlist" if picked else "the last search"
    if not found:
        raise NothingFoundError(f"{what.capitalize()} is empty.", "Give 'zoompick search' first.")
    reason = lastsearch.stale(study) if words and not picked and names_numbers(words) else ""
    if reason:
        raise StudyError(f"Numbers mean nothing now: {reason}.", "Search again: 'zoompick search'.")
    places = {entry.scene.key: number for number, entry in enumerate(found, 1)}
    entries = select(found, words, what) if words else found
    return _Chosen(study, entries, [places[entry.scene.key] for entry in entries])


def scene(
    which: Annotated[
        str,
        typer.Argument(
            metavar="NUMBER|ID",
            help="Of the last search; '-' reads an ItemCollection.",
            autocompletion=known.found_scenes,
        ),
    ],
    picked: Picked = False,
    inside: Annotated[bool, typer.Option("--inside", help="Read the cloud inside the area.")] = False,
    as_json: options.Json = False,
) -> None:
    """Tell all about one scene: when, where, cloud, rights, bands, its name, next passes."""
    study, chosen, _ = _chosen([which], picked)
    entry = chosen[0]
    area = study.area() if study and study.area_file.exists() else None
    if inside and area is not None:
        entry = _with_inside(study, entry, area)
    if as_json:
        show.as_json(entry.to_item())
        return
    for label, text in facts.of_scene(entry.scene, area, entry.cloud_area_percent):
        show.line(f"{label:<11} {text}")
    show.line()
    columns = [show.Column("band"), show.Column("µm", "right"), show.Column("pixel m", "right")]
    columns += [show.Column("size", "right"), show.Column("state")]
    show.table(columns, facts.band_rows(entry.scene))
    parts = facts.name_parts(entry.scene)
    if parts:
        show.line()
        show.line("what its name says")
    for name, text, meaning in parts:
        show.line(f"{text:<11} {name}: {meaning}")
    _passes(study, entry)


def _with_inside(study: Study | None, entry: Entry, area: Area) -> Entry:
    with show.progress() as report:
        looked = clouds.look_inside([entry.scene], area.polygon, session_of(study, report), report)
    show.note(cost_words(looked))
    for sentence in looked.problems():
        show.note(sentence)
    return entry.with_inside(looked.inside[entry.scene.key])


def _passes(study: Study | None, entry: Entry) -> None:
    """The next passes of the same satellite, from all that its source has over the area."""
    if study is None or not study.area_file.exists():
        return
    known = sources.known(study.root)
    if entry.scene.source not in known:
        return
    try:
        with show.progress() as report:
            source, area = known[entry.scene.source], study.area().polygon
            others = find.passes_over(source, area, entry.scene.collection, report)
    except ZoomPickError as problem:
        show.note(f"No estimate of the next passes: {problem.what}")
        return
    likely = next_passes(entry.scene, others, datetime.now(UTC))
    if likely is not None:
        show.line()
        basis = f"an estimate: every {likely.revisit_days:g} days, from {likely.observed} passes seen"
        show.line(f"next passes {', '.join(likely.days)} ({basis})")


def calendar(
    which: Chosen = None,
    picked: Picked = False,
    days: Annotated[bool, typer.Option("--days", help="Each day, in place of months.")] = False,
    picture: Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Draw it (PNG).")] = None,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
) -> None:
    """Show when there are scenes and how cloudy, by months or days; gaps show at once."""
    if picture is not None:
        options.png(picture, overwrite)
    entries = _chosen(which or [], picked).entries
    found = agenda.of_days(entries) if days else agenda.of_months(entries)
    if as_json:
        show.as_json(found.to_json())
    else:
        head, *rows = by_day(found) if days else by_month(found)
        columns = [show.Column(head[0]), *(show.Column(name, "left" if days else "right") for name in head[1:])]
        show.table(columns, rows)
        for line in found.notes:
            show.line(line)
        show.note("Scenes, and the least cloud among them in percent; · is a gap." if not days else
                  "The tens of the least cloud of each day, 0 for clear; · is a day without a scene.")  # fmt: skip
    if picture is not None:
        calendar_picture(agenda.marks(entries), f"{len(entries)} scenes by day and cloud", picture)
        show.note(f"Drawn in {picture}.")


Bands = Annotated[
    str,
    typer.Option(
        "--bands",
        metavar="R,G,B",
        help="Three bands (or one) of the area, in place of quicklooks.",
        autocompletion=known.in_list(known.bands),
    ),
]
Out = Annotated[
    Path | None,
    typer.Option("--out", metavar="FILE", help="Picture to write (PNG); look.png or map.png by default."),
]
Footprints = Annotated[
    bool, typer.Option("--map", help="Draw the footprints over the area in place of a contact sheet.")
]
Terminal = Annotated[bool, typer.Option("--terminal", help="Show in this terminal instead, in colour.")]
Most = Annotated[int, typer.Option("--limit", metavar="SCENES", help="So many pictures at most.")]


@grouped
def look(
    which: Chosen = None,
    picked: Picked = False,
    bands: Bands = "",
    place: options.Place = options.NOWHERE,
    out: Out = None,
    footprints: Footprints = False,
    terminal: Terminal = False,
    most: Most = 60,
    overwrite: options.Overwrite = False,
) -> None:
    """Look before loading: contact sheets, any bands, maps of footprints, in a terminal."""
    if out is not None:
        options.png(out, overwrite)
    named = options.names(bands)
    if named and len(named) not in (1, 3):
        raise UsageError(
            f"{len(named)} bands make no picture.", "Give three for red, green and blue, or one for grey."
        )
    chosen = _chosen(which or [], picked)
    study = chosen.study
    given = place.area()
    if given is None and study is not None and study.area_file.exists():
        given = study.area()
    if named and given is None:
        raise UsageError("--bands shows the area, and there is none.", "Give --area AREA, or work in a study.")
    shown = chosen.first(max(1, most))
    if footprints:
        _draw_map(shown, given, out or free_name(Path("map.png")))
        return
    pictures = _fetch(study, shown.entries, named, given)
    if terminal:
        for number, entry, picture in zip(shown.numbers, shown.entries, pictures, strict=True):
            _in_terminal(number, entry, picture)
    else:
        _draw_sheet(shown, pictures, named, given, out or free_name(Path("look.png")))
    if len(chosen.entries) > len(shown.entries):
        show.note(f"{len(chosen.entries) - len(shown.entries)} more scenes were left out; --most shows more.")


def _fetch(study: Study | None, entries: list[Entry], bands: tuple[str, ...], area: Area | None) -> Sequence[Picture]:
    with show.progress() as report:
        found = pictures(entries, bands, area.polygon if area else None, report, session_of(study, report))
    asked = show.counted(found.requests, "request")
    show.note(f"{show.counted(len(entries), 'picture')}: {asked}, {human_bytes(found.received_bytes)}.")
    for entry, picture in zip(entries, found.pictures, strict=True):
        if picture.note:
            show.note(f"{entry.scene.id}: {picture.note}")
    return found.pictures


def _draw_map(shown: _Chosen, area: Area | None, path: Path) -> None:
    if area is None:
        raise UsageError("There is no area to draw the footprints over.", "Give --area AREA, or work in a study.")
    outlines = [
        Outline(e.scene.footprint, str(n), e.scene.cloud_percent, e.cover_percent)
        for n, e in zip(shown.numbers, shown.entries, strict=True)
        if e.scene.has_footprint()
    ]
    footprint_map(area, outlines, f"{len(outlines)} footprints over {area.name}", path)
    show.note(f"Drawn in {path}.")


def _draw_sheet(
    shown: _Chosen, pictures: Sequence[Picture], bands: tuple[str, ...], area: Area | None, path: Path
) -> None:
    cells = []
    for number, entry, picture in zip(shown.numbers, shown.entries, pictures, strict=True):
        scene = entry.scene
        first = f"{number}  {scene.day}  {scene.platform}"
        footprint = scene.footprint if scene.has_footprint() else None
        cells.append(Cell(picture.pixels, picture.crs, picture.bounds, first, _figures(entry), footprint))
    what = f"{' '.join(bands)} over {area.name}" if bands and area else f"over {area.name}" if area else ""
    contact_sheet(cells, area.polygon if area else None, f"{len(cells)} scenes {what}".strip(), path)
    show.note(f"Drawn in {path}.")


def _figures(entry: Entry) -> str:
    scene = entry.scene
    cloud = "cloud ?" if scene.cloud_percent is None else f"cloud {scene.cloud_percent:.0f} %"
    inside = "" if entry.cloud_area_percent is None else f" (in area {entry.cloud_area_percent:.0f} %)"
    return f"{scene.tile}  {cloud}{inside}  cover {entry.cover_percent:.0f} %".strip()


def _in_terminal(number: int, entry: Entry, picture: Picture) -> None:
    show.line(f"{number}  {entry.scene.day}  {entry.scene.platform}  {_figures(entry)}")
    for line in half_blocks(picture, min(76, shutil.get_terminal_size().columns - 2)):
        show.line(line)
