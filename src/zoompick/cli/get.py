"""Commands that bring files here: download."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import options

if TYPE_CHECKING:
    from zoompick.catalog.scene import Scene
    from zoompick.events import Report
    from zoompick.geo.shapes import Shape
    from zoompick.net.pace import Pace
    from zoompick.study.folder import Study
    from zoompick.transfer.plan import DownloadPlan
    from zoompick.workflow.get import Ready


def download(
    scenes: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NUMBER|ID …]", help="From the shortlist; '-' reads an ItemCollection. All by default."
        ),
    ] = None,
    bands: options.Bands = "",
    window: Annotated[
        bool | None,
        typer.Option("--window/--whole", help="Only the area's part of each raster, or whole files; the brief says."),
    ] = None,
    form: Annotated[
        str,
        typer.Option("--format", metavar="FORMAT", help="Where bands come in several: geotiff, hdf5, netcdf, jp2."),
    ] = "",
    area: options.AreaText = "",
    box: options.Box = None,
    to: Annotated[Path, typer.Option("--to", metavar="FOLDER", help="Where files go outside a study.")] = Path(
        "scenes"
    ),
    limit_rate: Annotated[
        str, typer.Option("--limit-rate", metavar="RATE", help="Bytes a second at most: 500k, 2MB.")
    ] = "",
    watch: Annotated[
        float, typer.Option("--watch", metavar="MINUTES", min=0, help="Try again so often until all is here.")
    ] = 0,
    when_done: Annotated[
        str, typer.Option("--when-done", metavar="COMMAND", help="Run this at the end; no shell reads it.")
    ] = "",
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> None:
    """Download bands of the picked scenes, whole or the area's part; a study's brief says which."""
    from zoompick.net.pace import Pace
    from zoompick.study.folder import Study

    pace = Pace.parse(limit_rate)
    command = _split(when_done)
    study = Study.find(Path.cwd())
    job = _job(
        study, _chosen(study, scenes or [], form), options.names(bands), window, options.area_given(area, box), to
    )
    if dry_run:
        _dry_run(job, pace, as_json)
        return
    with job.alone():
        _until_all_is_here(job, pace, watch)
    if as_json:
        _show_files(job.plan(), {})
    if command:
        _run(command)


@dataclass(frozen=True)
class _Job:
    """What was asked for, in or outside a study."""

    study: Study | None
    scenes: list[Scene]
    bands: tuple[str, ...]
    folders: dict[str, Path]
    region: Shape | None
    area: Shape | None
    root: Path

    def plan(self) -> DownloadPlan:
        """What is still to be fetched."""
        from zoompick.workflow import get

        return get.plan_for(self.scenes, self.bands, self.folders, self.region, self.area)

    @property
    def journal(self) -> Path | None:
        """Where acts are written down."""
        return self.study.journal_file if self.study else None

    @contextmanager
    def alone(self) -> Iterator[None]:
        """No other run works in the same folder meanwhile."""
        from zoompick.files import exclusive

        if self.study:
            with self.study.locked():
                yield
            return
        self.root.mkdir(parents=True, exist_ok=True)
        with exclusive(self.root):
            yield


def _chosen(study: Study | None, words: list[str], form: str) -> list[Scene]:
    """Scenes from the shortlist, or from standard input, in the format that was asked for."""
    from zoompick.cli.piped import piped_scenes
    from zoompick.errors import StudyError
    from zoompick.workflow import get

    piped = words == ["-"]
    if study is None and not piped:
        raise StudyError(
            "There is no study here, so there is no shortlist.",
            "Pipe scenes in: 'zoompick search … --json | zoompick download - --to FOLDER'.",
        )
    wanted = [entry.scene for entry in piped_scenes()] if piped else _picked(study, words)
    return get.in_format(wanted, form) if form else wanted


def _job(
    study: Study | None, wanted: list[Scene], bands: tuple[str, ...], window: bool | None, area: object, to: Path
) -> _Job:
    from zoompick.errors import UsageError
    from zoompick.workflow import get
    from zoompick.workflow.run import region_in

    given = getattr(area, "polygon", None)
    if study is None:
        if window and given is None:
            raise UsageError("--window needs an area.", "Give one: --area AREA, or --box W S E N.")
        region = given if window else None
        return _Job(None, wanted, bands, get.folders_under(to, wanted), region, given, to)
    brief = study.brief()
    own = study.area() if study.area_file.exists() else None
    if window and given is None and own is None:
        study.area()
    region = given if window else None
    if given is None and own is not None:
        region = region_in(brief, own, window)
    named = bands or tuple(get.with_classes(brief.bands, wanted))
    folders = get.folders_in(study, wanted)
    return _Job(study, wanted, named, folders, region, given or (own.polygon if own else None), study.root)


def _until_all_is_here(job: _Job, pace: Pace, watch: float) -> None:
    """One pass, or with ``--watch`` passes on a schedule until nothing is missing that may still come."""
    import time

    from zoompick.cli import show
    from zoompick.errors import IncompleteError, SourceError

    while True:
        try:
            with show.progress() as report:
                _pass(job, pace, report)
            return
        except (IncompleteError, SourceError) as error:
            if not watch:
                raise
            show.note(f"{error.what} Trying again in {watch:g} min; Ctrl-C ends it.")
            time.sleep(60 * watch)


def _pass(job: _Job, pace: Pace, report: Report) -> None:
    """Fetch what is missing; IncompleteError when something is still missing then."""
    from zoompick.cli import show
    from zoompick.study.journal import act
    from zoompick.workflow import get
    from zoompick.workflow.outlook import outlook

    decided = job.plan()
    source = ",".join(sorted({scene.source for scene in job.scenes}))
    with act(job.journal, "download", source=source, files=len(decided.fetch)) as doing:
        ready = get.prepare(decided, job.scenes, report, pace)
        if decided.fetch:
            show.note(outlook(ready, job.scenes, job.area, job.journal).words())
        outcome = get.fetch(ready, job.scenes, job.folders, report)
        doing.note(bytes=outcome.received_bytes, saved=ready.saved_bytes, failures=get.failures(outcome))
        for entry, error in outcome.failed:
            show.note(f"failed: {entry.scene}, {entry.band}: {error.what}")
        problem = get.incomplete(ready.plan, outcome)
        if problem:
            raise problem
    _closing(ready, outcome.received_bytes, next(iter(job.folders.values())).parent)


def _closing(ready: Ready, received: int, folder: Path) -> None:
    from zoompick.cli import show
    from zoompick.files import human_bytes
    from zoompick.workflow import get

    decided = ready.plan
    if not decided.fetch:
        show.note(f"{show.counted(len(decided.here), 'file')} here and checked; nothing was fetched.")
        return
    here = f", {len(decided.here)} were here already" if decided.here else ""
    came = show.counted(len(decided.fetch), "file")
    show.note(f"{came} fetched and checked ({human_bytes(received)}) into {show.place(folder)}{here}.")
    if words := get.saved_words(ready):
        show.note(words)


def _split(command: str) -> list[str]:
    import shlex

    from zoompick.errors import UsageError

    try:
        return shlex.split(command)
    except ValueError as error:
        raise UsageError(f"'{command}' cannot be split into words: {error}.", "Close its quotes.") from error


def _run(command: list[str]) -> None:
    """Carry out the command of ``--when-done``; its failure is ours."""
    import subprocess

    from zoompick.errors import IncompleteError, UsageError

    try:
        code = subprocess.run(command, check=False).returncode
    except OSError as error:
        raise UsageError(f"'{command[0]}' cannot be run: {error.strerror}.", "All files are here.") from error
    if code:
        raise IncompleteError(f"All files are here, but '{command[0]}' ended with {code}.", "Look at what it says.")


def _picked(study: Study | None, words: list[str]) -> list[Scene]:
    from zoompick.study.scenelist import select
    from zoompick.study.shortlist import shortlist

    assert study is not None
    entries = shortlist(study)
    chosen = select(entries, words, "the shortlist") if words else entries
    return [entry.scene for entry in chosen]


def _dry_run(job: _Job, pace: Pace, as_json: bool) -> None:
    from zoompick.cli import show
    from zoompick.workflow import get
    from zoompick.workflow.outlook import outlook

    with show.progress() as report:
        ready = get.prepare(job.plan(), job.scenes, report, pace)
    told = outlook(ready, job.scenes, job.area, job.journal)
    if as_json:
        _show_files(ready.plan, told.to_json())
        return
    _show_table(ready)
    show.note(told.words())


def _show_files(decided: DownloadPlan, totals: dict[str, object]) -> None:
    from zoompick.cli import show

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
    from zoompick.cli import show
    from zoompick.files import human_bytes

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
