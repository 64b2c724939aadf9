"""Bands of one or several files, laid on one grid in a wished order."""

from __future__ import annotations

import itertools
import threading
from collections import Counter, OrderedDict
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from zoompick.arrays import Numbers, Pixels, PixelType
from zoompick.errors import UnknownNameError, UsageError
from zoompick.geo.datums import datum_change
from zoompick.geo.shapes import intersection, outline_of
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.raster import kernels
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.positions import POSITION_ERROR_PX
from zoompick.raster.raster import Arrayed, Band, Raster, fill_value, notes_of, put_on, valid_mask
from zoompick.raster.resample import finish
from zoompick.raster.warp import resampled_to
from zoompick.raster.ways import BILINEAR, Ways
from zoompick.scenes.deliveries import OPTION, Layer
from zoompick.scenes.fewcodes import GUESS, guessed_codes, told


class Stack(Arrayed):
    """Bands in order, each from one raster or from several that fill each other's gaps.

    Parameters
    ----------
    parts : sequence of sequence of Raster
        For each band its single-band rasters, all on ``grid``; where the first has no data the next is used.
    owners : sequence of sequence of int, optional
        For each band the scene, counted from 0, that each of its rasters is of. With them a pixel takes all its bands
        from one scene: the first that has all of them there, else the first that has any. Without, each band fills
        its gaps by itself.
    """

    def __init__(
        self,
        grid: Grid,
        parts: Sequence[Sequence[Raster]],
        owners: Sequence[Sequence[int]] | None = None,
        notes: Sequence[str] = (),
    ) -> None:
        self._grid = grid
        self._parts = tuple(tuple(part) for part in parts)
        every = [raster for part in self._parts for raster in part]
        self._dtype, self._nodata, widened = _common(every)
        self._notes = (*notes, *widened)
        self._bands = tuple(_units(part, self._dtype) for part in self._parts)
        self._scenes = _by_scene(owners) if owners else ()
        self.record: JsonObject = {}
        self._owned: OrderedDict[Window, Numbers | None] = OrderedDict()
        self._lock = threading.Lock()

    def __getstate__(self) -> JsonObject:
        return {name: value for name, value in vars(self).items() if name not in ("_owned", "_lock")}

    def __setstate__(self, state: JsonObject) -> None:
        vars(self).update(state)
        self._owned, self._lock = OrderedDict(), threading.Lock()

    @property
    def notes(self) -> tuple[str, ...]:
        """What a person should know: pixels that are resampled, a type that had to be widened."""
        inner = dict.fromkeys(note for part in self._parts for raster in part for note in notes_of(raster))
        return (*inner, *self._notes)

    @property
    def grid(self) -> Grid:
        """The common grid."""
        return self._grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """Bands in the wished order; scale and offset are those of its raster that reaches lowest."""
        return self._bands

    @property
    def dtype(self) -> PixelType:
        """Smallest type that holds all bands, and no-data apart from all their values."""
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
        if self._scenes and len(self._parts[index]) > 1:
            self._read_owned(index, window, out)
            return
        first, *others = self._parts[index]
        out[...] = self._own(first.read(window)[0], first, self._bands[index])
        for other in others:
            missing = ~valid_mask(out, self._nodata)
            if not missing.any():
                return
            filler = self._own(other.read(window)[0], other, self._bands[index])
            out[missing] = filler[missing]

    def _read_owned(self, index: int, window: Window, out: Pixels) -> None:
        """A band, each pixel from the scene that all bands there are from."""
        owner = self._owner(window)
        out[...] = fill_value(self._nodata)
        for scene, rasters in enumerate(self._scenes):
            raster = self._parts[index][rasters[index]] if index in rasters else None
            if raster is None or (owner is None and scene):
                continue
            values = self._own(raster.read(window)[0], raster, self._bands[index])
            if owner is None:
                out[...] = values
            else:
                kernels.put(out, values, owner == scene)

    def _owner(self, window: Window) -> Numbers | None:
        """The scene of each pixel, -1 for none; None where all are of the first."""
        with self._lock:
            if window in self._owned:
                return self._owned[window]
        found = self._chosen(window)
        with self._lock:
            self._owned[window] = found
            while len(self._owned) > _OWNERS_KEPT:
                self._owned.popitem(last=False)
        return found

    def _chosen(self, window: Window) -> Numbers | None:
        shared = [band for band, part in enumerate(self._parts) if len(part) > 1]
        owner = np.full((window.height, window.width), -1, np.int16)
        some: list[tuple[int, Any]] = []
        for scene, rasters in enumerate(self._scenes):
            masks = [
                valid_mask(raster.read(window)[0], raster.nodata)
                for band in shared
                if band in rasters
                for raster in [self._parts[band][rasters[band]]]
            ]
            if not masks:
                continue
            whole = np.logical_and.reduce(masks) if len(masks) == len(shared) else np.zeros(owner.shape, bool)
            owner[whole & (owner < 0)] = scene
            if (owner >= 0).all():
                return owner if owner.any() else None
            some.append((scene, np.logical_or.reduce(masks)))
        for scene, any_ in some:
            owner[any_ & (owner < 0)] = scene
        return owner

    def _own(self, pixels: Pixels, raster: Raster, band: Band) -> Pixels:
        """Bring pixels to the stack's type and no-data value, and to the band's scale and offset."""
        given = raster.bands[0]
        same_units = (given.scale, given.offset) == (band.scale, band.offset)
        if same_units and raster.nodata == self._nodata and raster.dtype == self._dtype:
            return pixels
        valid = valid_mask(pixels, raster.nodata)
        values = pixels
        if not same_units:
            physical = np.where(valid, pixels, 0).astype(np.float64) * given.scale + given.offset
            values = finish((physical - band.offset) / band.scale, self._dtype, False, self._nodata)
        return np.where(valid, values.astype(self._dtype), self._dtype.type(fill_value(self._nodata)))


