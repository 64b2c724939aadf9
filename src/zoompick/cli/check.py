"""Commands that judge: verify."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.cli import exits, options

if TYPE_CHECKING:
    from zoompick.verification.finding import Finding


def verify(
    files: Annotated[
        list[Path] | None, typer.Argument(metavar="[FILE …]", help="GeoTIFFs; the whole study by default.")
    ] = None,
    bands: options.Bands = "",
    area: options.AreaText = "",
    box: options.Box = None,
    around: options.Around = "",
    valid: Annotated[
        float, typer.Option("--valid", metavar="PERCENT", help="Valid pixels in the area, at least.")
    ] = 98,
    as_json: options.Json = False,
) -> int:
    """Recompute what can go wrong: blocks, grid, bands, gaps, clouds, checksums. Exit code 1 when a check fails."""
    from zoompick.cli import show
    from zoompick.verification.finding import worst

    findings = _of_files(files, bands, area, box, around, valid) if files else _of_study()
    if as_json:
        show.as_json({"outcome": worst(findings), "findings": [finding.to_json() for finding in findings]})
    else:
        show_findings(findings)
        show.note(_closing(findings))
    return exits.CHECK_FAILED if worst(findings) == "fail" else exits.DONE


def _of_files(
    files: list[Path],
    bands: str,
    area: str,
    box: options.Edges | None,
    around: str,
    valid: float,
) -> list[Finding]:
    from zoompick.catalog.filters import percent
    from zoompick.cli import show
    from zoompick.workflow.verify import verify_files

    given = options.area_given(area, box, around)
    least = percent(valid, "share of valid pixels")
    with show.progress() as report:
        return verify_files(files, options.names(bands), given.polygon if given else None, least, report)


def _of_study() -> list[Finding]:
    from zoompick.cli import show
    from zoompick.study.folder import Study
    from zoompick.workflow.verify import judge_study

    study = Study.need(Path.cwd())
    with show.progress() as report:
        return judge_study(study, report)


def show_findings(findings: Sequence[Finding]) -> None:
    """A table of findings, then what to do about those that did not pass."""
    from zoompick.cli.show import Column, table

    columns = [
        Column("outcome"),
        Column("check"),
        Column("subject"),
        Column("figure", flexible=True),
        Column("limit", flexible=True),
    ]
    table(columns, [[f.outcome, f.check, f.subject, f.figure, f.limit] for f in findings])
    show_notes(findings)


def show_problems(findings: Sequence[Finding]) -> None:
    """Only what did not pass."""
    problems = [finding for finding in findings if finding.outcome != "pass"]
    if problems:
        show_findings(problems)


def show_notes(findings: Sequence[Finding]) -> None:
    """What is wrong and what to do, a sentence or two each."""
    from zoompick.cli import show

    for finding in findings:
        if finding.note:
            show.sentence(f"{finding.outcome}: {finding.subject}, {finding.check}: {finding.note}")


def _closing(findings: Sequence[Finding]) -> str:
    counts = {outcome: sum(f.outcome == outcome for f in findings) for outcome in ("pass", "warn", "fail")}
    return f"{counts['pass']} checks passed, {counts['warn']} warned, {counts['fail']} failed."
