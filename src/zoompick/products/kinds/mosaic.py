"""Mosaics: many scenes on one grid, and beside them the layer that tells which scene each pixel is from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.products.kind import Day, Kind, Wanted, no_day
from zoompick.products.kinds.scenes import ScenesStep
from zoompick.products.matching import match, overlaps
from zoompick.products.mosaic import Mosaic, SceneLayer
from zoompick.products.sightings import in_order, sightings
from zoompick.products.step import Sources, Step
from zoompick.raster.ways import BILINEAR, Ways

if TYPE_CHECKING:
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster

_MATCHING_PX = 700
"""Longer side of the grid on which brightness is compared."""


@dataclass(frozen=True)
class MosaicRules:
    """How scenes are put over each other.

    Attributes
    ----------
    order : str
        Which counts first; see :func:`zoompick.products.sightings.in_order`.
    day : date or None
        For the order ``nearest``.
    hide : tuple of str
        Meanings of classes that hide the ground, so that the next scene is looked at.
    grow_m : float
        Metres around these.
    clear_only : bool
        Where nothing shows the ground there is no data; else the first scene gives what it has.
    feather_m : float
        Width of soft seams.
    matches : bool
        Brightness is matched over the overlaps, to that of the first scene.
    ways : Ways
        How bands are resampled.
    """

    order: str = "given"
    day: date | None = None
    hide: tuple[str, ...] = ("cloud", "shadow")
    grow_m: float = 0
    clear_only: bool = False
    feather_m: float = 0
    matches: bool = False
    ways: Ways = BILINEAR

    def facts(self) -> dict[str, Any]:
        """As JSON holds them."""
        day = self.day.isoformat() if self.day else None
        more = {"kernel": self.ways.text} if self.ways != BILINEAR else {}
        return more | {"order": self.order, "day": day, "hide": list(self.hide), "grow_m": self.grow_m,
                "clear_only": self.clear_only, "feather_m": self.feather_m, "match": self.matches}  # fmt: skip


@dataclass(frozen=True)
class MosaicStep(ScenesStep):
    """A mosaic of all scenes that its files are of."""

    name: ClassVar[str] = "mosaic"

    rules: MosaicRules = field(default_factory=MosaicRules, kw_only=True)

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.mosaic.Mosaic`."""
        return self.shared(sources)

    def joined(self) -> Mosaic:
        """All scenes over each other."""
        rules = self.rules
        found = in_order(self._laid_on(self.grid), rules.order, rules.day)
        matched = None
        if rules.matches and len(found) > 1:
            factor = max(1, round(max(self.grid.width, self.grid.height) / _MATCHING_PX))
            coarse = in_order(self._laid_on(self.grid.reduced(factor), coarse=True), rules.order, rules.day)
            names = [band.name for band in found[0].raster.bands]
            matched = match(overlaps(coarse), [one.name for one in coarse], names)
        return Mosaic(found, rules.feather_m, rules.clear_only, matched)

    def _laid_on(self, grid: Grid, coarse: bool = False) -> Sequence[Any]:
        return sightings(self.inputs, self.bands, grid, self.rules.hide, self.rules.grow_m, coarse, self.rules.ways)


@dataclass(frozen=True)
class SceneLayerStep(MosaicStep):
    """For each pixel of a mosaic the number of the scene that it is from."""

    name: ClassVar[str] = "scene layer"

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.mosaic.SceneLayer`."""
        return SceneLayer(self.shared(sources))


def of_study(wanted: Wanted, days: Sequence[Day]) -> Iterator[Step]:
    """The mosaics of the brief, of all scenes of all days."""
    files = tuple(dict.fromkeys(path for day in days for path in (*day.inputs, *day.classes)))
    for extra in wanted.brief.extras:
        if extra.kind != "mosaic" or not files:
            continue
        order, _, day = str(extra["order"]).partition("=")
        rules = MosaicRules(
            order, date.fromisoformat(day) if day else None, extra["hide"], extra["grow_m"], extra["clear_only"],
            extra["feather_m"], extra["match"],
        )  # fmt: skip
        target = wanted.root / f"{extra.name}.tif"
        yield MosaicStep(files, target, wanted.brief.bands, grid=wanted.grid, rules=rules)
        yield SceneLayerStep(files, beside(target), wanted.brief.bands, grid=wanted.grid, rules=rules)


def beside(mosaic: Path) -> Path:
    """The scene layer of a mosaic."""
    return mosaic.with_name(f"{mosaic.stem}-scenes{mosaic.suffix}")


KIND = Kind("mosaic", no_day, of_study)