def _by_scene(owners: Sequence[Sequence[int]]) -> tuple[dict[int, int], ...]:
    """For each scene, band to the place of its raster among the band's."""
    count = 1 + max(number for part in owners for number in part)
    found: list[dict[int, int]] = [{} for _ in range(count)]
    for band, part in enumerate(owners):
        for place, scene in enumerate(part):
            found[scene].setdefault(band, place)
    return tuple(found)


def _units(part: Sequence[Raster], dtype: PixelType) -> Band:
    """The band, in the units of the raster that reaches lowest: what the others hold is not cut off at 0."""
    first = part[0].bands[0]
    if dtype.kind == "f":
        return first
    lowest = min((raster.bands[0] for raster in part), key=lambda band: band.offset)
    return replace(first, scale=lowest.scale, offset=lowest.offset) if lowest.offset < first.offset else first


def _common(rasters: Sequence[Raster]) -> tuple[PixelType, float | None, tuple[str, ...]]:
    """A type and a no-data value for all: a value that is a real one in none of them, else a wider type."""
    dtype = np.result_type(*(raster.dtype for raster in rasters))
    values = {raster.nodata for raster in rasters}
    if values == {None}:
        return dtype, None, ()
    if dtype.kind == "f":
        is_same = len(values) == 1
        return dtype, float("nan") if not is_same or dtype != rasters[0].dtype else rasters[0].nodata, ()
    if len(values) == 1:
        return dtype, rasters[0].nodata, ()
    wide = _WIDER.get(dtype.itemsize)
    if wide is None:
        raise UsageError(
            f"The files hold {dtype} with different no-data values, and no type is wide enough for all of them.",
            "Stack them apart, or write them alike.",
        )
    told = ", ".join(sorted("none" if value is None else f"{value:g}" for value in values))
    nodata, changed = float(np.iinfo(wide).min), f"{dtype} becomes {np.dtype(wide)}"
    note = f"The files have different no-data values ({told}): all become {nodata:.0f}, and {changed}."
    return np.dtype(wide), nodata, (note,)


_WIDER = {1: "int16", 2: "int32", 4: "int64"}
_OWNERS_KEPT = 16


