"""Masks of one scene, or of a day: a class layer of what a rule names, or the bands without it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.errors import BriefError, UsageError
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.given import FLAG, METRES, Value, text
from zoompick.jsontypes import JsonObject
from zoompick.products.formula import Formula
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.rules import Rules, Section, asked
from zoompick.products.step import RasterStep, Step, grid_facts, units_told
from zoompick.scenes.traits import Traits
from zoompick.sensors.classes import MEANINGS
from zoompick.settings import BRIEF_NAME

if TYPE_CHECKING:
    from zoompick.products.observations import Observation
    from zoompick.products.sources import Sources
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster


_WORDS = (*MEANINGS, "saturated", "bright_cloud", "outside")


def _true_or_false(value: Any) -> str:
    rule = Formula.parse(text(value))
    if not rule.is_test and rule.text.strip() not in rule.bands:
        raise UsageError(f"'{value}' is neither true nor false.", "As 'nir < 0.1', or 'cloud or shadow'.")
    return str(value)


@dataclass(frozen=True)
class MaskRules(Rules):
    """What is masked, and how it is told."""

    section: ClassVar[str] = "mask"

    where: str = asked(
        Value(
            _true_or_false,
            {"type": "string"},
            metavar="CONDITION",
            offer=(*MEANINGS, "saturated", "bright_cloud", "outside"),
        ),
        "cloud or shadow or outside",
        "over bands, classes, saturated, bright_cloud and outside: 'snow and not water', 'nir < 0.1'",
    )
    grow_m: float = asked(METRES, 0, "widen what holds by this")
    shrink_m: float = asked(METRES, 0, "narrow it first, so that specks go")
    apply: bool = asked(FLAG, False, "the bands without it, in place of a layer that tells it")

    @property
    def formula(self) -> Formula:
        """The rule."""
        return Formula.parse(self.where)


@dataclass(frozen=True)
class MaskStep(RasterStep):
    """A rule over the bands and classes of one scene: 1 where it holds, 0 where not, 255 where nothing was seen.

    Applied, it is the bands without what the rule names.
    """

    name: ClassVar[str] = "mask"
    traits: ClassVar[Traits] = Traits("reflectance", "mask", is_cut=True)

    rules: MaskRules = field(kw_only=True)
    grid: Grid = field(kw_only=True)
    bands: tuple[str, ...] = ()
    outside: Shape | None = None

    def options(self) -> JsonObject:
        """Rule, margins, area, grid and units."""
        area = geojson_of(self.outside) if self.outside is not None else None
        rules = self.rules
        return {"rule": rules.where, "bands": list(self.bands), "grow_m": rules.grow_m, "shrink_m": rules.shrink_m,
                "outside": area, "applied": rules.apply, "grid": grid_facts(self.grid),
                "units": units_told(self.inputs)}  # fmt: skip

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.masking.MaskLayer` and :class:`~zoompick.products.masking.Masked`."""
        from zoompick.geo.shapes import project
        from zoompick.products.masking import Masked, MaskLayer
        from zoompick.raster.masks import PolygonMask

        one = self._observation(sources)
        flat = None if self.outside is None else PolygonMask(project(self.outside, self.grid.crs), self.grid)
        layer = MaskLayer(one, self.rules.formula, self.rules.grow_m, self.rules.shrink_m, flat)
        return Masked(layer, self._shown(one)) if self.rules.apply else layer

    def _shown(self, one: Observation) -> Raster:
        """The bands to be masked."""
        from zoompick.products.observations import observations

        return observations(self.inputs, self.bands, self.grid, ())[0].raster

    def _observation(self, sources: Sources) -> Observation:
        """What the rule looks at: bands and classes of the one scene."""
        from zoompick.products.observations import observations

        found = observations(self.inputs, (), self.grid, MEANINGS)
        if len(found) > 1:
            raise UsageError(
                f"The files are of {len(found)} scenes: {found[0].name}, {found[1].name} …",
                "A mask is of one scene; 'mosaic' and 'blend' mask each of theirs.",
            )
        return found[0]


@dataclass(frozen=True)
class DayMaskStep(MaskStep):
    """A rule over the bands of a day, the first input, and the class layers of its scenes, the others."""

    def _shown(self, one: Observation) -> Raster:
        return one.raster

    def _observation(self, sources: Sources) -> Observation:
        from zoompick.products.observations import whole_day

        return whole_day(sources.open(self.inputs[0]), self.inputs[0].parent.name, self.inputs[1:])


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The masks of the brief, of the day's bands where they belong."""
    for section in wanted.brief.all(MaskRules):
        _refuse_untold(section, day)
        yield DayMaskStep(
            (day.whole, *day.classes), day.product(section.name), rules=section.rules, grid=wanted.grid,
            outside=wanted.area.polygon,
        )  # fmt: skip


def _refuse_untold(section: Section[MaskRules], day: Day) -> None:
    """A rule over classes needs a class layer: told before anything is fetched."""
    named = [name for name in section.rules.formula.bands if name in MEANINGS]
    if named and not day.classes:
        raise BriefError(
            f"{BRIEF_NAME}, line {section.line('where')}: [[mask]] where = {section.rules.where!r} needs a class "
            f"layer that tells {named[0]}, and the scenes of {day.date} have none.",
            "As 'bright_cloud or outside', a guess.",
        )


KIND = Kind(
    MaskRules, (MaskStep, DayMaskStep), of_day, is_several=True, keeps_bands=lambda section: section.rules.apply
)
