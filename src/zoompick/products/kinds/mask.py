"""Masks of one scene, or of a day: a class layer of what a rule names, or the bands without it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.errors import BriefError, UsageError
from zoompick.geo.shapes import Shape, geojson_of, project
from zoompick.products.extras import Extra
from zoompick.products.formula import Formula
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.masking import Masked, MaskLayer
from zoompick.products.sightings import sightings, whole_day
from zoompick.products.step import RasterStep, Sources, Step, grid_facts, units_told
from zoompick.raster.masks import PolygonMask
from zoompick.sensors.classes import MEANINGS
from zoompick.settings import BRIEF_NAME

if TYPE_CHECKING:
    from zoompick.products.sightings import Sighting
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class MaskStep(RasterStep):
    """A rule over the bands and classes of one scene.

    Attributes
    ----------
    is_applied : bool
        The bands without what the rule names; else 1 where it holds, 0 where not, 255 where nothing was seen.
    """

    name: ClassVar[str] = "mask"

    rule: Formula = field(kw_only=True)
    grid: Grid = field(kw_only=True)
    bands: tuple[str, ...] = ()
    grow_m: float = 0
    shrink_m: float = 0
    outside: Shape | None = None
    is_applied: bool = False

    def options(self) -> dict[str, Any]:
        """Rule, margins, area, grid and units."""
        area = geojson_of(self.outside) if self.outside is not None else None
        return {"rule": self.rule.text, "bands": list(self.bands), "grow_m": self.grow_m, "shrink_m": self.shrink_m,
                "outside": area, "applied": self.is_applied, "grid": grid_facts(self.grid),
                "units": units_told(self.inputs)}  # fmt: skip

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.masking.MaskLayer` and :class:`~zoompick.products.masking.Masked`."""
        one = self._sighting(sources)
        flat = None if self.outside is None else PolygonMask(project(self.outside, self.grid.crs), self.grid)
        layer = MaskLayer(one, self.rule, self.grow_m, self.shrink_m, flat)
        return Masked(layer, self._shown(one)) if self.is_applied else layer

    def _shown(self, one: Sighting) -> Raster:
        """The bands to be masked."""
        return sightings(self.inputs, self.bands, self.grid, ())[0].raster

    def _sighting(self, sources: Sources) -> Sighting:
        """What the rule looks at: bands and classes of the one scene."""
        found = sightings(self.inputs, (), self.grid, MEANINGS)
        if len(found) > 1:
            raise UsageError(
                f"The files are of {len(found)} scenes: {found[0].name}, {found[1].name} …",
                "A mask is of one scene; 'mosaic' and 'blend' mask each of theirs.",
            )
        return found[0]


@dataclass(frozen=True)
class DayMaskStep(MaskStep):
    """A rule over the bands of a day, the first input, and the class layers of its scenes, the others."""

    def _shown(self, one: Sighting) -> Raster:
        return one.raster

    def _sighting(self, sources: Sources) -> Sighting:
        return whole_day(sources.open(self.inputs[0]), self.inputs[0].parent.name, self.inputs[1:])


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The masks of the brief, of the day's bands where they belong."""
    for extra in wanted.brief.extras:
        if extra.kind == "mask":
            rule = rule_of(extra)
            _refuse_untold(extra, rule, day)
            yield DayMaskStep(
                (day.whole, *day.classes), day.product(extra.name), rule=rule, grid=wanted.grid,
                grow_m=extra["grow_m"], shrink_m=extra["shrink_m"], outside=wanted.area.polygon,
                is_applied=extra["apply"],
            )  # fmt: skip


def _refuse_untold(extra: Extra, rule: Formula, day: Day) -> None:
    """A rule over classes needs a class layer: told before anything is fetched."""
    named = [name for name in rule.bands if name in MEANINGS]
    if named and not day.classes:
        raise BriefError(
            f"{BRIEF_NAME}, line {extra.line('where')}: [[mask]] where = {extra['where']!r} needs a class layer that "
            f"tells {named[0]}, and the scenes of {day.date} have none.",
            "As 'bright_cloud or outside', a guess.",
        )


def rule_of(extra: Extra) -> Formula:
    """The rule of a section of the brief.

    Raises
    ------
    BriefError
        Names the line.
    """
    try:
        rule = Formula.parse(str(extra["where"]))
        if rule.is_test or rule.text.strip() in rule.bands:
            return rule
        raise UsageError("It is neither true nor false.", "As 'nir < 0.1', or 'cloud or shadow'.")
    except UsageError as error:
        line = extra.line("where")
        raise BriefError(
            f"{BRIEF_NAME}, line {line}: [[mask]] where = {extra['where']!r} cannot be used.", str(error)
        ) from error


KIND = Kind("mask", of_day)