def build_stack(
    layers: Sequence[Layer],
    bands: Sequence[str],
    grid: Grid | None = None,
    classes: Sequence[str] = (),
    is_mixed: bool = False,
    ways: Ways = BILINEAR,
    notes: Sequence[str] = (),
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
        Names of class layers, beside those whose files tell that they are: classes are never averaged.
    is_mixed : bool
        Each band fills its gaps by itself; else a pixel takes all bands from one scene.
    ways : Ways
        How bands are resampled.
    notes : sequence of str
        What else a person should know.

    Raises
    ------
    UnknownNameError
        A band, or a class layer, that none of the files has.
    """
    by_name: dict[str, list[Layer]] = {}
    for layer in layers:
        by_name.setdefault(layer.name, []).append(layer)
    names = list(bands) or list(by_name)
    for name in (*names, *classes, *(name for name, _ in ways.by_band)):
        if name not in by_name:
            raise UnknownNameError.of("band", name, by_name, f"The files have {', '.join(by_name)}.")
    if grid is None:
        _refuse_mixed_crs(by_name, names)
    target = grid or min((layer.raster.grid for name in names for layer in by_name[name]), key=lambda g: g.pixel_x)
    guesses = {name: codes for name in names if name not in (*classes, *dict(ways.by_band))
               if (codes := guessed_codes(by_name[name][0]))}  # fmt: skip
    chosen = [[layer.flagged(name in classes or name in guesses, GUESS if name in guesses else OPTION)
               for layer in by_name[name]] for name in names]  # fmt: skip
    notes = (*notes, *(told(name, codes) for name, codes in guesses.items()))
    owners = None if is_mixed else _owners(chosen)
    how = [[ways.of(layer.name, layer.is_class) for layer in part] for part in chosen]
    laid = [
        [resampled_to(layer.raster, target, way) for layer, way in zip(part, own, strict=True)]
        for part, own in zip(chosen, how, strict=True)
    ]
    made = Stack(target, laid, owners, (*notes, *_resampled(chosen, target)))
    made.record = _told_resampled(chosen, how, target)
    return made


def _told_resampled(
    parts: Sequence[Sequence[Layer]], ways: Sequence[Sequence[str]], target: Grid
) -> dict[str, list[JsonObject]]:
    """For a product's record: each band that is resampled, its way, out of what, and how far positions may be off.

    Within a system positions are exact; between two they are interpolated, to a bound.
    """
    rows: dict[str, JsonObject] = {}
    pairs = zip(itertools.chain(*parts), itertools.chain(*ways), strict=True)
    for layer, way in pairs:
        grid = layer.raster.grid
        if not grid.shares_lattice(target):
            is_warped = grid.crs != target.crs
            row = {"band": layer.name, "way": way, "from": str(grid.crs), "pixel": grid.pixel_x,
                   "position_error_px": POSITION_ERROR_PX if is_warped else 0}  # fmt: skip
            change = datum_change(grid.crs, target.crs, target.bounds) if is_warped else None
            if change is not None:
                row["datum_accuracy_m"] = change.accuracy_m
            rows.setdefault(str(row), row)
    return {"zoompick:resampled": list(rows.values())} if rows else {}


def questions(layers: Sequence[Layer], bands: Sequence[str]) -> tuple[str, ...]:
    """What to ask of somebody who stacks files: a band that is there several times may be meant otherwise."""
    wanted = [layer for layer in layers if not bands or layer.name in bands]
    several = [name for name, count in Counter(layer.name for layer in wanted).items() if count > 1]
    if not several:
        return ()
    own = [layer for layer in wanted if layer.name == several[0]]
    grounds = [outline_of(g.bounds, g.crs, max(g.bounds.width, g.bounds.height) / 8)
               for g in (layer.raster.grid for layer in own[:_MOST_COMPARED])]  # fmt: skip
    shared = max(
        intersection(one, two).area / min(one.area, two.area) for one, two in itertools.combinations(grounds, 2)
    )
    names = f"{own[0].path.name}, {own[1].path.name}{' …' if len(own) > 2 else ''}"
    what = f"{', '.join(several)} {'is' if len(several) == 1 else 'are'} there {len(own)} times ({names})"
    if shared > _SAME_GROUND:
        told = (
            "of the same ground: the second counts only where the first has no data. To join dates: 'zoompick blend'."
        )
    else:
        told = "of ground side by side: they fill each other's gaps. Is a mosaic meant? See 'zoompick mosaic'."
    return (f"{what}, {told}",)


_SAME_GROUND, _MOST_COMPARED = 0.5, 20


def _resampled(parts: Sequence[Sequence[Layer]], target: Grid) -> tuple[str, ...]:
    """A sentence where even the finest pixels do not lie on the grid; coarser ones never do, and are no news."""
    layers = [layer for part in parts for layer in part]
    finest = min(layer.raster.grid.pixel_x for layer in layers)
    off = [layer for layer in layers if layer.raster.grid.pixel_x == finest]
    off = [one for one in off if not one.raster.grid.shares_lattice(target) and put_on(one.raster, target) is None]
    if not off:
        return ()
    grids = dict.fromkeys(f"{layer.raster.grid.pixel_text} in {layer.raster.grid.crs}" for layer in off)
    names = ", ".join(dict.fromkeys(layer.name for layer in off))
    here = f"{target.pixel_text} in {target.crs}"
    return (f"Resampled: {names}. Pixels of {' and '.join(grids)} do not lie on those of the grid, {here}.",)


def _owners(parts: Sequence[Sequence[Layer]]) -> list[list[int]] | None:
    """The scene of each layer; None where no band has several layers."""
    shared = [part for part in parts if len(part) > 1]
    if not shared:
        return None
    keys = list(dict.fromkeys(layer.scene for part in shared for layer in part))
    # Names that tell no scenes: the first file of each band goes with the first of the others.
    by_order = len(shared) > 1 and all(
        sum(any(layer.scene == key for layer in part) for part in shared) == 1 for key in keys
    )
    number = {key: place for place, key in enumerate(keys)}
    return [list(range(len(part))) if by_order else [number.get(layer.scene, 0) for layer in part] for part in parts]


def _refuse_mixed_crs(by_name: Mapping[str, Sequence[Layer]], names: Sequence[str]) -> None:
    found = {layer.raster.grid.crs: layer.path.name for name in names for layer in by_name[name]}
    if len(found) > 1:
        shown = ", ".join(f"{crs} ({name})" for crs, name in found.items())
        raise UsageError(
            f"The files lie in different reference systems: {shown}.", "Give a grid: `area` AREA, or `like` FILE."
        )
