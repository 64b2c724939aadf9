"""Composites: colour pictures of three bands, as GeoTIFF and PNG."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from zoompick import settings
from zoompick.errors import DataError, NothingFoundError, UsageError
from zoompick.files import read_json
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.given import MADE_OF, NAMES, STRETCH, optional, within
from zoompick.jsontypes import JsonObject
from zoompick.products import recipes
from zoompick.products.kind import Day, Kind, Wanted
from zoompick.products.rules import Rules, asked
from zoompick.products.step import RasterStep, Step
from zoompick.products.tone import Tone
from zoompick.scenes.sidecar import sidecar_of
from zoompick.scenes.traits import Traits

if TYPE_CHECKING:
    from zoompick.products.sources import Sources
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import WriteOptions


@dataclass(frozen=True)
class CompositeRules(Rules):
    """Which colour pictures, and their shades."""

    section: ClassVar[str] = "composite"

    recipes: tuple[str, ...] = asked(
        NAMES, [], "one or more by name, made in one pass; 'zoompick composite --list' lists them", option="recipe",
        note=" ", start=["natural", "infrared"],
    )  # fmt: skip
    of: str = asked(MADE_OF, "clip", "made of: clip, or a mask that is applied", option="")
    stretch: str = asked(
        STRETCH, [0.5, 99.7], "percentiles that become dark and bright; minmax, sigma=2, equalize, local",
        note='percentiles, taken inside the area; or "minmax", "sigma=2", "equalize", "local"',
    )  # fmt: skip
    gamma: float | None = asked(
        optional(within(0.1, 10)), None, "above 1 lifts what is dark; 1.8 by default, of equalize and local 1",
        note="above 1 lifts what is dark", start=1.8,
    )  # fmt: skip
    saturation: float = asked(
        within(0, 5), 1.2, "0 is grey, above 1 colours are stronger", note="above 1 colours are stronger"
    )
    brightness: float = asked(within(-1, 1), 0, "added to each shade; above 0 brighter")
    contrast: float = asked(within(0, 10), 1, "about the middle shade; above 1 stronger")

    @property
    def tone(self) -> Tone:
        """Its shades."""
        return Tone.parse(self.stretch).shaped(
            gamma=self.gamma, brightness=self.brightness, contrast=self.contrast, saturation=self.saturation
        )


@dataclass(frozen=True)
class CompositeStep(RasterStep):
    """A colour picture, its shades measured inside an area, or those of another picture.

    Attributes
    ----------
    same_as : Path or None
        A composite whose stretch is taken, so that pictures of two dates can be compared.
    classes : tuple of Path
        Class layers: what they call cloud or shadow tells nothing of the shades. Those not here are left out.
    """

    name: ClassVar[str] = "composite"
    traits: ClassVar[Traits] = Traits("picture", "shades")

    recipe: recipes.CompositeRecipe = field(kw_only=True)
    tone: Tone = field(default_factory=Tone)
    area: Shape | None = None
    same_as: Path | None = None
    classes: tuple[Path, ...] = ()

    @property
    def words(self) -> str:
        """What the recipe shows, and its colours."""
        means = "; ".join(f"{what} {colour}" for what, colour in self.recipe.meaning)
        return f"{self.recipe.title}: {means}." if means else f"{self.recipe.title}."

    def options(self) -> JsonObject:
        """Bands, tone, and the area in which it is measured or the picture whose stretch it takes."""
        area = geojson_of(self.area) if self.area is not None else None
        told: JsonObject = {"bands": list(self.recipe.bands), "tone": self.tone.facts(), "area": area}
        if self.same_as is not None:
            told["curves"] = told_curves(self.same_as)[0]
        return told

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.products.composite.Composite`; the percentiles are measured here."""
        from zoompick.products.composite import Composite
        from zoompick.products.curves import Curve
        from zoompick.products.ground import clear_ground
        from zoompick.raster.masks import PolygonMask
        from zoompick.raster.raster import band_index
        from zoompick.raster.turn import in_same_turn

        source = sources.open(self.inputs[0])
        bands = [band_index(source, band, self.inputs[0].name) for band in self.recipe.bands]
        if self.same_as is not None:
            told, tone = told_curves(self.same_as)
            known = {row["band"]: row for row in told}
            lacking = [band for band in self.recipe.bands if band not in known]
            if lacking:
                raise UsageError(f"{self.same_as.name} does not show {lacking[0]}.", f"It shows {', '.join(known)}.")
            curves = [Curve.from_json(known[source.bands[index].name], source.bands[index]) for index in bands]
            return Composite(source, bands, curves, tone)
        mask = None
        if self.area is not None:
            source, flat = in_same_turn(source, self.area)
            mask = PolygonMask(flat, source.grid)
        ground = clear_ground(mask, self.classes, source.grid)
        if ground is not None:
            # By the clear ground; by all of it where there is none.
            with contextlib.suppress(NothingFoundError):
                return Composite.measured(source, bands, self.tone, ground)
        return Composite.measured(source, bands, self.tone, mask)

    @property
    def also(self) -> tuple[Path, ...]:
        """The class layers."""
        return self.classes

    def write_options(self, raster: Raster) -> WriteOptions:
        """The three bands lie together."""
        from zoompick.raster.write import WriteOptions

        return WriteOptions(is_rgb=True)

    @property
    def companions(self) -> tuple[Path, ...]:
        """The PNG and its world file."""
        return self.output.with_suffix(".png"), self.output.with_suffix(".pgw")

    def accompany(self) -> tuple[Path, ...]:
        """Write the PNG and its world file."""
        from zoompick.products.picture import write_png
        from zoompick.scenes.opening import open_raster

        write_png(open_raster(self.output), self.companions[0], settings.whole("picture_side_px"))
        return self.companions


def told_curves(picture: Path) -> tuple[list[JsonObject], Tone]:
    """The stretch that a composite was made with, from its record.

    Raises
    ------
    UsageError
        It has none.
    """
    try:
        properties = read_json(sidecar_of(picture))["properties"]
        told, tone = list(properties["zoompick:curves"]), Tone(**properties["zoompick:tone"])
    except (DataError, AttributeError, KeyError, TypeError, ValueError) as error:
        raise UsageError(
            f"{picture.name} has no record that tells its stretch.",
            f"Give a composite with its {sidecar_of(picture).name}.",
        ) from error
    if tone.stretch == "local":
        raise UsageError(
            f"{picture.name} was equalised in neighbourhoods: its shades belong to its own ground.",
            "Give a picture with another stretch.",
        )
    return told, tone


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The recipes of the brief, or those asked for, of what it says that they are made of."""
    rules = wanted.brief.one(CompositeRules)
    for recipe in wanted.recipes(recipes.CompositeRecipe, recipes.composite, rules.recipes):
        yield CompositeStep(
            (day.product(rules.of),), day.product(recipe.name), recipe=recipe, tone=rules.tone, classes=day.classes,
            area=wanted.area.polygon,
        )  # fmt: skip


def needs(wanted: Wanted) -> dict[str, tuple[str, ...]]:
    """Bands of each recipe of the table that is wanted."""
    named = wanted.recipes(recipes.CompositeRecipe, recipes.composite, wanted.brief.one(CompositeRules).recipes)
    known = recipes.composite_names()
    return {recipe.name: recipe.bands for recipe in named if recipe.name in known}


KIND = Kind(CompositeRules, (CompositeStep,), of_day, needs=needs, makes=lambda section: section.rules.recipes)
