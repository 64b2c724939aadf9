"""Clips: a file inside the area."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick import settings
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.step import RasterStep, Sources, Step
from zoompick.raster.clip import Clip

if TYPE_CHECKING:
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class ClipStep(RasterStep):
    """A file inside a polygon in longitude/latitude."""

    name: ClassVar[str] = "clip"

    area: Shape = field(kw_only=True)
    touch: bool = False
    is_outside: bool = False
    keeps_extent: bool = False
    is_loose: bool = False

    def options(self) -> dict[str, Any]:
        """Area and rules."""
        told: dict[str, Any] = {"area": geojson_of(self.area), "touch": self.touch}
        told |= {"outside": True} if self.is_outside else {}
        told |= {"keep": True} if self.keeps_extent else {}
        return told | ({"loose": True} if self.is_loose else {})

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.raster.clip.Clip`."""
        loose_to = settings.whole("tile_px") if self.is_loose else 0
        source = sources.open(self.inputs[0])
        return Clip(source, self.area, self.touch, self.is_outside, self.keeps_extent, loose_to)


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The day's bands inside the study area."""
    yield ClipStep((day.whole,), day.clip, area=wanted.area.polygon, touch=wanted.brief.touch)


KIND = Kind("clip", of_day)
