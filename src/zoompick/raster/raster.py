"""The one idea: everything that yields pixels is a Raster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from zoompick.arrays import Mask, Pixels, PixelType
from zoompick.errors import UnknownNameError, UsageError
from zoompick.later import imagecodecs, np
from zoompick.raster.grid import Grid, Window


@dataclass(frozen=True, slots=True)
class Band:
    """One layer of a raster.

    Attributes
    ----------
    name : str
        Common name (``red``, ``nir``, ``swir16``, ``classes``), or ``band1`` when nothing tells.
    scale, offset : float
        Physical value = stored value * scale + offset.
    unit : str
        Unit of the physical value; empty for reflectance and other ratios.
    is_class : bool
        Values are codes of classes: they are never averaged.
    wavelength_um, width_um : float or None
        Centre and full width at half maximum, in micrometres, where something tells them.
    own : str
        What its file, or the instrument's people, call it, where that is another name.
    classes : tuple of (int, str)
        Codes of a class layer and their meaning, where something tells them.
    told_by : tuple of (str, str)
        Fact (``name``, ``scale``, ``wavelength``, ``classes``) and who told it: option, guide, item, file, file name;
        with what another says, where they disagree.
    """

    name: str
    scale: float = 1.0
    offset: float = 0.0
    unit: str = ""
    is_class: bool = False
    wavelength_um: float | None = None
    width_um: float | None = None
    own: str = field(default="", compare=False)
    classes: tuple[tuple[int, str], ...] = field(default=(), compare=False)
    told_by: tuple[tuple[str, str], ...] = field(default=(), compare=False)


class Raster(Protocol):
    """Pixels on a grid, read by windows. Thread-safe, opened lazily, picklable by its address."""

    @property
    def grid(self) -> Grid:
        """Grid of the full resolution."""

    @property
    def bands(self) -> tuple[Band, ...]:
        """Layers in stored order."""

    @property
    def dtype(self) -> PixelType:
        """Type of the pixels that :meth:`read` gives."""

    @property
    def nodata(self) -> float | None:
        """Value of a missing pixel, NaN included; None when every value counts."""

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Grids of the full resolution (level 0) and of the overviews, large to small."""

    @property
    def block(self) -> tuple[int, int]:
        """Rows and columns that are cheapest to read at once."""

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window in the coordinates of ``level``'s grid.

        Parameters
        ----------
        window : Window
            May reach outside the grid; what lies outside is no-data (0 when there is no no-data value).
        bands : sequence of int, optional
            Indices from 0, in the wished order; all by default.

        Returns
        -------
        ndarray, shape (bands, rows, cols)
        """


class Arrayed:
    """What every raster can do beside: become an array, for :func:`numpy.asarray`."""

    def __array__(self: Raster, dtype: Any = None, copy: bool | None = None) -> Pixels:
        """All pixels, shape (bands, rows, cols), no-data as its value; see :func:`to_numpy`."""
        pixels = to_numpy(self)
        return pixels if dtype is None else pixels.astype(dtype, copy=False)

    def __repr__(self: Raster) -> str:
        names, grid = ", ".join(band.name for band in self.bands[:8]), self.grid
        more = f" and {len(self.bands) - 8} more" if len(self.bands) > 8 else ""
        size = f"{grid.width} x {grid.height} px of {grid.pixel_text}"
        return f"<raster of {names}{more}: {self.dtype}, {size}, {grid.crs}>"

    def _repr_png_(self: Raster) -> bytes | None:
        """A small picture for notebooks; None where that would mean to compute a large raster."""
        level = max((n for n, one in enumerate(self.levels) if max(one.width, one.height) >= _SMALL_PX), default=0)
        grid = self.levels[level]
        if grid.width * grid.height > _MOST_SHOWN:
            return None
        step = max(1, max(grid.width, grid.height) // _SMALL_PX)
        bands = (0, 1, 2) if len(self.bands) >= 3 else (0,)
        pixels = self.read(grid.window, bands, level)[:, ::step, ::step]
        valid = valid_mask(pixels, self.nodata)
        shades = [_shades(plane, seen) for plane, seen in zip(pixels, valid, strict=True)]
        alpha = (valid.all(axis=0) * 255).astype(np.uint8)
        return bytes(imagecodecs.png_encode(np.stack([*(shades * (3 // len(shades))), alpha], axis=-1)))


def _shades(plane: Pixels, seen: Mask) -> Pixels:
    """Values between two percentiles as shades of 8 bits."""
    values = plane[seen].astype(np.float64)
    low, high = np.percentile(values, (2, 98)) if values.size else (0.0, 1.0)
    share = (plane.astype(np.float64) - low) / ((high - low) or 1.0)
    return (np.clip(np.nan_to_num(share), 0, 1) * 255).astype(np.uint8)


_MOST_BYTES = 4 << 30
_SMALL_PX, _MOST_SHOWN = 400, 16_000_000


def to_numpy(raster: Raster, level: int = 0, window: Window | None = None, scaled: bool = False) -> Pixels:
    """Pixels of a raster, or of one of its overviews.

    Parameters
    ----------
    window : Window, optional
        In the coordinates of the level; all by default.
    scaled : bool
        Physical values: stored value * scale + offset, NaN where a pixel is missing.

    Returns
    -------
    ndarray, shape (bands, rows, cols)
        Stored values, a missing pixel holds ``raster.nodata``; with ``scaled`` 32-bit floats.

    Raises
    ------
    UsageError
        They are more than 4 GiB.
    """
    wanted = window or raster.levels[level].window
    each = 4 if scaled else raster.dtype.itemsize
    size = len(raster.bands) * wanted.height * wanted.width * each
    if size > _MOST_BYTES:
        raise UsageError(
            f"{len(raster.bands)} bands of {wanted.width} x {wanted.height} px are {size / 2**30:.0f} GiB.",
            "Read windows, to_numpy(raster, window=Window(col, row, width, height)), or an overview, level=2.",
        )
    stored = raster.read(wanted, None, level)
    if not scaled:
        return stored
    out = np.where(valid_mask(stored, raster.nodata), stored, np.nan).astype(np.float32)
    for plane, band in zip(out, raster.bands, strict=True):
        if (band.scale, band.offset) != (1.0, 0.0):
            plane *= band.scale
            plane += band.offset
    return out


class Derived(Arrayed):
    """A Raster made of another: it passes on what it does not change. Subclasses override, and give ``read``.

    Overviews are not passed on: those of a changed raster are made by the writer.
    """

    def __init__(self, source: Raster) -> None:
        self.source = source

    @property
    def grid(self) -> Grid:
        """The source's grid."""
        return self.source.grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """The source's bands."""
        return self.source.bands

    @property
    def dtype(self) -> PixelType:
        """The source's pixel type."""
        return self.source.dtype

    @property
    def nodata(self) -> float | None:
        """The source's no-data value."""
        return self.source.nodata

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution only."""
        return (self.grid,)

    @property
    def block(self) -> tuple[int, int]:
        """The source's block."""
        return self.source.block

    @property
    def notes(self) -> tuple[str, ...]:
        """What a person should know of how it was read."""
        return notes_of(self.source)


