"""Where the pixels of a target lie in a source: exact on knots, interpolated between with a bounded error.

Knots stand at fixed pixels of the target, and how dense they are is decided cell by cell, so that where a pixel lies
does not depend on the window in which it is asked for.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

from zoompick.arrays import Mask, Numbers, Pixels
from zoompick.later import np
from zoompick.raster.grid import Grid, Window

STEP_PX, _FINE_PX = 32, 4
NOWHERE = -1e6
"""Column and row of what has no place."""
POSITION_ERROR_PX = 0.01
"""What positions may be off in the middle of a cell, in pixels of the source."""
Exact = Callable[[Pixels, Pixels], tuple[Pixels, Pixels]]
"""Columns and rows in the source of columns and rows of the target, arrays of one shape."""


Spans = tuple[tuple[float, float], tuple[float, float]]


def spans_of(cols: Numbers, rows: Numbers) -> Spans:
    """Between which all columns, and all rows, lie."""
    return (float(cols.min()), float(cols.max())), (float(rows.min()), float(rows.max()))


@dataclass(frozen=True)
class Positions:
    """Source column and row of every pixel of a window, as 64-bit floats, centres at whole numbers."""

    cols: Numbers
    rows: Numbers

    @cached_property
    def spans(self) -> Spans:
        """Between which all columns, and all rows, lie."""
        return spans_of(self.cols, self.rows)

    def is_within(self, lattice: Grid) -> bool:
        """True when every position is seen to lie well on a lattice."""
        sizes = lattice.width, lattice.height
        return all(low > 0 and high < size - 1 for (low, high), size in zip(self.spans, sizes, strict=True))

    def inside(self, lattice: Grid) -> Mask:
        """True where a position lies on a lattice."""
        across = (self.cols > -0.5) & (self.cols < lattice.width - 0.5)
        return np.asarray(across & (self.rows > -0.5) & (self.rows < lattice.height - 0.5))


def positions(window: Window, exact: Exact, step: int = STEP_PX) -> Positions:
    """Positions of the pixels of a window of the target.

    Parameters
    ----------
    step : int
        Distance of knots where the way between them may be interpolated; 1 where it may not.
    """
    if step == 1:
        return Positions(
            *exact(*_mesh(np.arange(window.col, window.stop_col), np.arange(window.row, window.stop_row)))
        )
    found, bad = _between(window, exact, step)
    if bad is not None:
        fine, bad_still = _between(window, exact, _FINE_PX)
        found = [np.where(bad, sharp, soft) for sharp, soft in zip(fine, found, strict=True)]
        if bad_still is not None:
            rows, cols = np.nonzero(bad & bad_still)
            for whole, one in zip(found, exact(cols + window.col, rows + window.row), strict=True):
                whole[rows, cols] = one
    return Positions(found[0], found[1])


def _between(window: Window, exact: Exact, step: int) -> tuple[list[Numbers], Mask | None]:
    """Columns and rows interpolated between knots so many pixels apart, and where that is not good enough."""
    first_col, first_row = window.col // step * step, window.row // step * step
    knots_x = np.arange(first_col, window.stop_col + step, step)
    knots_y = np.arange(first_row, window.stop_row + step, step)
    knots = exact(*_mesh(knots_x, knots_y))
    middle = exact(*_mesh(knots_x[:-1] + step / 2, knots_y[:-1] + step / 2))
    off = np.max([np.abs(_centres(one) - true) for one, true in zip(knots, middle, strict=True)], axis=0)
    part = (slice(window.row - first_row, window.stop_row - first_row),
            slice(window.col - first_col, window.stop_col - first_col))  # fmt: skip
    found = [_spread(one, step)[part] for one in knots]
    bad = off > POSITION_ERROR_PX
    return found, np.repeat(np.repeat(bad, step, axis=0), step, axis=1)[part] if bad.any() else None


def _mesh(xs: Numbers, ys: Numbers) -> tuple[Numbers, Numbers]:
    across, down = np.meshgrid(xs, ys)
    return across, down


def _centres(knots: Numbers) -> Numbers:
    """What bilinear interpolation gives in the middle of each cell."""
    return np.asarray((knots[:-1, :-1] + knots[1:, :-1] + knots[:-1, 1:] + knots[1:, 1:]) / 4)


def _spread(knots: Numbers, step: int) -> Numbers:
    """Bilinear interpolation of knots, so many pixels apart, at every pixel from the first to before the last."""
    share = np.arange(step) / step
    first, rise = knots[:-1, None, :], np.diff(knots, axis=0)[:, None, :]
    down = (first + rise * share[None, :, None]).reshape(-1, knots.shape[1])
    out = np.diff(down, axis=1)[:, :, None] * share
    out += down[:, :-1, None]
    return np.asarray(out.reshape(len(down), -1))
