"""Does a class layer fit the bands of its scene: what it calls cloud is bright, what it calls shadow is dark."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from zoompick.arrays import Floats, Mask
from zoompick.judge.checks.products import physical
from zoompick.judge.checks.shade import DARK, shade_of
from zoompick.later import np
from zoompick.raster.part import AtLevel
from zoompick.raster.pixelsize import middle_sizes_m
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding, Seen, judged, not_judged
from zoompick.sensors.classes import ClassTable

TITLE, SHADOWS = "classes fit the bands", "shadows called"
_WIDE_PX, _LEAST_PX = 800, 200
_LEAST, _BRIGHT = 0.6, 0.3
VISIBLE = ("blue", "green", "red")


class _Kind(NamedTuple):
    """A class that has a brightness of its own, and how sure that is of it."""

    word: str
    adjective: str
    sure: float


def classes_fit(
    bands: Mapping[str, Raster], layer: Raster, table: ClassTable, label: str, azimuth_deg: float | None = None
) -> list[Finding]:
    """How often a pixel called cloud is brighter, and one called shadow darker, than one called clear.

    A layer of another date, or one laid elsewhere, is no better than chance. Where hardly anything is called so there
    is nothing to judge; over snow and sand, which are as bright as cloud, it cannot be.

    Parameters
    ----------
    bands : mapping of str to Raster
        Visible bands and near infrared, those that are here.
    azimuth_deg : float, optional
        Of the sun, clockwise from north: with it shadows are looked for that the layer calls clear.
    """
    coarse = _coarse(layer)
    codes = coarse.read(coarse.grid.window)[0]
    visible, nir = _mean(bands, VISIBLE, coarse), _mean(bands, ("nir",), coarse)
    known = valid_mask(codes, layer.nodata) & ~table.holds(codes, ("fill",)) & ~table.doubts(codes)
    clear = known & ~table.holds(codes, ("cloud", "shadow", "snow", "water"))
    cloud, shadow = (known & table.holds(codes, (word,)) for word in ("cloud", "shadow"))
    if min(clear.sum(), max(cloud.sum(), shadow.sum())) < _LEAST_PX:
        return []
    found = []
    if visible is not None and float(np.nanmedian(visible[clear])) < _BRIGHT:
        found.append(_kind(visible, cloud, clear, "cloud", "brighter"))
    if nir is not None:
        found.append(_kind(-nir, shadow, clear, "shadow", "darker"))
    seen = Seen("px", int(known.sum()), layer.grid.width * layer.grid.height)
    fits = _fitting([one for one in found if one is not None], seen, label)
    return [fits, *_shaded(coarse, nir, (cloud, clear), azimuth_deg, label)]


def _fitting(told: Sequence[_Kind], seen: Seen, label: str) -> Finding:
    """The finding of the kind that is least sure."""
    limit = f"at least {100 * _LEAST:.0f} % right"
    if not told:
        reason = "The ground is as bright as cloud, or no visible band and no near infrared is here."
        return not_judged(TITLE, label, reason, limit)
    worst = min(told, key=lambda one: one.sure)
    figure = f"{worst.word} {worst.adjective} in {100 * worst.sure:.0f} %"
    note = (f"What the class layer calls {worst.word} is {worst.adjective} than what it calls clear in "
            f"{100 * worst.sure:.0f} % of pairs, as by chance: it is another date's, lies elsewhere, or its codes "
            "mean other things. Fetch it again, or see 'zoompick bands'.")  # fmt: skip
    return judged(TITLE, label, worst.sure >= _LEAST, figure, limit, note, 100 * worst.sure, bad="warn", seen=seen)


def _shaded(
    coarse: Raster, nir: Floats | None, told: tuple[Mask, Mask], azimuth_deg: float | None, label: str
) -> list[Finding]:
    """Shadows that are called clear; nothing without near infrared or the sun's azimuth, or with few clouds."""
    if nir is None or azimuth_deg is None:
        return []
    cloud, clear = told
    found = shade_of(nir, cloud, clear, azimuth_deg, middle_sizes_m(coarse.grid, coarse.grid.window))
    if found is None:
        return []
    limit = f"below {100 * DARK:.0f} % darker"
    figure = f"darker in {100 * found.dark:.0f} % of pairs"
    note = (f"{found.away_m:.0f} m from clouds, away from the sun, what the class layer calls clear is darker than "
            f"other clear ground in {100 * found.dark:.0f} % of pairs (towards the sun in "
            f"{100 * found.opposite:.0f} %): shadows are called clear. A wider '--grow' hides them.")  # fmt: skip
    seen = Seen("px", found.pixels, cloud.size)
    is_fine = not found.is_shadow
    return [judged(SHADOWS, label, is_fine, figure, limit, note, 100 * found.dark, bad="warn", seen=seen)]


def _coarse(layer: Raster) -> Raster:
    level = max((n for n, grid in enumerate(layer.levels) if grid.width >= _WIDE_PX), default=0)
    return AtLevel(layer, level) if level else layer


def _mean(bands: Mapping[str, Raster], names: tuple[str, ...], like: Raster) -> Floats | None:
    """Mean of some bands on the grid of a layer; None without any."""
    found = [physical(resampled_to(bands[name], like.grid), like.grid.window) for name in names if name in bands]
    planes = [next(iter(one.values())) for one in found]
    return np.asarray(np.mean(planes, axis=0)) if planes else None


def _kind(values: Floats, own: Mask, clear: Mask, word: str, adjective: str) -> _Kind | None:
    """The share of pairs in which a pixel of a class is above one that is clear; None where there are few.

    Source: H. B. Mann, D. R. Whitney, On a test of whether one of two random variables is stochastically larger than
    the other (1947).
    """
    one, other = (np.sort(values[which & np.isfinite(values)]) for which in (own, clear))
    if min(one.size, other.size) < _LEAST_PX:
        return None
    below, until = (np.searchsorted(other, one, side) for side in ("left", "right"))
    return _Kind(word, adjective, float((below + until).mean()) / (2 * other.size))
