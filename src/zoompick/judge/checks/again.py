"""Clips and comparisons made again on a sample, from what they were made of."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from zoompick.arrays import Floats, Mask
from zoompick.judge.checks.products import formula_value, physical, source_of_all
from zoompick.judge.sampled import (
    MOST_OFF_CODES_PERCENT,
    MOST_OFF_PERCENT,
    RELATIVE,
    STEP,
    Tally,
    compared,
    judged_as,
    outline_of,
    surely,
    windows_of,
)
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding, not_judged


def clip_again(subject: Subject) -> list[Finding]:
    """A clip: its source's pixels inside the recorded area, none outside."""
    source = source_of_all(subject)
    grid, tally = subject.raster.grid, Tally()
    if source is None or not source.grid.shares_lattice(grid) or len(source.bands) != len(subject.raster.bands):
        reason = "What it was cut out of was never written, is not here, or lies on another lattice."
        return [not_judged("cut as recorded", subject.label, reason, f"at most {MOST_OFF_PERCENT:g} %")]
    polygon = outline_of(subject.options["area"], grid)
    col, row = (round(value) for value in grid.offset_in(source.grid))
    for window in windows_of(subject):
        inside, outside = surely(polygon, grid, window)
        if subject.options.get("outside"):
            inside, outside = outside, inside
        own, theirs = subject.raster.read(window), source.read(window.moved(col, row))
        there = valid_mask(own, subject.raster.nodata).any(axis=0)
        known: Mask = np.asarray(valid_mask(theirs, source.nodata))
        same: Mask = np.asarray(np.all((own == theirs) | ~known, axis=0))
        tally = tally.plus(inside, np.asarray(~same | (there != known.any(axis=0))))
        tally = tally.plus(outside, np.asarray(there))
    return [compared(subject, "cut as recorded", tally, "are not its source's inside the area, or lie outside it")]


class _Dates(NamedTuple):
    """Two rasters of one grid, and what is compared of them."""

    before: Raster
    after: Raster
    formula: str

    def both(self, window: Window) -> tuple[Floats, Floats]:
        return self._value(self.before, window), self._value(self.after, window)

    def _value(self, raster: Raster, window: Window) -> Floats:
        bands = physical(raster, window)
        if not self.formula:
            return next(iter(bands.values()))
        with np.errstate(all="ignore"):
            return np.asarray(formula_value(self.formula, bands), np.float64)


def _dates(subject: Subject) -> _Dates | None:
    """What a comparison was made of; None where it is not here, or cannot be computed by the judge."""
    paths = [path for path in subject.read if path.is_file()]
    if subject.open is None or len(paths) != 2 or len(subject.read) != 2:
        return None
    before, after = (subject.open(path) for path in paths)
    recipe = subject.options.get("recipe")
    formula = str(recipe[1]) if isinstance(recipe, list) else ""
    if not formula and (len(before.bands), len(after.bands)) != (1, 1):
        return None
    if before.grid.bounds != subject.raster.grid.bounds:
        return None
    found = _Dates(before, resampled_to(after, before.grid), formula)
    try:
        found.both(Window(0, 0, 1, 1))
    except (KeyError, TypeError, SyntaxError, ZeroDivisionError, RecursionError):
        return None
    return found


def difference_again(subject: Subject) -> list[Finding]:
    """A difference: the later value less the earlier."""
    dates, tally, turned = _dates(subject), Tally(), Tally()
    if dates is None:
        reason = "The two dates that it was made of are not here."
        return [not_judged("later less earlier", subject.label, reason, f"at most {MOST_OFF_PERCENT:g} %")]
    (band,) = subject.raster.bands
    for window in windows_of(subject):
        before, after = dates.both(window)
        stored = subject.raster.read(window)[0]
        there, wanted = valid_mask(stored, subject.raster.nodata), after - before
        off = np.abs(stored * band.scale + band.offset - wanted) > STEP + RELATIVE * np.abs(wanted)
        known = np.isfinite(wanted)
        tally = tally.plus(known | there, (off & known & there) | (known != there))
        summed = np.abs(stored * band.scale + band.offset + wanted) > STEP + RELATIVE * np.abs(wanted)
        turned = turned.plus(known & there, summed)
    cause = "It is the earlier date less the later." if turned.fits() else ""
    return [compared(subject, "later less earlier", tally, "are not the later date less the earlier", cause=cause)]


def change_again(subject: Subject) -> list[Finding]:
    """Classes of change: by the recorded rule, from both dates."""
    dates, tally, turned = _dates(subject), Tally(), Tally()
    above, by = (None if one is None else float(one) for one in map(subject.options.get, ("above", "by")))
    if dates is None or (above is None and by is None):
        reason = "The two dates that it was made of are not here."
        return [not_judged("change by its rule", subject.label, reason, f"at most {MOST_OFF_CODES_PERCENT:g} %")]
    for window in windows_of(subject):
        before, after = dates.both(window)
        known = np.isfinite(before) & np.isfinite(after)
        if above is not None:
            was, now = before > above, after > above
            wanted = np.where(was & now, 4, np.where(was, 1, np.where(now, 3, 2)))
            near = np.minimum(np.abs(before - above), np.abs(after - above)) < STEP
        else:
            assert by is not None
            step = after - before
            wanted = np.where(step <= -by, 1, np.where(step >= by, 3, 2))
            near = np.abs(np.abs(step) - by) < STEP
        codes = subject.raster.read(window)[0]
        tally = tally.plus(~near, codes != np.where(known, wanted, 0))
        turned = turned.plus(~near & known, codes != np.choose(wanted, _TURNED))
    cause = "Its dates are turned around: what was gained is called lost." if turned.fits() else ""
    return [compared(subject, "change by its rule", tally, "are of another class than both dates give",
                     MOST_OFF_CODES_PERCENT, cause)]  # fmt: skip


_TURNED = (0, 3, 2, 1, 4)
"""Each class of change if the dates were the other way about: gained (3) for lost (1)."""


CHECKS: Sequence[Check] = (
    Check("clip", "products", "cut as recorded", "A clip, and what it was cut out of.",
          "In nine windows: inside the recorded area (by shapely) the source's pixels, outside none; pixels within "
          "three quarters of one of the outline are left out.", judged_as("clip"), clip_again),
    Check("difference", "products", "later less earlier", "A difference, and the two dates that it was made of.",
          "In nine windows: the recorded formula of both dates by the judge's own code, the later less the earlier.",
          judged_as("difference"), difference_again),
    Check("change", "products", "change by its rule", "Classes of change, and the two dates that they were made of.",
          "In nine windows: the class of each pixel by the recorded rule, from both dates.", judged_as("change"),
          change_again),
)  # fmt: skip
