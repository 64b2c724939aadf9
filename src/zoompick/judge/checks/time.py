"""Do the scenes of one product belong together: dates, sun, look."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.judge.subject import Check, Subject
from zoompick.scenes.finding import Finding, judged


def _warned(
    subject: Subject, title: str, ok: bool, figure: str, limit: str, note: str, value: float
) -> list[Finding]:
    """What is a matter of taste is no failure."""
    return [judged(title, subject.label, ok, figure, limit, note, value, bad="warn")]


def dates(subject: Subject) -> list[Finding]:
    """From the first to the last scene."""
    moments = sorted(scene.when for scene in subject.scenes if scene.when is not None)
    days, limit = (moments[-1] - moments[0]).total_seconds() / 86400, subject.limits.days
    note = (f"Its scenes are {days:.0f} days apart ({moments[0]:%Y-%m-%d} to {moments[-1]:%Y-%m-%d}): water, crops "
            "and shadows change. Pick scenes of fewer days.")  # fmt: skip
    return _warned(subject, "dates together", days <= limit, f"{days:.1f} days", f"at most {limit:g}", note, days)


def sun(subject: Subject) -> list[Finding]:
    """Sun elevation of the scenes: high enough, and alike."""
    heights = [scene.sun_elevation_deg for scene in subject.scenes if scene.sun_elevation_deg is not None]
    lowest, apart, limits = min(heights), max(heights) - min(heights), subject.limits
    why = "long shadows, little light" if lowest < limits.sun_low_deg else "slopes and shadows differ"
    note = f"The sun stood {lowest:.0f} to {max(heights):.0f} degrees high: {why}. Pick scenes of another time."
    ok = lowest >= limits.sun_low_deg and apart <= limits.sun_deg
    allowed = f"{limits.sun_low_deg:g} at least, {limits.sun_deg:g} apart"
    return _warned(subject, "sun elevation", ok, f"{lowest:.0f} deg, {apart:.0f} apart", allowed, note, lowest)


def view(subject: Subject) -> list[Finding]:
    """Off-nadir angles of the scenes."""
    angles = [scene.off_nadir_deg for scene in subject.scenes if scene.off_nadir_deg is not None]
    apart, limit = max(angles) - min(angles), subject.limits.view_deg
    note = (f"The scenes were seen from {min(angles):.0f} to {max(angles):.0f} degrees off nadir: brightness and "
            "relief differ. Pick scenes alike: 'zoompick search --off-nadir'.")  # fmt: skip
    return _warned(subject, "look angle", apart <= limit, f"{apart:.0f} deg apart", f"at most {limit:g}", note, apart)


def _one_time(subject: Subject) -> bool:
    return subject.traits.is_of_one_time


CHECKS: Sequence[Check] = (
    Check("dates", "time", "dates together", "Dates of the scenes in a stack or mosaic.",
          "Days from the first to the last.",
          lambda s: _one_time(s) and any(p.when is not None for p in s.scenes), dates, limit="days"),
    Check("sun", "time", "sun elevation", "Sun elevations of the scenes in it.",
          "The lowest, and how far they are apart, as the catalogue tells them.",
          lambda s: _one_time(s) and any(p.sun_elevation_deg is not None for p in s.scenes), sun, limit="sun_deg"),
    Check("view", "time", "look angle", "Off-nadir angles of several scenes in it.", "How far they are apart.",
          lambda s: _one_time(s) and sum(p.off_nadir_deg is not None for p in s.scenes) > 1, view, limit="view_deg"),
)  # fmt: skip
