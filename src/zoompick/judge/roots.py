"""One fault is told once: what follows from a file that is damaged is said to, and not counted against others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import replace

from zoompick.scenes.finding import NOT_JUDGED, Finding

_ROOTS = ("blocks", "checksum", "here")
_FOLLOWING = (
    "sources", "scenes", "index", "clip", "mask", "shades", "difference", "change", "mosaic", "blend", "dates-shift",
    "brief",
)  # fmt: skip
"""Checks that hold a file against others."""
_OF_ITSELF = ("figures",)
"""Checks that hold a file against its own record, as its digest is."""


def rooted(findings: Sequence[Finding], made_of: Mapping[str, Set[str]]) -> list[Finding]:
    """Findings, those that follow from a damaged or absent file as not judged; that file's tell how many they are.

    Parameters
    ----------
    made_of : mapping of str to set of str
        By subject: the subjects that it is held against.
    """
    roots = {one.subject for one in findings if one.key in _ROOTS and one.outcome == "fail"}
    found, counts = [], dict.fromkeys(roots, 0)
    for one in findings:
        if one.key in _OF_ITSELF and one.subject in roots and one.outcome == "fail":
            reason = "It is not what its record says: see 'checksum'."
            found.append(replace(one, outcome=NOT_JUDGED, note=reason, value=None))
            continue
        causes = sorted(roots & made_of.get(one.subject, frozenset()) - {one.subject})
        if not causes or one.key not in _FOLLOWING or one.outcome not in ("warn", "fail"):
            found.append(one)
            continue
        for cause in causes:
            counts[cause] += 1
        reason = f"It is held against {' and '.join(causes)}, which is damaged, changed or gone: mend that first."
        found.append(replace(one, outcome=NOT_JUDGED, note=reason, value=None))
    return [_with_count(one, counts) for one in found]


def _with_count(finding: Finding, counts: dict[str, int]) -> Finding:
    """A root with the number of findings that follow from it; told once, by the first of its checks."""
    if finding.key not in _ROOTS or finding.outcome != "fail" or not counts.get(finding.subject):
        return finding
    count = counts.pop(finding.subject)
    told = "1 finding of another follows" if count == 1 else f"{count} findings of others follow"
    return replace(finding, note=f"{finding.note} {told} from it.".strip())
