"""Whether a part of a picture is shifted and the rest is not: a step between two sides, not a slope, and no noise."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zoompick.arrays import Floats, Mask
from zoompick.judge.shifts import Shifts
from zoompick.later import np

LEAST_PX = 0.15
_FEW, _SURE, _BETTER = 3, 6.0, 0.75
_MEDIAN_ERROR, _FINEST_PX = 1.25, 0.02


@dataclass(frozen=True)
class Part:
    """A side that lies elsewhere than the other.

    Attributes
    ----------
    cols, rows : float
        By which it lies off the rest, in pixels.
    tiles, of : int
        Tiles in it, and tiles that told a shift.
    middle : (float, float)
        Column and row about which it lies.
    sure : float
        The step in errors of the difference of two medians.
    """

    cols: float
    rows: float
    tiles: int
    of: int
    middle: tuple[float, float]
    sure: float

    @property
    def size_px(self) -> float:
        """Length of the shift."""
        return float(np.hypot(self.cols, self.rows))


def parted(shifts: Shifts) -> Part | None:
    """The smaller of two sides, left and right or upper and lower, that are shifted against one another.

    A step has to be far beyond what tiles of one side differ by, and to explain the tiles better than a slope does:
    relief varies from tile to tile, and a turned or stretched frame slopes. None without such a step.
    """
    places = np.array([(one.col, one.row) for one in shifts.vectors])
    moves = np.array([(one.cols, one.rows) for one in shifts.vectors])
    best: Part | None = None
    for axis, side in _sides(places):
        middles = [np.median(moves[one], axis=0) for one in (side, ~side)]
        gap = middles[0] - middles[1]
        left = _length(moves - np.where(side[:, None], *middles))
        sure = float(np.hypot(*gap) / np.hypot(_error(left[side]), _error(left[~side])))
        is_step = left.sum() < _BETTER * _length(_without_slope(places[:, axis], moves)).sum()
        if np.hypot(*gap) >= LEAST_PX and sure >= _SURE and is_step and (best is None or sure > best.sure):
            middle = places[side].mean(axis=0)
            best = Part(float(gap[0]), float(gap[1]), int(side.sum()), len(moves),
                        (float(middle[0]), float(middle[1])), float(sure))  # fmt: skip
    return best


def _sides(places: Floats) -> Iterator[tuple[int, Mask]]:
    """Each way to cut tiles in two by a line along rows or columns: the axis, and the smaller side."""
    for axis in (0, 1) if len(places) else ():
        values = np.unique(places[:, axis])
        for cut in (values[:-1] + values[1:]) / 2:
            side = places[:, axis] < cut
            side = side if side.sum() <= (~side).sum() else ~side
            if side.sum() >= _FEW:
                yield axis, side


def _error(left: Floats) -> float:
    """Error of a median, from what is left of the tiles about it; of very few the farthest tells."""
    if len(left) <= _FEW:
        return max(float(left.max()), _FINEST_PX)
    return _MEDIAN_ERROR * max(1.4826 * float(np.median(left)), _FINEST_PX) / float(np.sqrt(len(left)))


def _length(moves: Floats) -> Floats:
    return np.asarray(np.hypot(moves[:, 0], moves[:, 1]))


def _without_slope(along: Floats, moves: Floats) -> Floats:
    """What a straight line leaves of them."""
    terms = np.stack([np.ones(len(along)), (along - along.mean()) / max(float(np.ptp(along)), 1.0)], axis=1)
    found, *_ = np.linalg.lstsq(terms, moves, rcond=None)
    return np.asarray(moves - terms @ found)
