"""One check with a measured figure and a limit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

Outcome = Literal["pass", "warn", "fail"]
_ORDER: tuple[Outcome, ...] = ("pass", "warn", "fail")


@dataclass(frozen=True, slots=True)
class Finding:
    """What one check found of one thing.

    Attributes
    ----------
    check : str
        What was judged: ``blocks decode``, ``checksum``, ``cloud in area``, …
    subject : str
        The file or scene.
    figure, limit : str
        Measured and allowed, for people.
    note : str
        What is wrong and what to do; empty on a pass.
    value : float or None
        The figure as a number, where it is one.
    """

    check: str
    subject: str
    outcome: Outcome
    figure: str
    limit: str
    note: str = ""
    value: float | None = None

    def to_json(self) -> dict[str, Any]:
        """As a JSON object."""
        return asdict(self)


def worst(findings: Sequence[Finding]) -> Outcome:
    """The worst outcome of all; ``pass`` when there is none."""
    return max((finding.outcome for finding in findings), key=_ORDER.index, default="pass")


def judged(
    check: str, subject: str, ok: bool, figure: str, limit: str, note: str, value: float | None = None
) -> Finding:
    """A finding that passes or fails; the note is kept only on a fail."""
    return Finding(check, subject, "pass" if ok else "fail", figure, limit, "" if ok else note, value)
