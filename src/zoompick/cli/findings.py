"""Findings as tables and sentences."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.cli import show
from zoompick.cli.show import Column, table
from zoompick.scenes.finding import Finding


def show_findings(findings: Sequence[Finding]) -> None:
    """A table of findings, then what to do about those that did not pass."""
    columns = [
        Column("outcome"),
        Column("check"),
        Column("subject"),
        Column("figure", flexible=True),
        Column("limit", flexible=True),
        Column("saw"),
    ]
    rows = [[f.outcome, f.check, f.subject, f.figure, f.limit, f.seen.text if f.seen else ""] for f in findings]
    table(columns, rows)
    show_notes(findings)


def show_problems(findings: Sequence[Finding]) -> None:
    """Only what did not pass."""
    problems = [finding for finding in findings if finding.outcome != "pass"]
    if problems:
        show_findings(problems)


def show_notes(findings: Sequence[Finding]) -> None:
    """What is wrong and what to do, a sentence or two each."""
    for finding in findings:
        if finding.note:
            show.sentence(f"{finding.outcome}: {finding.subject}, {finding.check}: {finding.note}")
