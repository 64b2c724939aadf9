"""Commands that hand over: report."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zoompick.cli import exits, options, show
from zoompick.errors import UsageError
from zoompick.figures.report import StudyReport, as_html, as_markdown
from zoompick.files import human_bytes, refuse_existing, write_json, write_text
from zoompick.study.bundle import write_bundle
from zoompick.study.folder import Study
from zoompick.study.reporting import report_of

_ENDINGS = {".html": "html", ".htm": "html", ".md": "md", ".json": "json"}


def report(
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="report.html by default; .md and .json too.")
    ] = None,
    bundle: Annotated[
        Path | None,
        typer.Option("--bundle", metavar="FILE.zip", help="Pack the page with all that repeats the study."),
    ] = None,
    overwrite: options.Overwrite = False,
) -> int:
    """Write the study's report: scenes, products, changes, checks, licences, steps.

    With --bundle it is packed with brief, area, lock, records, small pictures, licences and credits: no pixels of
    scenes and nothing secret, so that somebody else can make the same of it.
    """
    study = Study.need(Path.cwd())
    path = out or (study.root / "report.html" if bundle is None else None)
    kind = _kind_of(path) if path else ""
    if bundle is not None and bundle.suffix.lower() != ".zip":
        raise UsageError(f"A bundle cannot be written as {bundle.suffix or bundle.name}.", "Take .zip.")
    refuse_existing(list(filter(None, (path, bundle))), overwrite)
    made = report_of(study)
    if path is not None:
        if kind == "json":
            write_json(path, made.to_json())
        else:
            write_text(path, as_html(made) if kind == "html" else as_markdown(made))
        show.note(f"{show.place(path)}: {made.summary} {human_bytes(path.stat().st_size)}.")
    if bundle is not None:
        _pack(study, made, bundle)
    return exits.DONE


def _kind_of(path: Path) -> str:
    kind = _ENDINGS.get(path.suffix.lower())
    if kind is None:
        raise UsageError(f"A report cannot be written as {path.suffix or path.name}.", f"Take {', '.join(_ENDINGS)}.")
    return kind


def _pack(study: Study, made: StudyReport, path: Path) -> None:
    packed = write_bundle(study, made, path)
    records, pictures = (sum(name.startswith(part) for name in packed.names) for part in ("records/", "pictures/"))
    size = human_bytes(path.stat().st_size)
    show.note(
        f"{show.place(path)}: page, brief, area{', lock' if packed.is_locked else ''}, "
        f"{show.counted(records, 'record')}, {show.counted(pictures, 'picture')}, credits. {size}."
    )
    how = "zoompick run --locked" if packed.is_locked else "zoompick run"
    show.note(f"To make the same of it: unpack it, and '{how}' in its folder.")
    if not packed.is_locked:
        show.note("The study is not locked, so the source may give other files then: 'zoompick lock' first.")
    for sentence in packed.absent:
        show.note(sentence)
