"""How far two bands are shifted against one another, tile by tile; the judge's own measure, not the maker's.

Source: C. D. Kuglin and D. C. Hines, The phase correlation image alignment method, IEEE Int. Conf. Cybernetics and
Society (1975), for whole pixels; H. S. Stone, M. T. Orchard, E.-C. Chang, S. A. Martucci, A fast direct Fourier-based
algorithm for subpixel registration of images, IEEE Trans. Geoscience and Remote Sensing 39 (2001), for the rest: the
slope of the phase over low frequencies, by least squares.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

from zoompick.arrays import Floats, Mask, Pixels
from zoompick.later import np
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Raster, valid_mask

_TILE_PX, _LEAST_PX, _FAIR_PX, _MOST_TILES = 192, 48, 128, 16
_LEAST_VALID, _LEAST_PEAK, _LEAST_TEXTURE = 0.85, 8.0, 1e-9
_LOW, _STRONG = 0.2, 0.5
_SURE_TILES, _SURE_SPREAD_PX = 3, 0.35


@dataclass(frozen=True, slots=True)
class Vector:
    """Shift of one tile: columns and rows by which the second lies off the first, and the tile's middle in pixels."""

    col: float
    row: float
    cols: float
    rows: float


@dataclass(frozen=True)
class Shifts:
    """Vectors of all tiles that had evidence.

    Attributes
    ----------
    looked : int
        Tiles with enough pixels and texture.
    """

    vectors: tuple[Vector, ...]
    looked: int

    @cached_property
    def median(self) -> tuple[float, float]:
        """Columns and rows; zero without a vector."""
        if not self.vectors:
            return 0.0, 0.0
        every = np.array([(vector.cols, vector.rows) for vector in self.vectors])
        return float(np.median(every[:, 0])), float(np.median(every[:, 1]))

    @property
    def size_px(self) -> float:
        """Length of the median."""
        return float(np.hypot(*self.median))

    @cached_property
    def spread_px(self) -> float:
        """Median distance of the vectors from their median."""
        if not self.vectors:
            return float("inf")
        cols, rows = self.median
        return float(np.median([np.hypot(one.cols - cols, one.rows - rows) for one in self.vectors]))

    @property
    def is_sure(self) -> bool:
        """True where several tiles, and a third of those with texture, say the same."""
        enough = len(self.vectors) >= max(_SURE_TILES, self.looked / 3)
        return enough and self.spread_px < _SURE_SPREAD_PX


