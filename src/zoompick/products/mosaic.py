"""Mosaics: many scenes on one grid, each pixel from one of them; seams softened and brightness matched if wished."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import UsageError
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.products.observations import Observation, scene_rows
from zoompick.products.stack import Stack
from zoompick.raster import kernels
from zoompick.raster.coded import CodedBlock, coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Band, Derived, Raster, fill_value, is_whole, valid_mask
from zoompick.raster.reach import Reach
from zoompick.raster.resample import finish
from zoompick.raster.shared import KEPT_BYTES, Shared

_LEAST_WEIGHT = 1e-6
_SHARES_KEPT = 6
_LEAST_KEPT = 8 << 20


@dataclass(frozen=True)
class Gain:
    """For one scene, band by band: value * gain + offset brings it to the brightness of the anchor."""

    gains: tuple[float, ...]
    offsets: tuple[float, ...]

    @property
    def changes(self) -> bool:
        """False for what leaves all values as they are."""
        return any(gain != 1 for gain in self.gains) or any(offset != 0 for offset in self.offsets)


@dataclass(frozen=True)
class Matched:
    """How the brightness of scenes is brought to that of one of them.

    Attributes
    ----------
    gains : tuple of Gain
        One a scene; the anchor's change nothing.
    rows : tuple of dict
        For people and the record: scene, samples in its overlaps, and for each band gain, offset, and the median
        difference to its neighbours before and after.
    """

    gains: tuple[Gain, ...]
    rows: tuple[JsonObject, ...]


def _sentence(matched: Matched) -> str:
    """What matching did, in one sentence; the record has it scene by scene."""
    gains = [gain for one in matched.gains for gain in one.gains]
    facts = [band for row in matched.rows for band in row["bands"].values()]
    before, after = (
        float(np.median([band[key] for band in facts])) for key in ("difference_before", "difference_after")
    )
    return (
        f"Brightness matched to {matched.rows[0]['scene']}: gains {min(gains):.3f} to {max(gains):.3f}; where scenes "
        f"overlap they differed by {before:.3g} (median), now by {after:.3g}."
    )


class Mosaic(Stack):
    """Scenes over each other: each pixel from the first that shows the ground there.

    Where none does, the first that has any value gives it, cloud or not, unless ``clear_only``.

    Parameters
    ----------
    found : sequence of Observation
        The one that counts first in front; all with the same bands on one grid.
    feather_m : float
        Width in metres over which a scene fades into the next towards its edge; there a pixel is a mixture.
    matched : Matched, optional
        Brightness of each scene, brought to that of one of them.

    Attributes
    ----------
    found : tuple of Observation
    """

    def __init__(
        self,
        found: Sequence[Observation],
        feather_m: float = 0,
        clear_only: bool = False,
        matched: Matched | None = None,
    ) -> None:
        if not found:
            raise UsageError("There is nothing to make a mosaic of.", "Give files.")
        # Owners, values and shares of a window look at the same pixels: they are read once.
        kept = max(_LEAST_KEPT, KEPT_BYTES // len(found))
        found = [replace(one, raster=Shared(one.raster, kept)) for one in found]
        self.found = tuple(found)
        count = len(found[0].raster.bands)
        parts = [[_OneOf(one.raster, band) for one in found] for band in range(count)]
        notes = dict.fromkeys(note for one in found for note in one.notes)
        super().__init__(found[0].raster.grid, parts, [list(range(len(found)))] * count, tuple(notes))
        self._feather = Reach(self.grid, feather_m)
        self._clear_only = clear_only
        self._mixing: OrderedDict[Window, Any] = OrderedDict()
        self._matched = matched.gains if matched else ()
        self.record = {"zoompick:scenes": scene_rows(found)}
        if matched:
            self.record["zoompick:matched"] = list(matched.rows)
            self._notes += (_sentence(matched),)

    def __getstate__(self) -> JsonObject:
        return {name: value for name, value in super().__getstate__().items() if name != "_mixing"}

    def __setstate__(self, state: JsonObject) -> None:
        super().__setstate__(state)
        self._mixing = OrderedDict()

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        """The block of the only scene; see :meth:`zoompick.raster.coded.HasBlocks.coded`."""
        if len(self.found) > 1 or (self._clear_only and self.found[0].clear is not None):
            return None
        return super().coded(window, band)

    def _is_plain(self, index: int) -> bool:
        return super()._is_plain(index) and not (self._clear_only and self.found[0].clear is not None)

    def owner(self, window: Window, dtype: PixelType) -> Pixels:
        """Number of the scene each pixel is from, counted from 1; 0 for none."""
        owner = self._owner(window)
        if owner is None:
            return np.ones((window.height, window.width), dtype)
        found: Pixels = owner.astype(dtype)
        found += dtype.type(1)
        return found

    def _chosen(self, window: Window) -> Any:
        owner: Any = None
        seconds, thirds = [], []
        for number, one in enumerate(self.found):
            pixels = one.raster.read(window)
            is_all = one.clear is None and is_whole(pixels, one.raster.nodata)
            if is_all and not number:
                return None
            if owner is None:
                owner = np.full((window.height, window.width), -1, np.int16)
            if is_all:
                # All that the scenes before left open.
                kernels.put(owner, number, owner < 0)
                break
            valid = valid_mask(pixels, one.raster.nodata)
            there: Pixels = valid[0] if len(valid) == 1 else np.asarray(valid.all(axis=0))
            some: Pixels = there if len(valid) == 1 else np.asarray(valid.any(axis=0))
            if not some.any():
                continue
            clear = there if one.clear is None else there & one.clear.read(window)
            owner += np.multiply(clear & (owner < 0), number + 1, dtype=np.int16)
            if (owner >= 0).all():
                break
            if one.clear is not None and not self._clear_only:
                seconds.append((number, there))
            if not self._clear_only:
                thirds.append((number, some))
        # Then what is hidden, at last what lacks a band.
        for number, there in (*seconds, *thirds):
            kernels.put(owner, number, there & (owner < 0))
        return owner if owner.any() else None

    def _read_band(self, index: int, window: Window, out: Pixels) -> None:
        if self._feather.metres and not self._bands[index].is_class:
            mixed = self._mixed(index, window)
            if mixed is not None:
                out[...] = mixed
                return
        owner = self._owner(window)
        if owner is None:
            out[...] = self._values(index, 0, window)
            return
        first, last = int(owner.min()), int(owner.max())
        if not self._clear_only:
            # Where no scene has anything the first has no-data, too.
            out[...] = self._values(index, max(0, first), window)
            first = max(0, first) + 1
        elif first < 0:
            out[...] = fill_value(self.nodata)
        for number in range(max(0, first), last + 1):
            own = owner == number
            if first == last or own.any():
                kernels.put(out, self._values(index, number, window), own)

    def _values(self, index: int, number: int, window: Window) -> Pixels:
        """A band of a scene in the mosaic's units, its brightness matched."""
        part = self._parts[index][number]
        pixels = part.read(window)[0]
        values = self._own(pixels, part, self._bands[index])
        gain = self._matched[number] if self._matched else None
        if gain is None or not gain.changes or self._bands[index].is_class:
            return values
        valid = pixels != part.nodata if part.nodata is not None else np.ones(pixels.shape, bool)
        band = self._bands[index]
        # Gains hold for physical values; stored ones have the band's offset in them.
        shift = (band.offset * (gain.gains[index] - 1) + gain.offsets[index]) / band.scale
        matched = finish(values.astype(np.float64) * gain.gains[index] + shift, self.dtype, False, self.nodata)
        return np.where(valid, matched, values)

    def _mixed(self, index: int, window: Window) -> Pixels | None:
        """Values of a window with soft seams; None where one scene is far from all others."""
        shares = self._shares(window)
        if shares is None:
            return None
        total = np.zeros((window.height, window.width))
        there = np.zeros(total.shape, bool)
        for number, share in shares:
            there |= share > 0
            total += np.where(share > 0, self._values(index, number, window), 0) * share
        mixed = finish(total, self.dtype, False, self.nodata)
        return np.where(there, mixed, self.dtype.type(fill_value(self.nodata)))

    def _shares(self, window: Window) -> list[tuple[int, Pixels]] | None:
        """Share of each scene in each pixel, the same for all bands; None where one scene gives all."""
        with self._lock:
            if window in self._mixing:
                return self._mixing[window]
        found = self._new_shares(window)
        with self._lock:
            self._mixing[window] = found
            while len(self._mixing) > _SHARES_KEPT:
                self._mixing.popitem(last=False)
        return found

    def _new_shares(self, window: Window) -> list[tuple[int, Pixels]] | None:
        wide = self._feather.widened(window)
        owner = self._chosen(wide)
        numbers = [] if owner is None else [number for number in range(len(self.found)) if (owner == number).any()]
        if len(numbers) < 2:
            return None
        inner = window.slices_in(wide)
        left: Pixels = np.ones((window.height, window.width))
        total: Pixels = np.zeros_like(left)
        found = []
        for number in numbers:
            # What was taken for want of anything clear counts as the scene's own.
            usable = self.found[number].usable(wide) | (owner == number)
            ramp = np.clip(self._feather.away_m(usable, window) / self._feather.metres, 0, 1)
            found.append((number, left * ramp))
            total += found[-1][1]
            left = left * (1 - ramp)
        # A pixel at the very edge of the only scene there has no ramp to stand on.
        bare = total <= _LEAST_WEIGHT
        own = owner[inner]
        return [
            (number, np.where(bare, own == number, weight / np.where(bare, 1, total)).astype(np.float32))
            for number, weight in found
        ]


