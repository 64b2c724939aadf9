"""One check with a measured figure and a limit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Literal

from zoompick.jsontypes import JsonMap, JsonObject

Outcome = Literal["pass", "warn", "fail"]
_ORDER: tuple[Outcome, ...] = ("pass", "warn", "fail")


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

    def to_json(self) -> JsonObject:
        """As a JSON object."""
        return asdict(self)


def worst(findings: Sequence[Finding]) -> Outcome:
    """The worst outcome of all; ``pass`` when there is none."""
    return max((finding.outcome for finding in findings), key=_ORDER.index, default="pass")


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
) -> Finding:
    """A finding that passes or not; the note is kept only where it does not.

    Parameters
    ----------
    bad : str
        What it is where it does not pass: ``warn`` for what is probably wrong.
    """
    return Finding(
        check, subject, "pass" if ok else bad, figure, limit, "" if ok else note, value, data=dict(data or {})
    )
