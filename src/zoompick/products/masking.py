"""Masks: what hides the ground, or anything else that a rule over classes and reflectance names.

A rule is a formula that gives true or false. Its names are bands (their reflectance) and the meanings of classes:
cloud, shadow, snow, water, clear, fill; ``saturated`` is the largest stored value in any band; ``outside`` lies off a
polygon; ``bright_cloud`` is a guess at cloud for scenes without a class layer.
Source of the guess: Y. Zhang, B. Guindon and J. Cihlar, An image transform to characterize and compensate for spatial
variations in thin cloud contamination, Remote Sensing of Environment 82 (2002), for the haze line; brightness and
whiteness after L. Gomez-Chova et al., Cloud-screening algorithm, IEEE Trans. Geoscience and Remote Sensing 45 (2007).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.errors import UnknownNameError, UsageError
from zoompick.later import np
from zoompick.products.formula import Formula
from zoompick.products.index import unscaled
from zoompick.products.observations import Observation
from zoompick.raster.grid import Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Band, Derived, Raster, fill_value, valid_mask
from zoompick.raster.reach import Reach
from zoompick.sensors.classes import MEANINGS

SATURATED, OUTSIDE, GUESS = "saturated", "outside", "bright_cloud"
_BRIGHT, _WHITE, _HAZE = 0.19, 0.55, 0.045
_NEEDED = ("blue", "green", "red")


class MaskLayer(Derived):
    """One band: 1 where a rule holds, 0 where it does not, 255 where nothing was seen.

    Parameters
    ----------
    one : Observation
        Bands, and the class layer beside them.
    rule : Formula
        One that gives true or false.
    grow_m, shrink_m : float
        What holds loses this much at its edges first, then gains that much around what is left; what holds for lying
        ``outside`` alone does neither.
    polygon : PolygonMask, optional
        What ``outside`` means.
    """

    def __init__(
        self,
        one: Observation,
        rule: Formula,
        grow_m: float = 0,
        shrink_m: float = 0,
        polygon: PolygonMask | None = None,
    ) -> None:
        super().__init__(one.raster)
        self._one, self._rule, self._polygon = one, rule, polygon
        self._grow, self._shrink = Reach(self.grid, grow_m), Reach(self.grid, shrink_m)
        known = [band.name for band in one.raster.bands]
        for name in rule.bands:
            self._refuse(name, known)
        names = {0: f"not ({rule.text})", 1: rule.text}
        self.record = {"classification:classes": [
            {"value": code, "name": "holds" if code else "not", "title": words} for code, words in names.items()
        ]}  # fmt: skip

    def _refuse(self, name: str, known: list[str]) -> None:
        if name in MEANINGS and self._one.clear is None:
            raise UsageError(
                f"There is no class layer that tells {name}.",
                f"Give the class layer with the bands, or guess: {GUESS}.",
            )
        if name == OUTSIDE and self._polygon is None:
            raise UsageError("Outside of what?", "Give an area.")
        lacking = [band for band in _NEEDED if band not in known] if name == GUESS else []
        if lacking:
            raise UsageError(f"{GUESS} looks at {', '.join(_NEEDED)}; {lacking[0]} is not here.", "Give that band.")
        others = (*known, *MEANINGS, SATURATED, OUTSIDE, GUESS)
        if name not in others:
            raise UnknownNameError.of("band or class", name, others)

    @property
    def notes(self) -> tuple[str, ...]:
        """That a guess is one."""
        is_guess = GUESS in self._rule.bands
        told = (f"{GUESS} is a guess: bright sand, foam and roofs look like cloud, thin veils do not.",)
        named = [band for band in self._one.raster.bands if band.name in self._rule.bands]
        named += [band for band in self._one.raster.bands if is_guess and band.name in _NEEDED]
        return (*self._one.notes, *unscaled(self._one.raster, named), *(told if is_guess else ()))

    @property
    def bands(self) -> tuple[Band, ...]:
        """One band of codes."""
        return (Band("mask", is_class=True),)

    @property
    def dtype(self) -> PixelType:
        """Unsigned 8 bits."""
        return np.dtype(np.uint8)

    @property
    def nodata(self) -> float | None:
        """255."""
        return 255

    def read(self, window: Window, bands: Any = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        holds = self.holds(window)
        there = valid_mask(self._one.raster.read(window), self._one.raster.nodata).any(axis=0)
        return np.where(there, holds, np.uint8(255)).astype(np.uint8)[np.newaxis]

    def holds(self, window: Window) -> Pixels:
        """True where the rule holds, after shrinking and growing."""
        wide = self._grow.widened(window)
        widest = self._shrink.widened(wide)
        found = self._tested(widest)
        if widest == window:
            return found
        seeds = found & self._tested(widest, has_outside=False) if OUTSIDE in self._rule.bands else found
        inner = window.slices_in(widest)
        changed = self._grow.grown(self._shrink.shrunk(seeds, wide), window)
        return changed | (found & ~seeds)[inner]

    def _tested(self, window: Window, has_outside: bool = True) -> Pixels:
        stored = self._one.raster.read(window)
        valid = valid_mask(stored, self._one.raster.nodata).all(axis=0)
        values: dict[str, Pixels] = {}
        for name in self._rule.bands:
            is_left_out = name == OUTSIDE and not has_outside
            values[name] = np.zeros(valid.shape, bool) if is_left_out else self._value(name, stored, window)
        offsets = {band.name: band.offset for band in self._one.raster.bands}
        found = np.broadcast_to(self._rule.compute(values, offsets), valid.shape).astype(bool)
        if any(name in MEANINGS or name == OUTSIDE for name in self._rule.bands):
            return np.asarray(found)
        return np.asarray(found & valid)

    def _value(self, name: str, stored: Pixels, window: Window) -> Pixels:
        raster = self._one.raster
        if name in MEANINGS:
            assert self._one.clear is not None
            layer = self._one.clear
            return layer.table.holds(layer.classes.read(window)[0], (name,))
        if name == OUTSIDE:
            assert self._polygon is not None
            return ~self._polygon.read(window)
        if name == SATURATED:
            top = np.iinfo(raster.dtype).max if raster.dtype.kind != "f" else np.inf
            return np.asarray((stored >= top).any(axis=0))
        physical = _physical(raster, stored)
        return guessed(physical) if name == GUESS else physical(name)


def _physical(raster: Raster, stored: Pixels) -> Callable[[str], Pixels]:
    names = [band.name for band in raster.bands]

    def of(name: str) -> Pixels:
        place = names.index(name)
        band = raster.bands[place]
        return np.asarray(stored[place].astype(np.float64) * band.scale + band.offset)

    return of


def guessed(physical: Callable[[str], Pixels]) -> Pixels:
    """Pixels that are bright, white, and bluer than ground of their brightness: a guess at cloud.

    Bright sand, snow, foam and white roofs are taken for cloud too; thin veils are missed.
    """
    blue, green, red = (physical(name) for name in _NEEDED)
    mean = (blue + green + red) / 3
    with np.errstate(divide="ignore", invalid="ignore"):
        whiteness = (np.abs(blue - mean) + np.abs(green - mean) + np.abs(red - mean)) / mean
    haze = blue - 0.5 * red
    return np.asarray((mean > _BRIGHT) & (whiteness < _WHITE) & (haze > _HAZE))


class Masked(Derived):
    """Bands without the pixels in which a mask holds."""

    def __init__(self, layer: MaskLayer, source: Raster) -> None:
        super().__init__(source)
        if source.nodata is None and source.dtype.kind != "f":
            raise UsageError(
                "The bands have no no-data value, so nothing can stand for what is masked.", "Stack them first."
            )
        self._layer = layer

    @property
    def notes(self) -> tuple[str, ...]:
        """Those of the mask."""
        return self._layer.notes

    @property
    def nodata(self) -> float | None:
        """The source's no-data value, else NaN."""
        return float("nan") if self.source.nodata is None else self.source.nodata

    def read(self, window: Window, bands: Any = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        pixels = self.source.read(window, bands)
        return np.where(self._layer.holds(window), self.dtype.type(fill_value(self.nodata)), pixels)
