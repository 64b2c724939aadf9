"""Stacks: bands of files on one grid, in order."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.stack import build_stack, questions
from zoompick.products.step import RasterStep, Sources, Step, grid_facts, units_told
from zoompick.raster.ways import BILINEAR, Ways
from zoompick.scenes.deliveries import open_layers

if TYPE_CHECKING:
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class StackStep(RasterStep):
    """Bands of files on one grid; all bands, on the finest file's grid, by default.

    Attributes
    ----------
    asks : bool
        A band that is there several times is told: something else than a stack may be meant.
    """

    name: ClassVar[str] = "stack"
    checks: ClassVar[tuple[str, ...]] = ("grid", "order", "distinct", "valid")

    bands: tuple[str, ...] = ()
    grid: Grid | None = None
    classes: tuple[str, ...] = ()
    is_mixed: bool = False
    is_weighted: bool = False
    asks: bool = False
    ways: Ways = BILINEAR

    def options(self) -> dict[str, Any]:
        """Bands, grid, classes, and what the items beside the files tell of units."""
        facts = None if self.grid is None else grid_facts(self.grid)
        more: dict[str, Any] = {"classes": list(self.classes)} if self.classes else {}
        more |= {"mixed": True} if self.is_mixed else {}
        more |= {"weighted": True} if self.is_weighted else {}
        more |= {"kernel": self.ways.text} if self.ways != BILINEAR else {}
        return {"bands": list(self.bands), "grid": facts, "units": units_told(self.inputs, self.bands)} | more

    def build(self, sources: Sources) -> Raster:
        """See :func:`zoompick.products.stack.build_stack`."""
        layers = open_layers(self.inputs, self.is_weighted)
        asked = questions(layers, self.bands) if self.asks else ()
        return build_stack(layers, self.bands, self.grid, self.classes, self.is_mixed, self.ways, asked)


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The bands of the brief, of all scenes of the day."""
    brief = wanted.brief
    yield StackStep(day.inputs, day.stack, brief.bands, wanted.grid, is_mixed=brief.mix_scenes)


KIND = Kind("stack", of_day, is_first=True)
