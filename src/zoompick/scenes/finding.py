"""One check with a measured figure and a limit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Literal

from zoompick.jsontypes import JsonMap, JsonObject

Outcome = Literal["pass", "not judged", "warn", "fail"]
OUTCOMES: tuple[Outcome, ...] = ("pass", "not judged", "warn", "fail")
"""From good to bad. What is not judged is neither good nor bad: nobody looked."""
NOT_JUDGED: Outcome = "not judged"


@dataclass(frozen=True, slots=True)
class Seen:
    """How much a finding saw.

    Attributes
    ----------
    what : str
        ``px``, ``tiles``, ``lines``, ``bands``, ``file``, ``record``, ``scenes``, ``area``, ``seams``,
        ``common ground``.
    count, of : int or None
        So many of so many; None where nothing is counted.
    """

    what: str
    count: int | None = None
    of: int | None = None

    @property
    def percent(self) -> float | None:
        """Share; None where nothing is counted."""
        return None if self.count is None or not self.of else 100 * self.count / self.of

    @property
    def text(self) -> str:
        """For people: ``2480 px, 0.3 %``."""
        if self.count is None:
            return self.what
        share = f", {self.percent:.3g} %" if self.percent is not None else ""
        return f"{self.count} {self.what}{share}"

    def to_json(self) -> JsonObject:
        """As a JSON object."""
        percent = None if self.percent is None else round(self.percent, 4)
        return {"what": self.what, "count": self.count, "of": self.of, "percent": percent}


@dataclass(frozen=True, slots=True)
class Finding:
    """What one check found of one thing.

    Attributes
    ----------
    check : str
        What was judged, for people: ``blocks decode``, ``cloud in area``, …
    subject : str
        The file or scene.
    figure, limit : str
        Measured and allowed, for people.
    note : str
        Cause and cure; empty on a pass.
    value : float or None
        The figure as a number, where it is one.
    key : str
        The check's name in the registry.
    data : mapping
        Further figures, as JSON holds them.
    """

    check: str
    subject: str
    outcome: Outcome
    figure: str
    limit: str
    note: str = ""
    value: float | None = None
    key: str = ""
    data: JsonMap = field(default_factory=dict)
    seen: Seen | None = None

    @classmethod
    def from_json(cls, told: JsonMap) -> Finding:
        """A finding as it was kept.

        Raises
        ------
        TypeError, KeyError
            Of another form.
        """
        seen = told.get("seen")
        kept = None if seen is None else Seen(str(seen["what"]), seen["count"], seen["of"])
        return cls(**{**told, "seen": kept})

    def to_json(self) -> JsonObject:
        """As a JSON object."""
        return {**asdict(self), "seen": None if self.seen is None else self.seen.to_json()}


def worst(findings: Sequence[Finding]) -> Outcome:
    """The worst outcome of all, ``not judged`` when there is none; one that was not judged spoils no pass."""
    told = [finding.outcome for finding in findings if finding.outcome != NOT_JUDGED]
    return max(told, key=OUTCOMES.index, default=NOT_JUDGED)


def not_judged(
    check: str, subject: str, reason: str, limit: str, seen: Seen | None = None, data: JsonMap | None = None
) -> Finding:
    """A finding that found nothing: what it needs is not there, or too little of it."""
    figure = "nothing" if seen is None or not seen.count else f"only {seen.text}"
    return Finding(check, subject, NOT_JUDGED, figure, limit, reason, data=dict(data or {}), seen=seen)


def judged(
    check: str,
    subject: str,
    ok: bool,
    figure: str,
    limit: str,
    note: str,
    value: float | None = None,
    *,
    bad: Outcome = "fail",
    data: JsonMap | None = None,
    seen: Seen | None = None,
) -> Finding:
    """A finding that passes or not; the note is kept only where it does not.

    Parameters
    ----------
    bad : str
        What it is where it does not pass: ``warn`` for what is probably wrong.
    """
    return Finding(
        check,
        subject,
        "pass" if ok else bad,
        figure,
        limit,
        "" if ok else note,
        value,
        data=dict(data or {}),
        seen=seen,
    )
