"""Indices: a formula over reflectance."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, ClassVar

from zoompick.geo.shapes import Shape, geojson_of
from zoompick.given import MADE_OF, NAMES
from zoompick.jsontypes import JsonObject
from zoompick.products import recipes
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.rules import Rules, asked
from zoompick.products.step import RasterStep, Step
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.sources import Sources
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class IndexRules(Rules):
    """Which indices."""

    section: ClassVar[str] = "index"

    recipes: tuple[str, ...] = asked(
        NAMES, [], "one or more by name, made in one pass; 'zoompick index --list' lists them", option="recipe",
        note=" ", start=["ndvi", "ndwi"],
    )  # fmt: skip
    of: str = asked(MADE_OF, "clip", "made of: clip, or a mask that is applied", option="")


@dataclass(frozen=True)
class IndexStep(RasterStep):
    """An index of a file's bands."""

    name: ClassVar[str] = "index"
    traits: ClassVar[Traits] = Traits("index", "index")

    recipe: recipes.IndexRecipe = field(kw_only=True)
    area: Shape | None = None

    @property
    def words(self) -> str:
        """What the recipe computes, and what its values mean."""
        return f"{self.recipe.title}, {self.recipe.formula.text}: {self.recipe.shows}."

    def options(self) -> JsonObject:
        """Name and formula; the area that it is cut to."""
        cut = {} if self.area is None else {"area": geojson_of(self.area)}
        return {"recipe": self.recipe.name, "formula": self.recipe.formula.text} | cut

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.index.Index`."""
        from zoompick.products.index import Index
        from zoompick.raster.clip import Clip

        source = sources.open(self.inputs[0])
        if self.area is not None:
            source = Clip(source, self.area)
        return Index(source, self.recipe.name, self.recipe.formula, self.inputs[0].name)


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The recipes of the brief, or those asked for, of what it says that they are made of."""
    rules = wanted.brief.one(IndexRules)
    for recipe in wanted.recipes(recipes.IndexRecipe, recipes.index, rules.recipes):
        yield IndexStep((day.product(rules.of),), day.product(recipe.name), recipe=recipe)


def needs(wanted: Wanted) -> dict[str, tuple[str, ...]]:
    """Bands of each recipe that is wanted."""
    named = wanted.recipes(recipes.IndexRecipe, recipes.index, wanted.brief.one(IndexRules).recipes)
    return {recipe.name: recipe.formula.bands for recipe in named}


KIND = Kind(IndexRules, (IndexStep,), of_day, needs=needs, makes=lambda section: section.rules.recipes)
