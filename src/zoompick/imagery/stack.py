"""Bands of one or several files, laid on one grid in a wished order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from zoompick.errors import UnknownNameError, UsageError
from zoompick.imagery.deliveries import Layer
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.ongrid import Method
from zoompick.raster.raster import Arrayed, Band, Pixels, Raster, fill_value, valid_mask
from zoompick.raster.resample import finish
from zoompick.raster.warp import laid_on


class Stack(Arrayed):
    """Bands in order, each from one raster or from several that fill each other's gaps.

    Parameters
    ----------
    parts : sequence of sequence of Raster
        For each band its single-band rasters, all on ``grid``; where the first has no data the next is used.
    """

    def __init__(self, grid: Grid, parts: Sequence[Sequence[Raster]]) -> None:
        self._grid = grid
        self._parts = tuple(tuple(part) for part in parts)
        firsts = [part[0] for part in self._parts]
        self._bands = tuple(first.bands[0] for first in firsts)
        self._dtype = np.result_type(*(raster.dtype for part in self._parts for raster in part))
        self._nodata = _common_nodata([raster for part in self._parts for raster in part], self._dtype)

    @property
    def grid(self) -> Grid:
        """The common grid."""
        return self._grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """Bands in the wished order; scale and offset are those of each band's first raster."""
        return self._bands

    @property
    def dtype(self) -> np.dtype[Any]:
        """Smallest type that holds all bands."""
        return self._dtype

    @property
    def nodata(self) -> float | None:
        """One no-data value for all bands."""
        return self._nodata

    @property
    def levels(self) -> tuple[Grid, ...]:
        """Full resolution only."""
        return (self._grid,)

    @property
    def block(self) -> tuple[int, int]:
        """Block of the first raster."""
        return self._parts[0][0].block

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        wanted = range(len(self._bands)) if bands is None else bands
        if len(wanted) == 1 and self._is_plain(wanted[0]):
            return self._parts[wanted[0]][0].read(window)
        out = np.empty((len(wanted), window.height, window.width), self._dtype)
        for place, index in enumerate(wanted):
            self._read_band(index, window, out[place])
        return out

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The block of a band's only raster; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        return coded_block(self._parts[band][0], window, 0) if self._is_plain(band) else None

    def _is_plain(self, index: int) -> bool:
        """True when a band's only raster has the stack's type and no-data value: its pixels are the stack's."""
        part = self._parts[index]
        same = part[0].dtype == self._dtype and part[0].nodata == self._nodata
        return same and len(part) == 1

    def _read_band(self, index: int, window: Window, out: Pixels) -> None:
        first, *others = self._parts[index]
        pixels = first.read(window)[0]
        out[...] = self._own(pixels, first, self._bands[index])
        for other in others:
            missing = ~valid_mask(out, self._nodata)
            if not missing.any():
                return
            filler = self._own(other.read(window)[0], other, self._bands[index])
            out[missing] = filler[missing]

    def _own(self, pixels: Pixels, raster: Raster, band: Band) -> Pixels:
        """Bring pixels to the stack's no-data value and the band's scale and offset."""
        given = raster.bands[0]
        same_units = (given.scale, given.offset) == (band.scale, band.offset)
        if same_units and raster.nodata == self._nodata:
            return pixels
        valid = valid_mask(pixels, raster.nodata)
        values = pixels
        if not same_units:
            physical = pixels.astype(np.float64) * given.scale + given.offset
            values = finish((physical - band.offset) / band.scale, self._dtype)
            if self._dtype.kind in "iu" and self._nodata is not None:
                # A real value must not become the no-data value by the change of units.
                values[values == self._nodata] += 1
        return np.where(valid, values, self._dtype.type(fill_value(self._nodata)))


def _common_nodata(rasters: Sequence[Raster], dtype: np.dtype[Any]) -> float | None:
    values = [raster.nodata for raster in rasters]
    given = [value for value in values if value is not None]
    if not given:
        return None
    if len(given) < len(values) and dtype.kind in "iu":
        raise UsageError(
            "Some of the files have a no-data value, others have none.",
            "Stack them apart, or write them alike.",
        )
    return float("nan") if dtype.kind == "f" and any(raster.dtype.kind == "f" for raster in rasters) else given[0]


def build_stack(
    layers: Sequence[Layer], bands: Sequence[str], grid: Grid | None = None, classes: Sequence[str] = ()
) -> Stack:
    """Choose layers by band name and lay them on one grid.

    Parameters
    ----------
    layers : sequence of Layer
        Several of one name fill each other's gaps in the order given.
    bands : sequence of str
        Names in the wished order; all layers in their order when empty.
    grid : Grid, optional
        By default the grid of the finest layer.
    classes : sequence of str
        Names of class layers: they are never averaged.

    Raises
    ------
    UnknownNameError
        A band that none of the files has.
    """
    by_name: dict[str, list[Layer]] = {}
    for layer in layers:
        by_name.setdefault(layer.name, []).append(layer)
    names = list(bands) or list(by_name)
    for name in names:
        if name not in by_name:
            raise UnknownNameError.of("band", name, by_name, f"The files have {', '.join(by_name)}.")
    if grid is None:
        _refuse_mixed_crs(by_name, names)
    target = grid or min((layer.raster.grid for name in names for layer in by_name[name]), key=lambda g: g.pixel_x)
    methods: Mapping[str, Method] = dict.fromkeys(classes, "class")
    return Stack(
        target,
        [[laid_on(layer.raster, target, methods.get(name, "smooth")) for layer in by_name[name]] for name in names],
    )


def _refuse_mixed_crs(by_name: Mapping[str, Sequence[Layer]], names: Sequence[str]) -> None:
    found = {layer.raster.grid.crs: layer.path.name for name in names for layer in by_name[name]}
    if len(found) > 1:
        shown = ", ".join(f"{crs} ({name})" for crs, name in found.items())
        raise UsageError(
            f"The files lie in different reference systems: {shown}.", "Give a grid: `area` AREA, or `like` FILE."
        )
