"""Shadows that a class layer calls clear: dark ground on the side of its clouds that lies away from the sun."""

from __future__ import annotations

from typing import NamedTuple

from zoompick.arrays import Floats, Mask
from zoompick.later import ndimage, np

_LEAST_PX, _STEPS, _FARTHEST_M = 200, 48, 9000.0
DARK, _OTHERWISE = 0.8, 0.65


class Shade(NamedTuple):
    """How dark the clear ground is that the shifted clouds cover, at the distance where it is darkest.

    Attributes
    ----------
    dark : float
        The share of pairs in which it is darker than other clear ground; 0.5 where it is as any.
    opposite : float
        The same on the side towards the sun.
    away_m : float
    pixels : int
    """

    dark: float
    opposite: float
    away_m: float
    pixels: int

    @property
    def is_shadow(self) -> bool:
        """True where only what lies away from the sun is dark."""
        return self.dark > DARK and self.opposite <= _OTHERWISE


def shade_of(
    values: Floats, cloud: Mask, clear: Mask, azimuth_deg: float, sizes_m: tuple[float, float]
) -> Shade | None:
    """Where the shadows of some clouds would fall, whatever their height, and how dark the clear ground there is.

    Parameters
    ----------
    values : array of float, (rows, cols)
        Near infrared, NaN where it is missing; rows go south.
    cloud, clear : array of bool, (rows, cols)
        As a class layer tells; water, shadow and snow in neither.
    azimuth_deg : float
        Of the sun, clockwise from north.
    sizes_m : pair of float
        Of a pixel, across and down.

    Returns
    -------
    Shade or None
        None where hardly anything lies where shadows could fall.
    """
    usable = clear & np.isfinite(values) & ~ndimage.binary_dilation(cloud, iterations=2)
    if usable.sum() < 10 * _LEAST_PX or cloud.sum() < _LEAST_PX:
        return None
    dark = np.zeros(values.shape)
    dark[usable] = 1 - np.argsort(np.argsort(values[usable])) / usable.sum()
    turn, (across_m, down_m) = np.radians(azimuth_deg), sizes_m
    east, south = -np.sin(turn) / across_m, np.cos(turn) / down_m
    farthest = min(_FARTHEST_M, min(values.shape[1] * across_m, values.shape[0] * down_m) / 3)
    found = []
    for sign in (1, -1):
        each = [(*_darkness(dark, usable, cloud, sign * away * east, sign * away * south), float(away))
                for away in np.linspace(2 * max(sizes_m), max(3 * max(sizes_m), farthest), _STEPS)]  # fmt: skip
        found.append(max((one for one in each if one[1] >= _LEAST_PX), default=None))
    away, towards = found
    return None if away is None else Shade(away[0], towards[0] if towards else 0.5, away[2], away[1])


def _darkness(dark: Floats, usable: Mask, cloud: Mask, east: float, south: float) -> tuple[float, int]:
    """Mean rank of the usable pixels that shifted clouds cover, and how many there are."""
    cols, rows = round(east), round(south)
    height, width = cloud.shape
    shifted = np.zeros_like(cloud)
    if abs(cols) >= width or abs(rows) >= height:
        return 0.0, 0
    shifted[max(0, rows) : height + min(0, rows), max(0, cols) : width + min(0, cols)] = cloud[
        max(0, -rows) : height - max(0, rows), max(0, -cols) : width - max(0, cols)
    ]
    hit = shifted & usable
    count = int(hit.sum())
    return (float(dark[hit].mean()) if count else 0.0), count