def notes_of(raster: Raster) -> tuple[str, ...]:
    """Sentences for a person: what was chosen where a file left a choice; mostly none."""
    return tuple(getattr(raster, "notes", ()))


def with_room(dtype: PixelType) -> tuple[PixelType, float]:
    """A type that holds all values of another, and one value beside them for no-data."""
    if dtype.kind == "f":
        return dtype, float("nan")
    wide: Any = {1: np.int16, 2: np.int32}.get(dtype.itemsize)
    return (np.dtype(wide), float(np.iinfo(wide).min)) if wide else (np.dtype(np.float64), float("nan"))


def put_on(raster: Raster, grid: Grid, way: str = "bilinear") -> Raster | None:
    """A raster whose pixels have places of their own (a swath, a turned image) on a grid; None for one on a lattice.

    None too where the grid's pixels are so large that they want means of what lies under them.
    """
    carry = getattr(raster, "put_on", None)
    return carry(grid, way) if carry else None


def fitting_level(levels: Sequence[Grid], pixel: float) -> int:
    """The coarsest level whose pixels are no larger than ``pixel``, in units of the CRS; 0 when all are."""
    return max((number for number, grid in enumerate(levels) if grid.pixel_x <= pixel), default=0)


def valid_mask(pixels: Pixels, nodata: float | None) -> Mask:
    """True where a pixel holds a value: not no-data, and for floats a finite number."""
    if pixels.dtype.kind == "f":
        mask = np.isfinite(pixels)
        if nodata is not None and not np.isnan(nodata):
            mask &= pixels != pixels.dtype.type(nodata)
        return mask
    if nodata is None:
        return np.ones(pixels.shape, dtype=bool)
    return np.asarray(pixels != nodata)


def is_whole(pixels: Pixels, nodata: float | None, extremes: tuple[float, float] | None = None) -> bool:
    """True when no pixel is missing.

    The extremes of whole numbers (computed here unless given) mostly tell, faster than a comparison of each pixel.
    """
    if pixels.dtype.kind == "f" or not pixels.size:
        return bool(valid_mask(pixels, nodata).all())
    if nodata is None:
        return True
    if extremes is None and (pixels[..., :1, :] == nodata).any():
        return False
    low = extremes[0] if extremes else pixels.min()
    if nodata <= low:
        return bool(nodata < low)
    high = extremes[1] if extremes else pixels.max()
    if nodata >= high:
        return bool(nodata > high)
    return not (pixels == nodata).any()


def fill_value(nodata: float | None) -> float:
    """What to write where there is no pixel at all."""
    return 0 if nodata is None else nodata


def band_index(raster: Raster, name: str, where: str) -> int:
    """Index of the band called ``name``.

    Raises
    ------
    UnknownNameError
        No band has this name; the message lists those there are.
    """
    names = [band.name for band in raster.bands]
    if name not in names:
        raise UnknownNameError.of("band", name, names, f"{where} has the bands {', '.join(names)}.")
    return names.index(name)
