"""Findings for other programs: JSON of a versioned shape, JUnit XML for systems that run tests, holes as polygons."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.files import write_json, write_text
from zoompick.jsontypes import JsonObject
from zoompick.later import saxutils
from zoompick.scenes.finding import NOT_JUDGED, OUTCOMES, Finding, worst

SHAPE = 2
"""Version of the JSON shape: a key may be added under the same number, none changed or taken away."""


def findings_json(findings: Sequence[Finding]) -> JsonObject:
    """The shape of ``verify --json``, as docs/json.md tells it."""
    counts = {outcome: sum(finding.outcome == outcome for finding in findings) for outcome in OUTCOMES}
    return {"shape": SHAPE, "outcome": worst(findings), "counts": counts,
            "findings": [finding.to_json() for finding in findings]}  # fmt: skip


def junit_xml(findings: Sequence[Finding], is_strict: bool = False) -> str:
    """One test case a finding, one suite a subject; a warning is a failure only where that is wanted.

    Source of the form: the XML that systems for continuous integration read by the name JUnit; it has no standard.
    """
    subjects = list(dict.fromkeys(finding.subject for finding in findings))
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<testsuites name="zoompick verify" {_counts(findings, is_strict)}>',
    ]
    for subject in subjects:
        own = [finding for finding in findings if finding.subject == subject]
        lines.append(f"  <testsuite name={_quoted(subject)} {_counts(own, is_strict)}>")
        lines += [line for finding in own for line in _case(finding, is_strict)]
        lines.append("  </testsuite>")
    return "\n".join([*lines, "</testsuites>", ""])


def _counts(findings: Sequence[Finding], is_strict: bool) -> str:
    failures = sum(_fails(finding, is_strict) for finding in findings)
    skipped = sum(finding.outcome == NOT_JUDGED for finding in findings)
    return f'tests="{len(findings)}" failures="{failures}" errors="0" skipped="{skipped}"'


def _fails(finding: Finding, is_strict: bool) -> bool:
    return finding.outcome == "fail" or (is_strict and finding.outcome == "warn")


def _case(finding: Finding, is_strict: bool) -> list[str]:
    head = f"    <testcase classname={_quoted(finding.subject)} name={_quoted(finding.check)}"
    measured = _quoted(f"{finding.figure}; {finding.limit}. {finding.note}".strip())
    if _fails(finding, is_strict):
        return [head + ">", f"      <failure type={_quoted(finding.outcome)} message={measured}/>", "    </testcase>"]
    if finding.outcome == NOT_JUDGED:
        return [head + ">", f"      <skipped message={measured}/>", "    </testcase>"]
    if finding.outcome == "warn":
        return [head + ">", f"      <system-out>{measured[1:-1]}</system-out>", "    </testcase>"]
    return [head + "/>"]


def _quoted(text: str) -> str:
    """An attribute's value: characters that XML 1.0 has no place for (section 2.2) are left out."""
    kept = "".join(
        c for c in text if c in "\t\n" or " " <= c <= "\ud7ff" or "\ue000" <= c <= "\ufffd" or c > "\uffff"
    )
    return saxutils.quoteattr(kept)


def write_junit(findings: Sequence[Finding], path: Path, is_strict: bool = False) -> None:
    """Write the JUnit XML."""
    write_text(path, junit_xml(findings, is_strict))


def write_holes(findings: Sequence[Finding], path: Path) -> int:
    """Write the patches without pixels that were found as GeoJSON; returns how many."""
    features = [
        {"type": "Feature", "geometry": hole["outline"],
         "properties": {"subject": finding.subject, "size_km2": hole["size_km2"]}}
        for finding in findings for hole in finding.data.get("holes", [])
    ]  # fmt: skip
    write_json(path, {"type": "FeatureCollection", "features": features})
    return len(features)
