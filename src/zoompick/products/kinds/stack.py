"""Stacks: bands of files on one grid, in order."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar

from zoompick.given import FLAG, NAMES, one_of
from zoompick.jsontypes import JsonObject
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.kinds.mosaic import RESAMPLING
from zoompick.products.rules import Rules, asked
from zoompick.products.step import RasterStep, Step, grid_facts, units_told
from zoompick.raster.ways import BILINEAR, WAYS_WORDS, Ways
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.sources import Sources
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class StackRules(Rules):
    """How bands of several files become one raster."""

    section: ClassVar[str] = "stack"

    mix_scenes: bool = asked(FLAG, False, "each band fills its gaps by itself; else a pixel is of one scene")
    classes: tuple[str, ...] = asked(NAMES, [], "bands that hold classes: never averaged", key="")
    swath: str = asked(
        one_of("nearest", "mean"), "nearest", "pixels of a swath: nearest, or mean (by distance)", key=""
    )
    resampling: Ways = asked(RESAMPLING, "bilinear", WAYS_WORDS, key="")


@dataclass(frozen=True)
class StackStep(RasterStep):
    """Bands of files on one grid; all bands, on the finest file's grid, by default.

    Attributes
    ----------
    asks : bool
        A band that is there several times is told: something else than a stack may be meant.
    """

    name: ClassVar[str] = "stack"
    traits: ClassVar[Traits] = Traits("reflectance", "scenes", is_whole=True, is_of_one_time=True, is_between=True)
    checks: ClassVar[tuple[str, ...]] = ("grid", "order", "distinct", "valid")

    bands: tuple[str, ...] = ()
    grid: Grid | None = None
    rules: StackRules = field(default_factory=StackRules)
    asks: bool = False

    def options(self) -> JsonObject:
        """Bands, grid, classes, and what the items beside the files tell of units."""
        facts, rules = None if self.grid is None else grid_facts(self.grid), self.rules
        more: JsonObject = {"classes": list(rules.classes)} if rules.classes else {}
        more |= {"mixed": True} if rules.mix_scenes else {}
        more |= {"weighted": True} if rules.swath == "mean" else {}
        more |= {"kernel": rules.resampling.text} if rules.resampling != BILINEAR else {}
        return {"bands": list(self.bands), "grid": facts, "units": units_told(self.inputs, self.bands)} | more

    def build(self, sources: Sources) -> Raster:
        """See :func:`zoompick.products.stack.build_stack`."""
        from zoompick.products.stack import build_stack, questions
        from zoompick.scenes.deliveries import open_layers

        rules = self.rules
        layers = open_layers(self.inputs, rules.swath == "mean")
        asked_of = questions(layers, self.bands) if self.asks else ()
        return build_stack(layers, self.bands, self.grid, rules.classes, rules.mix_scenes, rules.resampling, asked_of)


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The bands of the brief, of all scenes of the day."""
    brief = wanted.brief
    yield StackStep(day.inputs, day.stack, brief.bands, wanted.grid, brief.one(StackRules))


KIND = Kind(StackRules, (StackStep,), of_day, is_first=True)