class _OneOf(Derived):
    """One band of a scene's bands."""

    def __init__(self, source: Raster, band: int) -> None:
        super().__init__(source)
        self._index = band

    @property
    def bands(self) -> tuple[Band, ...]:
        return (self.source.bands[self._index],)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        return self.source.read(window, (self._index,))

    def coded(self, window: Window, band: int) -> CodedBlock | None:
        return coded_block(self.source, window, self._index)


class SceneLayer(Derived):
    """Which scene each pixel of a mosaic is from: numbers from 1 in its order, 0 for none."""

    def __init__(self, source: Mosaic) -> None:
        super().__init__(source)
        self._mosaic = source
        classes = [{"value": n, "name": one.name, "title": one.label} for n, one in enumerate(source.found, 1)]
        self.record = {"zoompick:scenes": scene_rows(source.found), "classification:classes": classes}

    @property
    def grid(self) -> Grid:
        """The mosaic's grid."""
        return self._mosaic.grid

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band of numbers."""
        return (Band("scene", is_class=True),)

    @property
    def dtype(self) -> PixelType:
        """Whole numbers of 8 bits, of 16 for more than 255 scenes."""
        return np.dtype(np.uint8 if len(self._mosaic.found) < 256 else np.uint16)

    @property
    def nodata(self) -> float | None:
        """Zero."""
        return 0

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        return self._mosaic.owner(window, self.dtype)[np.newaxis]
