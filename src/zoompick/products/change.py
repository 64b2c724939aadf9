"""What changed between two dates: the difference of an index, and classes of change with their areas."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import GridError, UsageError
from zoompick.later import np
from zoompick.raster import engine
from zoompick.raster.grid import Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.pixelsize import pixel_sizes
from zoompick.raster.raster import Band, Derived, Raster, valid_mask

_BLOCK_PX = 512
DIFFERENCE, CHANGE = "difference", "change"
"""Names of the band of a difference and of classes of change, by which they are known."""
LOST, SAME, GAINED, STILL = 1, 2, 3, 4
COLOURS = {LOST: "#d55e00", SAME: "#e3e0d6", GAINED: "#0072b2", STILL: "#8fb8d6"}
"""What changed is seen, what did not stands back."""


@dataclass(frozen=True)
class Rule:
    """What counts as change.

    Attributes
    ----------
    above : float or None
        A value: pixels that rise above it are gained, those that fall below it lost.
    by : float or None
        A difference: pixels that rise by as much are gained, those that fall by as much lost.
    """

    above: float | None = None
    by: float | None = None

    def __post_init__(self) -> None:
        if (self.above is None) == (self.by is None):
            raise UsageError("Change is told by `above` a value or `change-min` a difference.", "Give one of them.")
        if self.by is not None and self.by <= 0:
            raise UsageError(f"A difference of {self.by:g} is no change.", "Give one above 0.")

    def names(self, index: str) -> dict[int, str]:
        """Classes by code."""
        if self.above is not None:
            return {LOST: f"no longer above {self.above:g}", SAME: f"below {self.above:g} both times",
                    GAINED: f"now above {self.above:g}", STILL: f"above {self.above:g} both times"}  # fmt: skip
        return {LOST: f"{index} fell by {self.by:g} or more", SAME: "less change than that",
                GAINED: f"{index} rose by {self.by:g} or more"}  # fmt: skip


class Difference(Derived):
    """After less before, as 32-bit floats in physical units; NaN where either is missing.

    Attributes
    ----------
    of : str
        Name of the band that is compared.
    """

    def __init__(self, before: Raster, after: Raster) -> None:
        super().__init__(after)
        if not before.grid.shares_lattice(after.grid) or before.grid.window != after.grid.window:
            raise GridError("The two do not lie on one grid.", "Lay the second on the first's: `like` FILE.")
        self._before = before
        self.of = after.bands[0].name

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band."""
        return (Band(DIFFERENCE),)

    @property
    def dtype(self) -> PixelType:
        """32-bit float."""
        return np.dtype(np.float32)

    @property
    def nodata(self) -> float | None:
        """NaN."""
        return float("nan")

    def both(self, window: Window) -> tuple[Pixels, Pixels, Pixels]:
        """Physical values before and after, and where both are there."""
        found, valid = [], np.ones((window.height, window.width), bool)
        for raster in (self._before, self.source):
            stored = raster.read(window, (0,))[0]
            valid &= valid_mask(stored, raster.nodata)
            band = raster.bands[0]
            found.append(stored.astype(np.float64) * band.scale + band.offset)
        return found[0], found[1], valid

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        before, after, valid = self.both(window)
        return np.where(valid, after - before, np.nan).astype(np.float32)[np.newaxis]


class Change(Derived):
    """Classes of change: 1 lost, 2 the same, 3 gained, 4 still above; 0 where either date is missing."""

    def __init__(self, difference: Difference, rule: Rule, index: str) -> None:
        super().__init__(difference)
        self._difference, self._rule = difference, rule
        rows = [{"value": code, "name": name} for code, name in rule.names(index).items()]
        self.record = {"classification:classes": rows}

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band of codes."""
        return (Band(CHANGE, is_class=True),)

    @property
    def dtype(self) -> PixelType:
        """Unsigned 8 bits."""
        return np.dtype(np.uint8)

    @property
    def nodata(self) -> float | None:
        """Zero."""
        return 0

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        before, after, valid = self._difference.both(window)
        if self._rule.above is not None:
            was, now = before > self._rule.above, after > self._rule.above
            code = np.select([was & ~now, ~was & now, was & now], [LOST, GAINED, STILL], SAME)
        else:
            assert self._rule.by is not None
            step = after - before
            code = np.select([step <= -self._rule.by, step >= self._rule.by], [LOST, GAINED], SAME)
        return np.where(valid, code, 0).astype(np.uint8)[np.newaxis]


@dataclass(frozen=True)
class _Counting:
    """Square metres of each code in a window."""

    raster: Raster
    mask: PolygonMask | None

    def __call__(self, window: Window) -> Pixels:
        codes = self.raster.read(window)[0].astype(np.int64)
        if self.mask is not None:
            codes = np.where(self.mask.read(window), codes, 0)
        sizes = pixel_sizes(self.raster.grid, window).area_m2
        return np.bincount(codes.ravel(), sizes.ravel(), minlength=256)


def areas_m2(raster: Raster, mask: PolygonMask | None = None) -> dict[int, float]:
    """Ground under each code of a class raster, on the ellipsoid, each pixel by its own scale; 0 left out."""
    total = np.zeros(256)
    with engine.crew_of() as crew:
        work = _Counting(raster, mask)
        for found in engine.each(crew, raster.grid.tiles(_BLOCK_PX), work):
            total += found[:256]
    return {code: float(total[code]) for code in np.flatnonzero(total).tolist() if code}
