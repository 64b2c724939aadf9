"""Mosaics: many scenes on one grid, and beside them the layer that tells which scene each pixel is from."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.errors import UsageError
from zoompick.given import FLAG, METRES, Value, listed, text
from zoompick.jsontypes import JsonObject
from zoompick.products.kind import Day, Kind, Wanted, no_day
from zoompick.products.kinds.scenes import ScenesStep, time_of
from zoompick.products.rules import Rules, asked
from zoompick.products.step import Step
from zoompick.raster.ways import BILINEAR, WAYS, WAYS_WORDS, Ways
from zoompick.scenes.traits import Traits
from zoompick.sensors.classes import MEANINGS

if TYPE_CHECKING:
    from zoompick.products.mosaic import Mosaic
    from zoompick.products.observations import Observation
    from zoompick.products.sources import Sources
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster

LAYER = "-scenes"
"""Behind the name of a mosaic: its scene layer."""
_MATCHING_PX = 700
"""Longer side of the grid on which brightness is compared."""


ORDERS = ("newest", "oldest", "clearest", "nadir", "nearest=DAY", "given")
HIDE = listed(MEANINGS)
HIDES = "what hides the ground, by the class layers: cloud, shadow, snow, water, or none"


def _ordered(value: Any) -> str:
    word, _, day = text(value).partition("=")
    if word != "nearest" and value in ORDERS:
        return word
    with contextlib.suppress(ValueError):
        if word == "nearest" and re.fullmatch(r"\d{4}-\d{2}-\d{2}", day) and date.fromisoformat(day):
            return str(value)
    raise UsageError(f"It must be {', '.join(ORDERS)}, as nearest=2025-12-15.")


ORDER = Value(
    _ordered, {"type": "string", "pattern": r"^(given|newest|oldest|clearest|nadir|nearest=\d{4}-\d{2}-\d{2})$"},
    metavar="ORDER", offer=ORDERS,
)  # fmt: skip
RESAMPLING = Value(
    lambda given: given if isinstance(given, Ways) else Ways.parse(text(given)), {"type": "string"}, metavar="WAYS",
    offer=WAYS,
)  # fmt: skip


@dataclass(frozen=True)
class MosaicRules(Rules):
    """How scenes are put over each other."""

    section: ClassVar[str] = "mosaic"

    order: str = asked(
        ORDER, "newest", "which scene counts first: newest, oldest, clearest, nadir, nearest=DAY, or as given"
    )
    hide: tuple[str, ...] = asked(HIDE, ["cloud", "shadow"], HIDES)
    grow_m: float = asked(METRES, 0, "so far around it nothing is trusted either")
    clear_only: bool = asked(FLAG, False, "no data where no scene shows the ground, in place of its cloud")
    feather_m: float = asked(METRES, 0, "soften seams over this width")
    match: bool = asked(FLAG, False, "bring scenes to the brightness of the first, by their overlaps")
    resampling: Ways = asked(RESAMPLING, "bilinear", WAYS_WORDS)

    def facts(self) -> JsonObject:
        """As JSON holds them."""
        order, _, day = self.order.partition("=")
        more = {"kernel": self.resampling.text} if self.resampling != BILINEAR else {}
        return more | {"order": order, "day": day or None, "hide": list(self.hide), "grow_m": self.grow_m,
                "clear_only": self.clear_only, "feather_m": self.feather_m, "match": self.match}  # fmt: skip

    def first_in_front(self, found: Sequence[Observation]) -> list[Observation]:
        """Observations in the order of these rules."""
        from zoompick.products.observations import in_order

        order, _, day = self.order.partition("=")
        return in_order(found, order, date.fromisoformat(day) if day else None)


def rules_for(given: Mapping[str, object], files: Sequence[Path]) -> MosaicRules:
    """Rules out of some values; where no order is told, and a file tells no time, files count as they are given."""
    if "order" not in given and not all(time_of(path) for path in files):
        given = {**given, "order": "given"}
    return MosaicRules.from_values(given)


@dataclass(frozen=True)
class MosaicStep(ScenesStep):
    """A mosaic of all scenes that its files are of."""

    name: ClassVar[str] = "mosaic"
    traits: ClassVar[Traits] = Traits("reflectance", "mosaic", is_whole=True, is_of_one_time=True)

    rules: MosaicRules = field(default_factory=MosaicRules, kw_only=True)

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.mosaic.Mosaic`."""
        return self.shared(sources)

    def joined(self) -> Mosaic:
        """All scenes over each other."""
        from zoompick.products.matching import match, overlaps
        from zoompick.products.mosaic import Mosaic

        rules = self.rules
        found = rules.first_in_front(self._resampled_to(self.grid))
        matched = None
        if rules.match and len(found) > 1:
            factor = max(1, round(max(self.grid.width, self.grid.height) / _MATCHING_PX))
            coarse = rules.first_in_front(self._resampled_to(self.grid.reduced(factor), coarse=True))
            names = [band.name for band in found[0].raster.bands]
            matched = match(overlaps(coarse), [one.name for one in coarse], names)
        return Mosaic(found, rules.feather_m, rules.clear_only, matched)

    def _resampled_to(self, grid: Grid, coarse: bool = False) -> Sequence[Any]:
        from zoompick.products.observations import observations

        rules = self.rules
        return observations(self.inputs, self.bands, grid, rules.hide, rules.grow_m, coarse, rules.resampling)


@dataclass(frozen=True)
class SceneLayerStep(MosaicStep):
    """For each pixel of a mosaic the number of the scene that it is from."""

    name: ClassVar[str] = "scene layer"
    traits: ClassVar[Traits] = Traits("classes")

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.mosaic.SceneLayer`."""
        from zoompick.products.mosaic import SceneLayer

        return SceneLayer(self.shared(sources))


def steps_of(
    files: Sequence[Path], target: Path, bands: tuple[str, ...], grid: Grid, rules: MosaicRules
) -> tuple[MosaicStep, ...]:
    """A mosaic and its scene layer, made in one pass."""
    layer = target.with_name(f"{target.stem}{LAYER}{target.suffix}")
    return (
        MosaicStep(tuple(files), target, bands, grid=grid, rules=rules),
        SceneLayerStep(tuple(files), layer, bands, grid=grid, rules=rules),
    )


def of_study(wanted: Wanted, days: Sequence[Day]) -> Iterator[Step]:
    """The mosaics of the brief, of all scenes of all days."""
    files = tuple(dict.fromkeys(path for day in days for path in (*day.inputs, *day.classes)))
    for section in wanted.brief.all(MosaicRules) if files else ():
        target = wanted.root / f"{section.name}.tif"
        yield from steps_of(files, target, wanted.brief.bands, wanted.grid, section.rules)


KIND = Kind(
    MosaicRules,
    (MosaicStep, SceneLayerStep),
    no_day,
    of_study,
    is_several=True,
    makes=lambda section: (section.name, f"{section.name}{LAYER}"),
)
