"""Which lines of a band are dead, and which are stripes: by sums, counts and extremes of its rows or columns."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.arrays import Floats, Mask
from zoompick.judge.gauges import SEGMENTS
from zoompick.later import np


@dataclass(frozen=True)
class LineFigures:
    """Of each line of a band, shape (lines,), by eighths of it (8, lines)."""

    sums_by_part: Floats
    counts_by_part: Floats
    low: Floats
    high: Floats

    @classmethod
    def of(cls, figures: Floats) -> LineFigures:
        """Out of what :class:`~zoompick.judge.gauges.Lines` measures."""
        return cls(figures[:SEGMENTS], figures[SEGMENTS : 2 * SEGMENTS], figures[-2], figures[-1])

    @property
    def sums(self) -> Floats:
        """Of whole lines."""
        return np.asarray(self.sums_by_part.sum(axis=0))

    @property
    def counts(self) -> Floats:
        """Of whole lines."""
        return np.asarray(self.counts_by_part.sum(axis=0))


def odd_lines(of: LineFigures, least_seen: int) -> tuple[list[int], list[int]]:
    """Numbers of dead lines and of stripes.

    Parameters
    ----------
    least_seen : int
        Pixels of a line, at least, for one value to be odd.
    """
    sums, counts, low, high = of.sums, of.counts, of.low, of.high
    usual = np.median(counts[counts > 0]) if (counts > 0).any() else 0
    full = counts > 0.5 * usual
    flat = (low == high) & full & (counts >= least_seen)
    dead = _dead(of, full & (high > low), (counts < 0.05 * usual) | flat)
    means = np.where(full, sums / np.maximum(counts, 1), np.nan)
    steps = np.diff(means)
    usable = np.isfinite(steps)
    if usable.sum() < _LEAST_LINES:
        return np.flatnonzero(dead).tolist(), []
    spread = 1.4826 * np.median(np.abs(steps[usable]))
    least = max(_FAR_OFF * spread, _LEAST_STEP * float(np.nanmedian(np.abs(means))))
    ragged = np.abs(np.diff(counts)) / max(usual, 1)
    stripes = np.zeros(len(counts), bool)
    for width in range(1, _WIDEST + 1):
        for start in _stripes(steps, ragged, width, least):
            if _goes_across(of, start, width):
                stripes[start : start + width] = True
    return np.flatnonzero(dead).tolist(), np.flatnonzero(stripes & ~dead).tolist()


def _dead(of: LineFigures, varied: Mask, suspect: Mask) -> Mask:
    """Lines of one value or none, up to so many together, with lines on both sides that vary and go beyond it.

    Where a line's one value is the least or greatest of the lines on both sides too, it is what most of them hold: no
    rain, all cloud.
    """
    changes = np.diff(np.concatenate([[False], suspect, [False]]).astype(np.int8))
    out = np.zeros(len(suspect), bool)
    for start, stop in zip(np.flatnonzero(changes == 1), np.flatnonzero(changes == -1), strict=True):
        inner = start > 0 and stop < len(suspect)
        if not (inner and stop - start <= _MOST_DEAD and varied[start - 1] and varied[stop]):
            continue
        value, beside = of.low[start], [start - 1, stop]
        is_usual = bool((of.low[beside] == value).all() or (of.high[beside] == value).all())
        out[start:stop] = not is_usual
    return out


def _stripes(steps: Floats, ragged: Floats, width: int, least: float) -> list[int]:
    """First of so many lines together that differ from the lines on both sides, the same way and about as much.

    The edge of a patch is a step to one side; what lies across many lines has edges that differ.
    """
    starts = np.arange(len(steps) - width)
    into, out_of = steps[starts], steps[starts + width]
    with np.errstate(invalid="ignore"):
        hit = (np.minimum(into, -out_of) > least) | (np.maximum(into, -out_of) < -least)
        if width > 1:
            hit &= np.abs(into + out_of) < _UNLIKE * np.abs(into)
    found = []
    for start in starts[hit]:
        inside = steps[start + 1 : start + width]
        even = not inside.size or np.abs(inside).max() < _UNLIKE * abs(steps[start])
        if even and ragged[start : start + width + 1].sum() < _SAME_COUNT:
            found.append(int(start) + 1)
    return found


def _goes_across(of: LineFigures, start: int, width: int) -> bool:
    """True where lines are off all along, the same way: a fault does not end half-way, a cloud or a field does."""
    here, beside = slice(start, start + width), [start - 1, start + width]
    counts = of.counts_by_part
    full = (counts[:, here].min(axis=1) > 0) & (counts[:, beside].min(axis=1) > 0)
    sums = of.sums_by_part[full]
    inner = sums[:, here].sum(axis=1) / counts[full][:, here].sum(axis=1)
    outer = sums[:, beside].sum(axis=1) / counts[full][:, beside].sum(axis=1)
    off = (inner - outer) * np.sign((inner - outer).mean())
    return bool((off > _SHARED * off.mean()).mean() >= _ALONG)


_MOST_DEAD, _WIDEST, _UNLIKE = 16, 4, 0.3
_LEAST_LINES, _FAR_OFF, _LEAST_STEP, _SAME_COUNT, _SHARED, _ALONG = 20, 8.0, 0.03, 0.04, 0.3, 0.75
