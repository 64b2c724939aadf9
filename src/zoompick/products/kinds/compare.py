"""Differences and classes of change between two dates."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from zoompick.area.model import Area
from zoompick.errors import GridError, UsageError
from zoompick.geo.shapes import geojson_of
from zoompick.given import LIMIT, MADE_OF, words
from zoompick.jsontypes import JsonObject
from zoompick.products import recipes
from zoompick.products.kind import Day, Kind, Wanted, no_day
from zoompick.products.rules import Rules, asked
from zoompick.products.step import DrawnStep, RasterStep, Step
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.change import Difference, Rule
    from zoompick.products.recipes import IndexRecipe
    from zoompick.products.sources import Sources
    from zoompick.raster.raster import Raster

DIFFERENCE = "-difference"
"""Behind the name of a layer of change: the difference it was made of."""
_MOST_SHIFT_PX = 0.5


_RECIPE = r"[a-z][a-z0-9-]*"


@dataclass(frozen=True)
class CompareRules(Rules):
    """What of two dates is compared, and what counts as change."""

    section: ClassVar[str] = "compare"

    index: str = asked(words(_RECIPE, "an index recipe, as ndwi", "NAME"), "ndwi",
                       "what is compared, first day and last")  # fmt: skip
    above: float | None = asked(LIMIT, None, "change is to rise above this, or fall below it")
    change_min: float | None = asked(LIMIT, None, "change is to rise or fall by as much")
    of: str = asked(MADE_OF, "clip", "the bands: clip, or a mask that is applied", option="")
    show: str = asked(words(f"|{_RECIPE}", "a composite recipe, as natural, or nothing", "NAME"), "",
                      "composite of a picture of both dates and the change")  # fmt: skip

    def check(self) -> None:
        """One rule of change."""
        if (self.above is None) == (self.change_min is None):
            raise UsageError("[[compare]] takes `above` or `change_min`, one of them.", "As change_min = 0.2.")


@dataclass(frozen=True)
class DifferenceStep(RasterStep):
    """The second input less the first: of an index of both, or of their only bands.

    Attributes
    ----------
    recipe : IndexRecipe or None
        Computed of both first; without one the files hold one band each.
    checks_shift : bool
        Whether two that do not lie on each other are refused.
    """

    name: ClassVar[str] = "difference"
    traits: ClassVar[Traits] = Traits("difference", "difference")

    recipe: IndexRecipe | None = None
    checks_shift: bool = True

    def options(self) -> JsonObject:
        """Recipe and formula."""
        recipe = None if self.recipe is None else [self.recipe.name, self.recipe.formula.text]
        return {"recipe": recipe}

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.change.Difference`."""
        return self._difference(sources)

    def _difference(self, sources: Sources) -> Difference:
        made: Difference = sources.once(("difference", self.inputs, self.recipe), lambda: self._made(sources))
        return made

    def _made(self, sources: Sources) -> Difference:
        from zoompick.products.change import Difference
        from zoompick.products.index import Index
        from zoompick.raster.warp import resampled_to

        before, after = (sources.open(path) for path in self.inputs)
        if self.recipe is not None:
            before, after = (
                Index(raster, self.recipe.name, self.recipe.formula, path.name)
                for raster, path in zip((before, after), self.inputs, strict=True)
            )
        elif len(before.bands) != 1 or len(after.bands) != 1:
            raise UsageError("The files have several bands.", "Say what to compare: `index` ndwi.")
        if not before.grid.shares_lattice(after.grid) or before.grid.window != after.grid.window:
            after = resampled_to(after, before.grid)
        if self.checks_shift:
            _refuse_shifted(before, after, self.inputs[1].name)
        return Difference(before, after)


def _refuse_shifted(before: Raster, after: Raster, name: str) -> None:
    from zoompick.products.shift import shift_between

    shift = shift_between(before, after)
    if shift.is_sure and shift.size_px > _MOST_SHIFT_PX:
        raise GridError(
            f"{name} lies {shift.size_px:.1f} px beside the other ({shift.tiles} of {shift.looked} tiles agree): "
            "edges would look like change.",
            "Move it first: 'zoompick align'.",
        )


@dataclass(frozen=True)
class ChangeStep(DifferenceStep):
    """Classes of change."""

    name: ClassVar[str] = "change"
    traits: ClassVar[Traits] = Traits("change", "change")

    rule: Rule = field(kw_only=True)

    def options(self) -> JsonObject:
        """Recipe, formula and rule."""
        return super().options() | {"above": self.rule.above, "by": self.rule.by}

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.change.Change`."""
        from zoompick.products.change import Change

        difference = self._difference(sources)
        return Change(difference, self.rule, self.recipe.name if self.recipe else difference.of)


@dataclass(frozen=True)
class SideBySideStep(DrawnStep):
    """Two dates with the same shades, and where they changed: the first two inputs and the third."""

    name: ClassVar[str] = "side by side"
    traits: ClassVar[Traits] = Traits("picture")

    rule: Rule = field(kw_only=True)
    index: str = field(kw_only=True)
    recipe: str = field(kw_only=True)
    area: Area = field(kw_only=True)

    def options(self) -> JsonObject:
        """Rule, index, recipe and area."""
        return {"above": self.rule.above, "by": self.rule.by, "index": self.index, "recipe": self.recipe,
                "area": geojson_of(self.area.polygon), "words": self.area.name}  # fmt: skip

    def draw(self, target: Path) -> tuple[int, int]:
        """See :func:`zoompick.products.sidebyside.draw_change`."""
        from zoompick.products.sidebyside import Comparison, draw_change

        before, after, change = self.inputs
        words = f"{self.area.name}: {self.index}, {_told(self.rule)}"
        wish = Comparison(
            before, after, self.index, self.rule.above, self.rule.by, self.recipe, area=self.area, title=words
        )
        return draw_change(wish, change, target)


def _told(rule: Rule) -> str:
    return f"above {rule.above:g}" if rule.above is not None else f"change by {rule.by:g} or more"


def of_study(wanted: Wanted, days: Sequence[Day]) -> Iterator[Step]:
    """The comparisons of the brief: the first day with the last."""
    from zoompick.products.change import Rule

    if len(days) < 2:
        return
    for section in wanted.brief.all(CompareRules):
        rules = section.rules
        ends = (days[0].product(rules.of), days[-1].product(rules.of))
        recipe, rule = recipes.index(rules.index), Rule(rules.above, rules.change_min)
        yield DifferenceStep(ends, wanted.root / f"{section.name}{DIFFERENCE}.tif", recipe)
        change = ChangeStep(ends, wanted.root / f"{section.name}.tif", recipe, rule=rule)
        yield change
        if rules.show:
            shown = (days[0].clip, days[-1].clip, change.output)
            target = wanted.root / f"{section.name}.png"
            yield SideBySideStep(shown, target, rule=rule, index=recipe.name, recipe=rules.show, area=wanted.area)


def needs(wanted: Wanted) -> dict[str, tuple[str, ...]]:
    """Bands of each index that is compared, and of each composite that is shown."""
    compared = [section.rules for section in wanted.brief.all(CompareRules)]
    found = {name: recipes.index(name).formula.bands for name in sorted({rules.index for rules in compared})}
    shown = sorted({rules.show for rules in compared} - {""})
    return found | {name: recipes.composite(name).bands for name in shown}


KIND = Kind(
    CompareRules, (DifferenceStep, ChangeStep, SideBySideStep), no_day, of_study, needs, own_name="change",
    is_several=True, makes=lambda section: (section.name, f"{section.name}{DIFFERENCE}"),
)  # fmt: skip
