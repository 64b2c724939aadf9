"""Commands that bring files here: download."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import calling, known, options, show
from zoompick.cli.declared import grouped
from zoompick.cli.piped import piped_scenes
from zoompick.discovery.rules import select
from zoompick.errors import StudyError
from zoompick.fetch import get
from zoompick.files import human_bytes
from zoompick.net.pace import Pace
from zoompick.scenes import fetched as record
from zoompick.study import needs
from zoompick.study.download import look_ahead
from zoompick.study.folder import Study
from zoompick.study.shortlist import shortlist

if TYPE_CHECKING:
    from zoompick.fetch.get import Ready
    from zoompick.scenes.fetchplan import DownloadPlan
    from zoompick.scenes.scene import Scene
    from zoompick.study.download import Downloaded, DownloadRequest

Scenes = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[NUMBER|ID …]",
        help="From the shortlist; '-' reads an ItemCollection. All by default.",
        autocompletion=known.picked_scenes,
    ),
]
Window = Annotated[
    bool | None,
    typer.Option("--window/--whole", help="Only the area's part of each raster, or whole files; the brief says."),
]
Form = Annotated[
    str,
    typer.Option("--file-format", metavar="FORMAT", help="Where bands come in several: geotiff, hdf5, netcdf, jp2."),
]
To = Annotated[Path, typer.Option("--to", metavar="FOLDER", help="Where files go outside a study.")]
LimitRate = Annotated[str, typer.Option("--limit-rate", metavar="RATE", help="Bytes a second at most: 500k, 2MB.")]
Watch = Annotated[
    str, typer.Option("--watch", metavar="SPAN", help="Try again so often until all is here: 30min, 6h.")
]
WhenDone = Annotated[
    str, typer.Option("--when-done", metavar="COMMAND", help="Run this at the end; no shell reads it.")
]


@grouped
def download(
    scenes: Scenes = None,
    bands: options.Bands = "",
    window: Window = None,
    form: Form = "",
    place: options.Place = options.NOWHERE,
    to: To = Path("scenes"),
    limit_rate: LimitRate = "",
    watch: Watch = "",
    when_done: WhenDone = "",
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> None:
    """Download bands of picked scenes, whole or the area's part; the brief says which."""
    from zoompick.study.download import DownloadRequest, download, download_until_here

    pace = Pace.parse(limit_rate)
    often = options.seconds(watch, "min", "--watch") if watch not in ("", "0") else 0
    command = calling.words_of(when_done)
    study = Study.find(Path.cwd())
    wanted, named, given = (
        _chosen(study, scenes or [], form),
        options.names(bands),
        place.area(),
    )
    if study is not None:
        request = DownloadRequest.in_study(study, wanted, named, window, given)
    else:
        request = DownloadRequest.in_folder(to, wanted, named, bool(window), given)
    if dry_run:
        _dry_run(request, pace, as_json)
        return
    with request.alone(), show.progress() as report:
        done = download_until_here(request, often, report, pace) if often else download(request, report, pace)
    _closing(done, next(iter(request.folders.values())).parent)
    if as_json:
        _show_files(request.plan(), {})
    if command:
        calling.call(command, "All files are here.")


def _chosen(study: Study | None, words: list[str], form: str) -> list[Scene]:
    """Scenes from the shortlist, or from standard input, in the format that was asked for."""
    piped = words == ["-"]
    if study is None and not piped:
        raise StudyError(
            "There is no study here, so there is no shortlist.",
            "Pipe scenes in: 'zoompick search … --json | zoompick download - --to FOLDER'.",
        )
    wanted = [entry.scene for entry in piped_scenes()] if piped else _picked(study, words)
    return needs.in_format(wanted, form) if form else wanted


def _closing(done: Downloaded, folder: Path) -> None:
    decided = done.plan
    if done.ready is None:
        show.note(
            f"{show.counted(len(decided.here), 'file')} here, by size and time stamp; nothing was fetched. "
            "'zoompick verify' hashes what is here."
        )
        return
    here = f", {len(decided.here)} were here already" if decided.here else ""
    came = show.counted(len(decided.fetch), "file")
    size = human_bytes(done.received_bytes)
    show.note(f"{came} fetched{_checked(decided)} ({size}) into {show.place(folder)}{here}.")
    if words := get.saved_words(done.ready):
        show.note(words)


def _checked(decided: DownloadPlan) -> str:
    """Whether what came was held against digests of those who published it."""
    rows = [record.read(entry.path.parent).get(entry.path.name) for entry in decided.fetch]
    held = sum(row is not None and bool(row.checked_by) for row in rows)
    if held == len(rows):
        return " and checked"
    if held:
        return f", {held} of them checked, for the others no digest is published"
    parts = all(row is not None and row.whole_size is not None for row in rows)
    return ", for parts of files no digest is published" if parts else ", no digest is published"


def _picked(study: Study | None, words: list[str]) -> list[Scene]:
    assert study is not None
    entries = shortlist(study)
    chosen = select(entries, words, "the shortlist") if words else entries
    return [entry.scene for entry in chosen]


def _dry_run(request: DownloadRequest, pace: Pace, as_json: bool) -> None:
    with show.progress() as report:
        ready = look_ahead(request, report, pace)
    told = request.outlook(ready)
    if as_json:
        _show_files(ready.plan, told.to_json())
        return
    _show_table(ready)
    show.note(told.words())


def _show_files(decided: DownloadPlan, totals: dict[str, object]) -> None:
    states = [("fetch", entry) for entry in decided.fetch] + [("here", entry) for entry in decided.here]
    files = [
        {
            "state": state, "scene": e.scene, "band": e.band, "url": e.url, "path": str(e.path), "bytes": e.size,
            "window": e.region is not None,
        }
        for state, e in states
    ]  # fmt: skip
    lacking = [{"scene": scene, "band": band} for scene, band in decided.lacking]
    on_order = [{"scene": scene, "access": access} for scene, access in decided.on_order]
    show.as_json({"files": files, "lacking": lacking, "on_order": on_order} | ({"total": totals} if totals else {}))


def _show_table(ready: Ready) -> None:
    rows = []
    for state, entries in (("fetch", ready.plan.fetch), ("here", ready.plan.here)):
        for entry in entries:
            opened = ready.survey.opened.get(entry.path)
            size = "?" if entry.size is None else human_bytes(entry.size)
            rows.append([state, entry.scene, entry.band, size, human_bytes(opened.source.size) if opened else ""])
    rows += [["lacking", scene, band, "", ""] for scene, band in ready.plan.lacking]
    rows += [["order", scene, access, "", ""] for scene, access in ready.plan.on_order]
    columns = [
        show.Column("state"), show.Column("scene", flexible=True), show.Column("band"),
        show.Column("size", "right"), show.Column("of", "right"),
    ]  # fmt: skip
    show.table(columns, rows)
