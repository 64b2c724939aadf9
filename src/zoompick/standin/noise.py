"""Seeded random fields with the statistics of natural surfaces."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import scipy.fft

Field = npt.NDArray[np.float32]
_ROWS_AT_ONCE = 32


def fractal(shape: tuple[int, int], slope: float, seed: int, pixel: float = 1.0, longest: float = np.inf) -> Field:
    """Gaussian field whose power falls with frequency to the power ``-slope``; mean 0, deviation 1.

    Source: D. Saupe, Algorithms for random fractals, in The Science of Fractal Images (1988), section 2.4.

    Parameters
    ----------
    slope : float
        2 is rough like terrain seen close, 3.5 smooth like clouds.
    pixel : float
        Pixel size in any unit of length.
    longest : float
        Wavelengths beyond this, in the same unit, are left out.
    """
    rows, cols = shape
    rng = np.random.default_rng(seed)
    y = scipy.fft.fftfreq(rows, pixel)[:, None].astype(np.float32)
    x = scipy.fft.rfftfreq(cols, pixel)[None, :].astype(np.float32)
    frequency = np.sqrt(y * y + x * x)
    frequency[0, 0] = np.inf
    amplitude = frequency ** np.float32(-slope / 2)
    amplitude[frequency < 1 / longest] = 0
    spectrum = np.empty(amplitude.shape, np.complex64)
    spectrum.real = rng.standard_normal(amplitude.shape, np.float32)
    spectrum.imag = rng.standard_normal(amplitude.shape, np.float32)
    spectrum *= amplitude
    field = scipy.fft.irfft2(spectrum, s=shape, workers=-1)
    field -= field.mean()
    field /= field.std()
    return np.asarray(field, np.float32)


def enlarged(field: Field, factor: int) -> Field:
    """A coarse field on a grid ``factor`` (a power of two) times as fine, interpolated linearly."""
    while factor > 1:
        field = _wider(_taller(field))
        factor //= 2
    return np.ascontiguousarray(field)


def _taller(field: Any) -> Any:
    """Twice the rows: new pixel centres lie a quarter of a pixel beside the old ones."""
    near, far = 0.75 * field, 0.25 * field
    out = np.empty((2 * field.shape[0], field.shape[1]), field.dtype)
    np.add(near[1:], far[:-1], out=out[2::2])
    np.add(near[:-1], far[1:], out=out[1:-1:2])
    out[0], out[-1] = near[0] + far[0], near[-1] + far[-1]
    return out


def _wider(field: Any) -> Any:
    """Twice the columns, some rows at a time: what is in the processor's memory need not be fetched again."""
    out = np.empty((field.shape[0], 2 * field.shape[1]), field.dtype)
    for top in range(0, len(field), _ROWS_AT_ONCE):
        rows = slice(top, top + _ROWS_AT_ONCE)
        near, far, part = 0.75 * field[rows], 0.25 * field[rows], out[rows]
        np.add(near[:, 1:], far[:, :-1], out=part[:, 2::2])
        np.add(near[:, :-1], far[:, 1:], out=part[:, 1:-1:2])
        part[:, 0], part[:, -1] = near[:, 0] + far[:, 0], near[:, -1] + far[:, -1]
    return out


@dataclass(frozen=True)
class Between:
    """Positions between the pixels of fields of one shape, (rows, cols); weights are made once for all of them."""

    corners: tuple[Any, ...]
    weights: tuple[Any, ...]

    @classmethod
    def of(cls, rows: Any, cols: Any, shape: tuple[int, int], wraps: bool = False) -> Between:
        """Linear between neighbours; beyond the edge its value goes on, or the field begins again."""
        high, wide = shape
        low = np.floor(rows), np.floor(cols)
        down, right = rows - low[0], cols - low[1]
        row, col = (part.astype(np.int32) for part in low)
        if wraps:
            above, left = row % high, col % wide
            below, beside = above + 1, left + 1
            below -= high * (below == high)
            beside -= wide * (beside == wide)
        else:
            above, below = np.clip(row, 0, high - 1), np.clip(row + 1, 0, high - 1)
            left, beside = np.clip(col, 0, wide - 1), np.clip(col + 1, 0, wide - 1)
        above *= wide
        below *= wide
        corners = tuple(
            place.astype(np.intp) for place in (above + left, above + beside, below + left, below + beside)
        )
        up, aside = 1 - down, 1 - right
        weights = up * aside, up * right, down * aside, down * right
        return cls(corners, weights)

    def blend(self, field: Any) -> Field:
        """Values of a field there."""
        flat = np.ascontiguousarray(field, np.float32).ravel()
        total = flat[self.corners[0]] * self.weights[0]
        for corner, weight in zip(self.corners[1:], self.weights[1:], strict=True):
            total += flat[corner] * weight
        return np.asarray(total, np.float32)


def smoothstep(value: Any, low: float, high: float) -> Any:
    """0 below ``low``, 1 above ``high``, smooth between."""
    part = np.clip((value - low) / (high - low), 0, 1)
    return part * part * (3 - 2 * part)


def hashed(*numbers: Any) -> Any:
    """Whole numbers of any shape to reproducible values from 0 to 65535."""
    mixed: Any = np.uint32(2166136261)
    with np.errstate(over="ignore"):
        for number in numbers:
            mixed = (mixed ^ np.asarray(number).astype(np.int64).astype(np.uint32)) * np.uint32(16777619)
            mixed = mixed ^ (mixed >> np.uint32(15))
            mixed = mixed * np.uint32(2246822519)
    return ((mixed ^ (mixed >> np.uint32(13))) & np.uint32(0xFFFF)).astype(np.uint16)
