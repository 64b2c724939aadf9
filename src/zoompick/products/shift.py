"""How far two rasters are shifted against each other: phase correlation over tiles, and how sure that is.

Source: C. D. Kuglin and D. C. Hines, The phase correlation image alignment method, IEEE Int. Conf. Cybernetics and
Society (1975); the peak between pixels by a transform computed finely about it, M. Guizar-Sicairos et al., Efficient
subpixel image registration algorithms, Optics Letters 33 (2008).
"""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, valid_mask

_TILE_PX, _LEAST_TILE_PX, _MOST_TILES = 256, 64, 25
_LEAST_VALID, _LEAST_PEAK = 0.8, 9.0
_FINE = 32


@dataclass(frozen=True)
class Shift:
    """Columns and rows by which the second must move to lie on the first.

    Attributes
    ----------
    tiles : int
        Tiles that agree.
    looked : int
        Tiles that were looked at.
    spread_px : float
        Median distance of the tiles' own shifts from this one.
    """

    cols: float
    rows: float
    tiles: int
    looked: int
    spread_px: float

    @property
    def size_px(self) -> float:
        """How far in all."""
        return float(np.hypot(self.cols, self.rows))

    @property
    def is_sure(self) -> bool:
        """True where most tiles agree to a third of a pixel."""
        return self.tiles >= 3 and self.tiles >= 0.4 * self.looked and self.spread_px < 0.34


def shift_between(first: Raster, second: Raster) -> Shift:
    """Measure the shift of two single-band rasters on one grid.

    Tiles spread over what both show; those with gaps, or without a clear peak, tell nothing. The median counts.
    """
    found = []
    looked = 0
    for window in _windows(first):
        one, two = (_filled(raster, window) for raster in (first, second))
        if one is None or two is None:
            continue
        looked += 1
        place = _peak(one, two)
        if place is not None:
            found.append(place)
    if not found:
        return Shift(0, 0, 0, looked, float("inf"))
    every = np.array(found)
    middle = np.median(every, axis=0)
    distance = np.hypot(*(every - middle).T)
    near = every[distance < 1]
    if not len(near):
        return Shift(0, 0, 0, looked, float("inf"))
    cols, rows = np.median(near, axis=0)
    spread = float(np.median(np.hypot(*(near - (cols, rows)).T)))
    return Shift(float(cols), float(rows), len(near), looked, spread)


def _windows(raster: Raster) -> list[Window]:
    grid = raster.grid
    side = min(_TILE_PX, max(_LEAST_TILE_PX, min(grid.width, grid.height) // 3), grid.width, grid.height)
    across, down = max(1, grid.width // side), max(1, grid.height // side)
    every = [
        Window(
            int((grid.width - side) * (col + 0.5) / across),
            int((grid.height - side) * (row + 0.5) / down),
            side,
            side,
        )
        for row in range(down)
        for col in range(across)
    ]
    step = max(1, -(-len(every) // _MOST_TILES))
    return every[::step]


def _filled(raster: Raster, window: Window) -> Pixels | None:
    """Values without their mean, gaps filled with it, weighted down towards the edges; None for too many gaps."""
    stored = raster.read(window, (0,))[0]
    valid = valid_mask(stored, raster.nodata)
    if valid.mean() < _LEAST_VALID:
        return None
    values = stored.astype(np.float64)
    centred = np.where(valid, values - values[valid].mean(), 0)
    if centred.std() == 0:
        return None
    taper = np.hanning(centred.shape[0])[:, None] * np.hanning(centred.shape[1])[None, :]
    return np.asarray(centred * taper)


def _peak(one: Pixels, two: Pixels) -> tuple[float, float] | None:
    """Columns and rows that bring the second onto the first; None without a clear peak."""
    cross = np.fft.fft2(one) * np.conj(np.fft.fft2(two))
    cross /= np.maximum(np.abs(cross), 1e-12)
    # Fine detail is mostly noise: the lower half of the frequencies tells.
    ky, kx = np.fft.fftfreq(one.shape[0])[:, None], np.fft.fftfreq(one.shape[1])[None, :]
    cross *= np.exp(-((kx**2 + ky**2) / (2 * 0.18**2)))
    surface = np.real(np.fft.ifft2(cross))
    row, col = np.unravel_index(int(surface.argmax()), surface.shape)
    if surface[row, col] < _LEAST_PEAK * surface.std():
        return None
    rows, cols = _signed(int(row), one.shape[0]), _signed(int(col), one.shape[1])
    return _refined(cross, cols, rows)


def _signed(place: int, size: int) -> int:
    return place - size if place > size // 2 else place


def _refined(cross: Pixels, cols: int, rows: int) -> tuple[float, float]:
    """The peak again, from the transform computed finely within 1.5 pixels about it."""
    steps = np.arange(-1.5, 1.5 + 1 / _FINE, 1 / _FINE)
    ky, kx = np.fft.fftfreq(cross.shape[0]), np.fft.fftfreq(cross.shape[1])
    down = np.exp(2j * np.pi * (rows + steps)[:, None] * ky[None, :])
    across = np.exp(2j * np.pi * kx[:, None] * (cols + steps)[None, :])
    fine = np.real(down @ cross @ across)
    row, col = np.unravel_index(int(fine.argmax()), fine.shape)
    return cols + float(steps[col]), rows + float(steps[row])
