"""Blends of many dates made again on a sample, with their counts and days, from the scenes that they were made of."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

from zoompick.arrays import Floats, Mask, Pixels
from zoompick.jsontypes import JsonMap
from zoompick.judge.checks.products import formula_value, physical
from zoompick.judge.ordering import ordered, ranks_of
from zoompick.judge.owners import MadeOf, Owner, first_clear, of_owner, shown_by_day
from zoompick.judge.sampled import (
    MOST_OFF_CODES_PERCENT,
    MOST_OFF_PERCENT,
    RELATIVE,
    Tally,
    compared,
    judged_as,
    windows_of,
)
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.scenes.finding import Finding, not_judged

_TITLE, _COUNT, _DAY = "blended as recorded", "dates counted again", "day of each again"
_FIRST = ("newest", "clearest")
_CLOSE = 1e-3
"""Values of a formula that lie nearer to each other may have been told apart either way."""

_REDUCED: Mapping[str, Callable[[Floats], Floats]] = {
    "median": lambda stack: np.nanmedian(stack, axis=0), "mean": lambda stack: np.nanmean(stack, axis=0)
}  # fmt: skip


class _Chosen(NamedTuple):
    """The scene of each pixel of a window, 0 for none, and where that is sure."""

    number: Pixels
    sure: Mask


def blend_again(subject: Subject) -> list[Finding]:
    """A blend of many dates: the recorded statistic, or choice, of those that show the ground."""
    scenes, way = MadeOf(subject), str(subject.options.get("by", ""))
    if not scenes.found:
        return [_untold(subject, _TITLE, "A file that it was made of is not here.")]
    if way in (*_FIRST, "highest"):
        return _picked_again(subject, scenes, way)
    reduce = _REDUCED.get(way)
    if way == "percentile":
        share = float(str(subject.options.get("detail") or 0))
        reduce = lambda stack: np.nanpercentile(stack, share, axis=0)  # noqa: E731
    if reduce is None:
        return [_untold(subject, _TITLE, f"The way {way} is computed again by no check.")]
    tally, least = Tally(), max(1, int(subject.options.get("least") or 1))
    for window, shown, sure in _shown(subject, scenes):
        own, wrong = physical(subject.raster, window), np.zeros(sure.shape, bool)
        count = np.sum([one > 0 for one in shown], axis=0)
        for band in subject.raster.bands:
            stack = np.stack([of_owner(scenes.found, owner, band.name, window) for owner in shown])
            with np.errstate(all="ignore"):
                wanted = np.where(count >= least, reduce(np.where(count > 0, stack, 0)), np.nan)
            wrong |= _off(own[band.name], wanted, band.scale)
        tally = tally.plus(sure, wrong)
    return [compared(subject, _TITLE, tally, f"are not the {way} of the dates that show the ground")]


def _off(own: Floats, wanted: Floats, scale: float) -> Mask:
    """Where a band is not as wanted, or there where nothing is wanted."""
    off = ~(np.abs(own - wanted) <= 1.01 * abs(scale) + RELATIVE * np.abs(wanted))
    return np.asarray(off & (np.isfinite(own) | np.isfinite(wanted)))


def _untold(subject: Subject, title: str, reason: str) -> Finding:
    most = MOST_OFF_PERCENT if title == _TITLE else MOST_OFF_CODES_PERCENT
    return not_judged(title, subject.label, reason, f"at most {most:g} %")


def _shown(subject: Subject, scenes: MadeOf) -> Iterator[tuple[Window, list[Pixels], Mask]]:
    """Windows, for each day the scene that shows the ground, and where that does not hang on an edge."""
    days = [str(row.get("datetime", ""))[:10] for row in scenes.rows]
    for window in windows_of(subject):
        least, most = shown_by_day(scenes.found, days, scenes.names, window)
        yield window, least, np.all([one == other for one, other in zip(least, most, strict=True)], axis=0)


def _choices(subject: Subject, scenes: MadeOf, found: Sequence[Owner]) -> Iterator[tuple[Window, _Chosen]]:
    """Windows, and the scene that each pixel should be from: the first of some, or by the recorded formula.

    Raises
    ------
    KeyError, TypeError, SyntaxError, RecursionError
        The formula is none that can be computed of its bands.
    """
    formula = str(subject.told.get("zoompick:formula", ""))
    for window in windows_of(subject):
        yield window, _highest(scenes, formula, window) if _is_highest(subject) else (
            _first(found, scenes.names, window))  # fmt: skip


def _is_highest(subject: Subject) -> bool:
    return subject.options.get("by") == "highest"


_UNKNOWN = (KeyError, TypeError, SyntaxError, RecursionError)
_NO_FORMULA = "Its record tells no formula that can be computed of its bands."


def _picked_again(subject: Subject, scenes: MadeOf, way: str) -> list[Finding]:
    """A blend that takes each pixel from the newest, clearest or, by an index, highest that shows the ground."""
    tally = Tally()
    try:
        for window, chosen in _choices(subject, scenes, scenes.found):
            own, wrong = physical(subject.raster, window), np.zeros(chosen.sure.shape, bool)
            for band in subject.raster.bands:
                wrong |= _off(own[band.name], of_owner(scenes.found, chosen.number, band.name, window), band.scale)
            tally = tally.plus(chosen.sure, wrong)
    except _UNKNOWN:
        return [_untold(subject, _TITLE, _NO_FORMULA)]
    found = compared(subject, _TITLE, tally, f"are not those of the {way} scene that shows the ground")
    return [found, *(() if _is_highest(subject) else ordered(subject, scenes.rows, way))]


def _first(found: Sequence[Owner], names: Sequence[str], window: Window) -> _Chosen:
    least, most = first_clear(found, names, window, clear_only=True)
    return _Chosen(least, np.asarray(least == most))


def _highest(scenes: MadeOf, formula: str, window: Window) -> _Chosen:
    """The scene with the highest value of a formula; not sure where the second is as high, or edges decide."""
    both = []
    for which in (0, 1):
        values = []
        for scene in scenes.found:
            bands = {name: scene.values(name, window) for name in scenes.names}
            usable = np.all([np.isfinite(one) for one in bands.values()], axis=0) & ~scene.hidden(window)[which]
            with np.errstate(all="ignore"):
                value = np.asarray(formula_value(formula, bands), np.float64)
            values.append(np.where(usable & np.isfinite(value), value, -np.inf))
        both.append(np.stack(values))
    numbers = [np.where(np.isfinite(one.max(axis=0)), one.argmax(axis=0) + 1, 0) for one in both]
    ranked = np.sort(both[0], axis=0)
    ahead = np.ones(numbers[0].shape, bool)
    if len(ranked) > 1:
        with np.errstate(invalid="ignore"):
            ahead = ~(ranked[-1] - ranked[-2] < _CLOSE)
    return _Chosen(numbers[0], np.asarray((numbers[0] == numbers[1]) & ahead))


def count_again(subject: Subject) -> list[Finding]:
    """The layer of a blend that tells how many dates went into each pixel."""
    scenes, tally = MadeOf(subject), Tally()
    if not scenes.found:
        return [_untold(subject, _COUNT, "A file that it was made of is not here.")]
    for window, shown, sure in _shown(subject, scenes):
        count = np.sum([one > 0 for one in shown], axis=0)
        tally = tally.plus(sure, subject.raster.read(window)[0] != count)
    return [compared(subject, _COUNT, tally, "tell another number of dates than show the ground",
                     MOST_OFF_CODES_PERCENT)]  # fmt: skip


def day_again(subject: Subject) -> list[Finding]:
    """The layer of a blend that tells the day each pixel is from."""
    scenes, way, tally = MadeOf(subject), str(subject.options.get("by", "")), Tally()
    ranks = [0.0] * len(scenes.rows) if _is_highest(subject) else ranks_of(subject, scenes.rows, way)
    if not scenes.found:
        return [_untold(subject, _DAY, "A file that it was made of is not here.")]
    if ranks is None:
        return [_untold(subject, _DAY, f"A scene does not tell what makes it {way}.")]
    places = sorted(range(len(ranks)), key=lambda place: ranks[place])
    days = np.array([0, *(_day(scenes.rows[place]) for place in places)])
    try:
        for window, chosen in _choices(subject, scenes, [scenes.found[place] for place in places]):
            tally = tally.plus(chosen.sure, subject.raster.read(window)[0] != days[chosen.number])
    except _UNKNOWN:
        return [_untold(subject, _DAY, _NO_FORMULA)]
    what = f"tell another day than that of the {way} scene that shows the ground"
    return [compared(subject, _DAY, tally, what, MOST_OFF_CODES_PERCENT)]


def _day(row: JsonMap) -> int:
    return int(str(row.get("datetime", "0"))[:10].replace("-", ""))


CHECKS: Sequence[Check] = (
    Check("blend", "products", _TITLE, "A blend, and all files that it was made of.",
          "In nine windows: NumPy's statistic of all dates that show the ground, or the values of the newest or "
          "clearest scene, or of that in which the recorded formula is highest.", judged_as("blend"), blend_again),
    Check("count", "products", _COUNT, "The layer that counts a blend's dates, and all files that it was made of.",
          "In nine windows: how many dates show the ground.", judged_as("count"), count_again),
    Check("day", "products", _DAY, "The layer of a blend's days, and all files that it was made of.",
          "In nine windows: the day of the scene that the recorded way takes there.", judged_as("day"),
          day_again),
)  # fmt: skip
