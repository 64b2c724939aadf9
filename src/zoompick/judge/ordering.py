"""In which order the scenes of a product should count, by the rule that its record tells."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from zoompick.jsontypes import JsonMap
from zoompick.judge.subject import SceneFacts, Subject
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

_TITLE, _GIVEN = "scenes in order", "given"


def ranks_of(subject: Subject, rows: Sequence[JsonMap], rule: str) -> list[float] | None:
    """A figure for each scene, the less the earlier it counts; None where one does not tell what the rule asks for.

    Parameters
    ----------
    rows : sequence of mapping
        Scenes as the record lists them: id and moment.
    rule : str
        ``newest``, ``oldest``, ``clearest`` (least cloud told), ``nadir`` (least off nadir), ``nearest`` (to a day).
    """
    facts = {one.id: one for one in subject.scenes}
    known = [facts.get(str(row.get("id", "")), SceneFacts("")) for row in rows]
    if rule in ("clearest", "nadir"):
        told = [one.cloud_percent if rule == "clearest" else one.off_nadir_deg for one in known]
    else:
        moments = [_moment(row) for row in rows]
        day = subject.options.get("day") if rule == "nearest" else None
        sign = {"newest": -1, "oldest": 1}.get(rule)
        if day:
            noon = datetime.fromisoformat(f"{day}T12:00:00").replace(tzinfo=UTC).timestamp()
            told = [None if one is None else abs(one - noon) for one in moments]
        else:
            told = [None if one is None or sign is None else sign * one for one in moments]
    ranks = [one for one in told if one is not None]
    return ranks if ranks and len(ranks) == len(rows) else None


def _moment(row: JsonMap) -> float | None:
    try:
        found = datetime.fromisoformat(str(row.get("datetime", "")))
    except ValueError:
        return None
    return (found if found.tzinfo else found.replace(tzinfo=UTC)).timestamp()


def ordered(subject: Subject, rows: Sequence[JsonMap], rule: str) -> list[Finding]:
    """The scenes are in the order that the rule asks for; nothing for files in the order they were given in."""
    if rule == _GIVEN:
        return []
    ranks = ranks_of(subject, rows, rule)
    if ranks is None:
        reason = f"The order {rule or 'of the files'} is none that its record and its scenes' items tell."
        return [not_judged(_TITLE, subject.label, reason, "as the rule", Seen("scenes", 0, len(rows)))]
    fits = ranks == sorted(ranks)
    note = f"The record lists its scenes otherwise than {rule} first. Make it again."
    return [judged(_TITLE, subject.label, fits, "as asked" if fits else "another order", f"{rule} first", note,
                   seen=Seen("scenes", len(rows), len(rows)))]  # fmt: skip
