"""Commands that bring files here: download."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import options

if TYPE_CHECKING:
    from zoompick.catalog.scene import Scene
    from zoompick.study.folder import Study
    from zoompick.transfer.plan import DownloadPlan


def download(
    scenes: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[NUMBER|ID …]", help="From the shortlist; '-' reads an ItemCollection. All by default."
        ),
    ] = None,
    bands: options.Bands = "",
    to: Annotated[Path, typer.Option("--to", metavar="FOLDER", help="Where files go outside a study.")] = Path(
        "scenes"
    ),
    dry_run: options.DryRun = False,
    as_json: options.Json = False,
) -> None:
    """Download bands of the picked scenes; a study's brief says which, unless --bands does."""
    from contextlib import nullcontext

    from zoompick.cli import show
    from zoompick.errors import StudyError
    from zoompick.study.folder import Study
    from zoompick.study.journal import act
    from zoompick.workflow import get

    piped = scenes == ["-"]
    study = Study.find(Path.cwd())
    if study is None and not piped:
        raise StudyError(
            "There is no study here, so there is no shortlist.",
            "Pipe scenes in: 'zoompick search … --json | zoompick download - --to FOLDER'.",
        )
    with study.locked() if study and not dry_run else nullcontext(), show.progress() as report:
        wanted = _piped() if piped else _picked(study, scenes or [])
        folders = get.folders_in(study, wanted) if study else get.folders_under(to, wanted)
        named = options.names(bands)
        if not named and study:
            named = tuple(get.with_classes(study.brief().bands, wanted))
        decided = get.plan_for(wanted, named, folders)
        if dry_run:
            _show_plan(decided, as_json)
            return
        with act(study.journal_file if study else None, "download", files=len(decided.fetch)) as doing:
            outcome = get.fetch(decided, wanted, folders, report)
            doing.note(bytes=outcome.received_bytes, failed=len(outcome.failed))
            problem = get.incomplete(decided, outcome)
            if problem:
                for entry, error in outcome.failed:
                    show.note(f"failed: {entry.scene}, {entry.band}: {error.what}")
                raise problem
    if as_json:
        _show_plan(get.plan_for(wanted, named, folders), True)
    _closing(decided, outcome.received_bytes, next(iter(folders.values())).parent)


def _closing(decided: DownloadPlan, received: int, folder: Path) -> None:
    from zoompick.cli import show
    from zoompick.files import human_bytes

    if not decided.fetch:
        show.note(f"All {len(decided.here)} files are here and checked; nothing was fetched.")
        return
    here = f", {len(decided.here)} were here already" if decided.here else ""
    show.note(f"{len(decided.fetch)} files fetched and checked ({human_bytes(received)}) into {folder}{here}.")


def _piped() -> list[Scene]:
    import json
    import sys

    from zoompick.errors import DataError
    from zoompick.study.scenelist import from_collection

    try:
        value = json.load(sys.stdin)
    except ValueError as error:
        raise DataError(f"Standard input is not JSON: {error}.", "Pipe 'zoompick search --json' into it.") from error
    return [entry.scene for entry in from_collection(value, "standard input")]


def _picked(study: Study | None, words: list[str]) -> list[Scene]:
    from zoompick.study.scenelist import select
    from zoompick.study.shortlist import shortlist

    assert study is not None
    entries = shortlist(study)
    chosen = select(entries, words, "the shortlist") if words else entries
    return [entry.scene for entry in chosen]


def _show_plan(decided: DownloadPlan, as_json: bool) -> None:
    from zoompick.cli import show
    from zoompick.files import human_bytes

    states = [("fetch", entry) for entry in decided.fetch] + [("here", entry) for entry in decided.here]
    if as_json:
        show.as_json(
            {
                "files": [
                    {
                        "state": state,
                        "scene": e.scene,
                        "band": e.band,
                        "url": e.url,
                        "path": str(e.path),
                        "bytes": e.size,
                    }
                    for state, e in states
                ],
                "lacking": [{"scene": scene, "band": band} for scene, band in decided.lacking],
            }
        )
        return
    rows = [
        [state, entry.scene, entry.band, "?" if entry.size is None else human_bytes(entry.size)]
        for state, entry in states
    ]
    rows += [["lacking", scene, band, ""] for scene, band in decided.lacking]
    columns = [
        show.Column("state"),
        show.Column("scene", flexible=True),
        show.Column("band"),
        show.Column("size", "right"),
    ]
    show.table(columns, rows)
    unknown = f" and {decided.unknown} files whose size is not told" if decided.unknown else ""
    show.note(f"To fetch: {human_bytes(decided.known_bytes)}{unknown}.")
