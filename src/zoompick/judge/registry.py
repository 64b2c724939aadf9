"""Every check that there is, in the order in which they are made; a new one is a file and a line here."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence, Set
from dataclasses import replace
from functools import cache
from importlib import resources

from zoompick.errors import ClusterError, UnknownNameError, ZoomPickError
from zoompick.judge.checks import (
    again,
    alignment,
    bands,
    blended,
    cloud,
    files,
    masked,
    merged,
    patches,
    place,
    products,
    record,
    reference,
    seams,
    time,
    values,
)
from zoompick.judge.limits import Limits
from zoompick.judge.subject import Check, Subject
from zoompick.scenes.finding import NOT_JUDGED, Finding, Seen, judged, not_judged


def _never(subject: Subject) -> bool:
    return False


def _nothing(subject: Subject) -> Sequence[Finding]:
    return ()


FILE_CHECKS: tuple[Check, ...] = (
    Check("here", "files", "file here", "A file that is named.", "Looks for the file.", _never, _nothing),
    Check("checksum", "files", "checksum", "A digest: from the catalogue, the download, or the product's record.",
          "Hashes the whole file and compares.", _never, _nothing, "The multihash format; FIPS 180-4, BLAKE3."),
    Check("published", "bands", "bands published", "A scene of a study.", "Compares its bands with the brief's.",
          _never, _nothing),
    Check("classes", "cloud", "classes fit the bands",
          "A scene of a study with a class layer that tells cloud or shadow, and a visible band or near infrared.",
          "How often a pixel called cloud is brighter than one called clear in the visible bands, and one called "
          "shadow darker in near infrared, by pairs; of an overview.", _never, _nothing,
          "H. B. Mann, D. R. Whitney, On a test of whether one of two random variables is stochastically larger than "
          "the other (1947)."),
    Check("shadows", "cloud", "shadows called",
          "A scene of a study with clouds in its class layer, near infrared, and the sun's azimuth in its item.",
          "Moves the clouds away from the sun, by up to nine kilometres: how often the clear ground under them is "
          "darker there than other clear ground, by pairs, and that it is not so towards the sun; of an overview.",
          _never, _nothing),
    Check("brief", "record", "as the brief says", "A study's product and its record.",
          "Compares what the brief asks for now, and its inputs, with what the product was made of.",
          _never, _nothing),
    Check("journal", "record", "in the journal", "A study's product.", "Looks for the act that made it.", _never,
          _nothing),
    Check("licence", "record", "licence allows it", "A study whose source tells its collections' licences.",
          "Looks the licence of each collection up in a table of what licences ask of products made of the data.",
          _never, _nothing, "SPDX License List; Creative Commons 4.0, sections 2(a)(1) and 3(a)."),
    Check("online", "record", "at its source", "--online, and a scene of a study.",
          "Asks the source again for size and entity tag (or date) of each file, and compares.", _never, _nothing,
          "RFC 9110, sections 8.6 (Content-Length) and 8.8 (ETag, Last-Modified)."),
)  # fmt: skip
"""Checks of files, scenes and records, which a study makes."""
CHECKS: tuple[Check, ...] = tuple(
    check
    for group in (
        files,
        place,
        bands,
        values,
        patches,
        alignment,
        cloud,
        seams,
        time,
        record,
        products,
        again,
        merged,
        blended,
        masked,
        reference,
    )
    for check in group.CHECKS
)
"""Checks of what a raster holds."""


def named(names: Sequence[str]) -> set[str]:
    """Names of checks, those of groups among them spelt out.

    Raises
    ------
    UnknownNameError
    """
    every = (*FILE_CHECKS, *CHECKS)
    groups = {check.group for check in every}
    known = {check.name for check in every}
    for name in names:
        if name not in known | groups:
            raise UnknownNameError.of("check", name, sorted(known | groups))
    return {check.name for check in every if check.name in names or check.group in names}


def explained(name: str) -> list[Check]:
    """The check of a name, those of a group, or ``all``.

    Raises
    ------
    UnknownNameError
    """
    every = sorted((*FILE_CHECKS, *CHECKS), key=lambda check: _GROUPS.index(check.group))
    chosen = {check.name for check in every} if name == "all" else named([name])
    return [check for check in every if check.name in chosen]


_GROUPS = (
    "files", "place", "bands", "values", "alignment", "cloud", "seams", "time", "record", "products", "reference"
)  # fmt: skip


def facts(check: Check) -> dict[str, str]:
    """What there is to know of a check."""
    usual = getattr(Limits(), check.limit) if check.limit else None
    limit = "" if usual is None else f"{check.limit} = {usual:g}, unless the brief or --threshold says otherwise"
    return {"check": check.name, "group": check.group, "in findings": check.title, "needs": check.needs,
            "measures": check.measures, "limit": limit, "cannot see": _unseen()[check.name],
            "source": check.source}  # fmt: skip


@cache
def _unseen() -> dict[str, str]:
    place = resources.files("zoompick.judge") / "data" / "unseen.toml"
    return {name: str(words) for name, words in tomllib.loads(place.read_text(encoding="utf-8")).items()}


def of_title(title: str) -> str:
    """Name of the check that calls its findings so."""
    exact = next((check.name for check in (*FILE_CHECKS, *CHECKS) if check.title == title), "")
    return exact or _MORE.get(title.partition(" (")[0], "")


_MORE = {
    "checksum": "checksum",
    "checksums": "checksum",
    "files here": "here",
    "on the globe": "grid",
    "cloud as told": "cloud",
    "reference place": "reference",
    "belongings": "checksum",
    "can be judged": "here",
    "pixels readable": "blocks",
}
"""Findings that a check makes beside its own."""


_SEES = {
    "files": "file", "place": "px", "bands": "bands", "values": "px", "alignment": "tiles", "cloud": "area",
    "seams": "seams", "time": "scenes", "record": "record", "products": "px", "reference": "common ground",
}  # fmt: skip
_SEES_OF = {"grid": "file", "footprint": "sample", "distinct": "sample", "spectra": "sample", "vary": "px",
            "range": "sample", "lines": "lines"}  # fmt: skip
"""What the checks of a group look at, and some of their own, where they do not tell it themselves."""


def judge(subject: Subject, wanted: Set[str] | None = None, named: Set[str] = frozenset()) -> list[Finding]:
    """Findings of all checks that have something to judge.

    Parameters
    ----------
    wanted : set of str, optional
        Names of checks; all by default.
    named : set of str
        Checks that a person named: what cannot be judged of them is told.
    """
    found: list[Finding] = []
    for check in CHECKS:
        asked = not subject.names or check.in_study or check.name in subject.names
        if not asked or (wanted is not None and check.name not in wanted):
            continue
        try:
            if check.applies(subject):
                found += [_with_seen(subject, check, finding) for finding in check.judge(subject)]
            elif check.name in named:
                reason = f"What it needs is not here. {check.needs}"
                found.append(replace(not_judged(check.title, subject.label, reason, ""), key=check.name))
        except ClusterError:
            raise
        except ZoomPickError as error:
            # What is broken in the file itself the pass has told; this is another file that it is held against.
            note = f"{error.what} {error.todo}".strip()
            told = judged(check.title, subject.label, False, "cannot be judged", "that it can", note, bad="warn")
            found.append(replace(told, key=check.name))
    return [_of_damaged(one) for one in found] if _is_damaged(subject) else found


def _is_damaged(subject: Subject) -> bool:
    """True where a block was seen that does not decode."""
    return "sweep" in vars(subject) and bool(subject.sweep.broken)


def _of_damaged(finding: Finding) -> Finding:
    """What a check of pixels found in a file of which a part does not decode is neither good nor bad."""
    group = next(check.group for check in CHECKS if check.name == finding.key)
    if group in ("files", "time", "record") or finding.key in ("grid", "order"):
        return finding
    reason = "A part of its pixels does not decode: see 'blocks decode'."
    return replace(not_judged(finding.check, finding.subject, reason, finding.limit, None), key=finding.key)


def _with_seen(subject: Subject, check: Check, finding: Finding) -> Finding:
    """A finding with how much it saw; one that passed without having seen a pixel is not judged."""
    if finding.outcome == NOT_JUDGED:
        return replace(finding, key=check.name)
    seen = finding.seen or _usual_seen(subject, check)
    told = replace(finding, key=check.name, seen=seen)
    if finding.outcome == "pass" and seen.what == "px" and seen.count == 0:
        reason = "No pixel holds a value: nothing was seen."
        return replace(not_judged(finding.check, finding.subject, reason, finding.limit, seen), key=check.name)
    return told


def with_what(finding: Finding) -> Finding:
    """A finding of files and records with what it looked at."""
    if finding.outcome == NOT_JUDGED or finding.seen is not None:
        return finding
    group = next((check.group for check in (*FILE_CHECKS, *CHECKS) if check.name == finding.key), "files")
    return replace(finding, seen=Seen(_SEES_OF.get(finding.key, _SEES[group])))


def _usual_seen(subject: Subject, check: Check) -> Seen:
    """What a check looks at: all pixels of the pass, its sample, some of the pixels of each line."""
    what, grid = _SEES_OF.get(check.name, _SEES[check.group]), subject.raster.grid
    totals = subject.sweep.totals if "sweep" in vars(subject) else {}
    if what == "sample" and "sample" in totals:
        return Seen("px", int(totals["sample"].valid.sum()), grid.width * grid.height)
    if what == "px" and "tally" in totals:
        return Seen("px", int(max(totals["tally"].count, default=0)), grid.width * grid.height)
    if what == "lines":
        return Seen(what, grid.width + grid.height, grid.width + grid.height)
    return Seen("scenes", len(subject.scenes)) if what == "scenes" else Seen(what)
