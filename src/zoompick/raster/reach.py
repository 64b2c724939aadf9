"""Distances on the ground around what a mask holds: what grows, shrinks or fades by metres.

The scale is that of each place: a distance is as long in degrees and on Mercator's map, at 65 degrees too, as it is
in a UTM zone. Source of the transform: P. F. Felzenszwalb and D. P. Huttenlocher, Distance transforms of sampled
functions, Theory of Computing 8 (2012), as OpenCV and SciPy compute it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from zoompick.arrays import Floats, Mask
from zoompick.later import ndimage, np
from zoompick.raster import kernels
from zoompick.raster.grid import Grid, Window
from zoompick.raster.pixelsize import middle_sizes_m, pixel_sizes

_SLACK_PX, _SLACK = 0.01, 0.002
"""So much of a distance in pixels, and of each of them: 40 m over pixels of 8 m stay 5 where the scale is not 1."""
_ALIKE = 0.01
"""Pixels whose sides differ by less are square."""
SAME = 0.0015
"""A scale so near to that of the system's own unit is taken for it: all of a UTM zone."""
_BAND_ROWS, _DIGITS = 64, 1e-6
"""Where they are not, so many rows are measured by the scale in their middle."""


@dataclass(frozen=True)
class Reach:
    """A distance on a grid.

    Attributes
    ----------
    metres : float
        On the ground.
    """

    grid: Grid
    metres: float

    def widened(self, window: Window) -> Window:
        """A window with all around it that lies within the distance."""
        if not self.metres:
            return window
        across, down = (math.ceil(self._most_px(window, side)) + 1 for side in (0, 1))
        return Window(window.col - across, window.row - down, window.width + 2 * across, window.height + 2 * down)

    def _most_px(self, window: Window, side: int) -> float:
        """The distance in pixels where they are smallest."""
        return self.metres / max(min(sizes[side] for sizes in self._looked_at(window)), 1e-6)

    def _looked_at(self, window: Window) -> list[tuple[float, float]]:
        """Sizes of pixels at the corners and in the middle of a window."""
        corners = [Window(col, row, 1, 1) for row in (window.row, window.stop_row - 1)
                   for col in (window.col, window.stop_col - 1)]  # fmt: skip
        return [middle_sizes_m(self.grid, one) for one in (*corners, window)]

    def grown(self, mask: Mask, window: Window) -> Mask:
        """What a mask of the widened window holds, and all within the distance, in the window; in whole pixels."""
        wide = self.widened(window)
        inner = window.slices_in(wide)
        if not self.metres or not mask.any():
            return mask[inner]
        away, side_m = self._measured(~mask, wide, window)
        pixels = self.metres / side_m
        return np.asarray(away <= np.ceil(pixels * (1 - _SLACK) - _SLACK_PX) * side_m * (1 + _DIGITS))

    def shrunk(self, mask: Mask, window: Window) -> Mask:
        """What a mask of the widened window holds without what lies within the distance of its edge."""
        return ~self.grown(~mask, window)

    def away_m(self, mask: Mask, window: Window) -> Floats:
        """How far from what a mask of the widened window does not hold each pixel of the window lies, in metres."""
        return self._measured(mask, self.widened(window), window)[0]

    def _measured(self, mask: Mask, wide: Window, window: Window) -> tuple[Floats, Floats]:
        """Distance of each set pixel to the nearest that is not, and the side of a pixel there; of the window."""
        inner, nominal_m = window.slices_in(wide), self.grid.pixel_m
        if all(abs(side / nominal_m - 1) <= SAME for sizes in self._looked_at(window) for side in sizes):
            return kernels.distance(mask)[inner] * nominal_m, np.array(nominal_m)
        sizes = pixel_sizes(self.grid, window)
        side_m = np.nan_to_num(np.sqrt(sizes.across_m * sizes.down_m), nan=nominal_m)
        side_m = np.where(np.abs(side_m / nominal_m - 1) <= SAME, nominal_m, side_m)
        if np.abs(sizes.across_m / sizes.down_m - 1).max(initial=0) <= _ALIKE:
            return kernels.distance(mask)[inner] * side_m, side_m
        return self._by_bands(mask, wide, window), sizes.down_m

    def _by_bands(self, mask: Mask, wide: Window, window: Window) -> Floats:
        """Distances where pixels are no squares, band by band of rows at fixed places."""
        out, margin = np.empty((window.height, window.width)), (wide.height - window.height) // 2
        row = window.row
        while row < window.stop_row:
            stop = min((row // _BAND_ROWS + 1) * _BAND_ROWS, window.stop_row)
            middle = Window(window.col, row // _BAND_ROWS * _BAND_ROWS, window.width, _BAND_ROWS)
            across, down = middle_sizes_m(self.grid, middle)
            part = mask[row - margin - wide.row : stop + margin - wide.row]
            if part.all():
                found = np.full(part.shape, np.inf)
            else:
                found = ndimage.distance_transform_edt(part, sampling=(down, across))
            rows = slice(margin, margin + stop - row)
            out[row - window.row : stop - window.row] = found[rows, window.slices_in(wide)[1]]
            row = stop
        return out
