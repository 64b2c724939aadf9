"""Clips: a file inside the area."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.geo.shapes import Shape, geojson_of
from zoompick.workflow.kind import Day, Kind, Wanted
from zoompick.workflow.step import Sources, Step

if TYPE_CHECKING:
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class ClipStep(Step):
    """A file inside a polygon in longitude/latitude."""

    name: ClassVar[str] = "clip"

    area: Shape = field(kw_only=True)
    touch: bool = False

    def options(self) -> dict[str, Any]:
        """Area and rule for edge pixels."""
        return {"area": geojson_of(self.area), "touch": self.touch}

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.imagery.clip.Clip`."""
        from zoompick.imagery.clip import Clip

        return Clip(sources.open(self.inputs[0]), self.area, self.touch)


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The day's stack inside the study area."""
    yield ClipStep((day.folder / "stack.tif",), day.clip, area=wanted.area.polygon, touch=wanted.brief.touch)


KIND = Kind("clip", of_day)
