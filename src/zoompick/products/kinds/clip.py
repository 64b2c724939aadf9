"""Clips: a file inside the area."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar

from zoompick import settings
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.given import FLAG
from zoompick.jsontypes import JsonObject
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.rules import Rules, asked
from zoompick.products.step import RasterStep, Step
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.sources import Sources
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class ClipRules(Rules):
    """Which pixels are kept, and how far the product reaches."""

    section: ClassVar[str] = "clip"

    touch: bool = asked(FLAG, False, "keep every pixel the outline passes through",
                        note="true keeps every pixel the outline passes through")  # fmt: skip
    outside: bool = asked(FLAG, False, "keep what lies outside instead", key="")
    keep: bool = asked(FLAG, False, "keep the file's extent; what is cut away is no-data", key="")
    loose: bool = asked(FLAG, False, "widen the extent to whole blocks, which are then passed on as stored", key="")


@dataclass(frozen=True)
class ClipStep(RasterStep):
    """A file inside a polygon in longitude/latitude."""

    name: ClassVar[str] = "clip"
    traits: ClassVar[Traits] = Traits("reflectance", "clip", is_cut=True, is_between=True)

    area: Shape = field(kw_only=True)
    rules: ClipRules = field(default_factory=ClipRules)

    def options(self) -> JsonObject:
        """Area and rules."""
        told: JsonObject = {"area": geojson_of(self.area), "touch": self.rules.touch}
        return told | {name: True for name in ("outside", "keep", "loose") if getattr(self.rules, name)}

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.raster.clip.Clip`."""
        from zoompick.raster.clip import Clip

        rules = self.rules
        loose_to = settings.whole("tile_px") if rules.loose else 0
        source = sources.open(self.inputs[0])
        return Clip(source, self.area, rules.touch, rules.outside, rules.keep, loose_to)


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The day's bands inside the study area."""
    yield ClipStep((day.whole,), day.clip, wanted.brief.one(ClipRules), area=wanted.area.polygon)


KIND = Kind(ClipRules, (ClipStep,), of_day)