def tiles_over(grid: Grid, most: int = _MOST_TILES, least: int = 4) -> list[Window]:
    """Windows spread evenly over a grid; of a large one each within one of its squares of 512 pixels.

    Parameters
    ----------
    least : int
        So many at least go along its shorter side, where that leaves them large enough; else three.
    """
    shorter = min(grid.width, grid.height)
    # Small tiles show little: a small picture has fewer of them.
    count = least if shorter // least >= _FAIR_PX else min(least, 3)
    side = min(_TILE_PX, max(_LEAST_PX, shorter // count), shorter)
    across, down = max(1, grid.width // side), max(1, grid.height // side)
    while across * down > most:
        across, down = (across - 1, down) if across >= down else (across, down - 1)
    cols = [_snapped(int((grid.width - side) * (at + 0.5) / across), side, grid.width) for at in range(across)]
    rows = [_snapped(int((grid.height - side) * (at + 0.5) / down), side, grid.height) for at in range(down)]
    return [Window(col, row, side, side) for row in rows for col in cols]


def _snapped(start: int, side: int, size: int) -> int:
    if size < _LARGE_PX:
        return start
    inner = start // _SQUARE_PX * _SQUARE_PX
    return min(max(start, inner), inner + _SQUARE_PX - side, size - side)


_SQUARE_PX, _LARGE_PX = 512, 2048


@dataclass(frozen=True)
class Spectrum:
    """A tile's transform, half of it (the other half mirrors it), and its shape."""

    values: Pixels
    shape: tuple[int, int]


def spectrum_of(tile: Pixels) -> Spectrum | None:
    """Of a tile, float with NaN for gaps; None for one with many gaps or without texture, which says nothing."""
    ready = _ready(tile)
    return None if ready is None else Spectrum(np.fft.rfft2(ready), ready.shape)


def between(windows: Sequence[Window], ones: Sequence[Spectrum | None], others: Sequence[Spectrum | None]) -> Shifts:
    """Shifts of tiles, by what both bands hold there. A tile without a clear peak says nothing: none is made up."""
    vectors, looked = [], 0
    for window, one, two in zip(windows, ones, others, strict=True):
        if one is None or two is None:
            continue
        looked += 1
        found = _shift(one, two)
        if found is not None:
            vectors.append(Vector(window.col + window.width / 2, window.row + window.height / 2, *found))
    return Shifts(tuple(vectors), looked)


def tile_of(raster: Raster, window: Window, band: int) -> Floats:
    """A tile of a band, NaN where pixels are missing."""
    stored = raster.read(window, (band,))[0]
    return np.where(valid_mask(stored, raster.nodata), stored.astype(np.float64), np.nan)


def _ready(tile: Pixels) -> Floats | None:
    """Without mean and slope, gaps filled with nothing, faded towards the edges; None without texture."""
    there = np.isfinite(tile)
    if there.mean() < _LEAST_VALID:
        return None
    centred = np.where(there, tile - np.mean(tile[there]), 0.0)
    rows, cols = (np.linspace(-1, 1, size) for size in tile.shape)
    centred -= (centred * cols).sum() / (cols**2).sum() / tile.shape[0] * cols
    centred -= (centred * rows[:, None]).sum() / (rows**2).sum() / tile.shape[1] * rows[:, None]
    if centred.var() <= _LEAST_TEXTURE:
        return None
    taper = np.hanning(tile.shape[0] + 2)[1:-1, None] * np.hanning(tile.shape[1] + 2)[None, 1:-1]
    return np.asarray(np.where(there, centred, 0.0) * taper)


def _shift(one: Spectrum, two: Spectrum) -> tuple[float, float] | None:
    cross = two.values * np.conj(one.values)
    strength = np.abs(cross)
    phases = cross / np.maximum(strength, 1e-300)
    kx, ky, soft, low = _frequencies(one.shape)
    surface = np.fft.irfft2(phases * soft, one.shape)
    # Where one band is bright and the other dark the peak points down: the phase is turned by half a circle.
    place = int(np.abs(surface).argmax())
    peak = surface.flat[place]
    if abs(peak) < _LEAST_PEAK * surface.std():
        return None
    row, col = (int(at) for at in np.unravel_index(place, surface.shape))
    rows, cols = (at - size if at > size // 2 else at for at, size in zip((row, col), one.shape, strict=True))
    x, y = kx[low], ky[low]
    left = phases[low] * np.sign(peak) * np.exp(2j * np.pi * (x * cols + y * rows))
    more = _fraction(np.angle(left), strength[low] * soft[low], 2 * np.pi * x, 2 * np.pi * y)
    return cols + more[0], rows + more[1]


@lru_cache(maxsize=8)
def _frequencies(shape: tuple[int, int]) -> tuple[Floats, Floats, Floats, Mask]:
    """Cycles a pixel along columns and rows, weights that put low ones first, and which are low."""
    kx, ky = np.meshgrid(np.fft.rfftfreq(shape[1]), np.fft.fftfreq(shape[0]))
    far = np.hypot(kx, ky)
    return kx, ky, np.exp(-(far**2) / (2 * _LOW**2)), (far < _LOW) & (far > 0)


def _fraction(angles: Floats, strength: Floats, x: Floats, y: Floats) -> tuple[float, float]:
    """The rest of the shift: the slope of the phase that is left, weighted, thrice with outliers put aside."""
    own = np.log1p(strength / np.median(strength)) ** 2
    cols = rows = 0.0
    keep = np.ones(len(angles), bool)
    for _ in range(3):
        weights = own * keep
        wx, wy = weights * x, weights * y
        a, b, c = float(wx @ x), float(wx @ y), float(wy @ y)
        e, f = -float(wx @ angles), -float(wy @ angles)
        size = a * c - b * b
        if size <= 0:
            break
        cols, rows = (c * e - b * f) / size, (a * f - b * e) / size
        keep = np.abs(np.angle(np.exp(1j * (angles + x * cols + y * rows)))) < _STRONG * np.pi
    return cols, rows
