"""Commands that hand over: report."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zoompick.cli import exits, options, show
from zoompick.errors import UsageError
from zoompick.figures.report import as_html, as_markdown
from zoompick.files import human_bytes, refuse_existing, write_json, write_text
from zoompick.study.folder import Study
from zoompick.study.reporting import report_of

_ENDINGS = {".html": "html", ".htm": "html", ".md": "md", ".json": "json"}


def report(
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="report.html by default; .md and .json too.")
    ] = None,
    overwrite: options.Overwrite = False,
) -> int:
    """Write the study's report: scenes, products, changes, checks, licences, steps."""
    study = Study.need(Path.cwd())
    path = out or study.root / "report.html"
    kind = _ENDINGS.get(path.suffix.lower())
    if kind is None:
        raise UsageError(f"A report cannot be written as {path.suffix or path.name}.", f"Take {', '.join(_ENDINGS)}.")
    refuse_existing([path], overwrite)
    made = report_of(study)
    if kind == "json":
        write_json(path, made.to_json())
    else:
        write_text(path, as_html(made) if kind == "html" else as_markdown(made))
    show.note(f"{show.place(path)}: {made.summary} {human_bytes(path.stat().st_size)}.")
    return exits.DONE
