"""Composites: colour pictures of three bands, as GeoTIFF and PNG."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick import settings
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.imagery import recipes
from zoompick.workflow.kind import Day, Kind, Wanted
from zoompick.workflow.step import Sources, Step

if TYPE_CHECKING:
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import WriteOptions


@dataclass(frozen=True)
class CompositeStep(Step):
    """A colour picture, stretched between two percentiles that are taken inside an area."""

    name: ClassVar[str] = "composite"

    recipe: recipes.CompositeRecipe = field(kw_only=True)
    stretch: tuple[float, float] = (2, 98)
    area: Shape | None = None

    def options(self) -> dict[str, Any]:
        """Bands, percentiles and the area in which they are taken."""
        area = geojson_of(self.area) if self.area is not None else None
        return {"bands": list(self.recipe.bands), "stretch": list(self.stretch), "area": area}

    def build(self, sources: Sources) -> Raster:
        """See :class:`zoompick.imagery.composite.Composite`; the percentiles are measured here."""
        from zoompick.imagery.composite import Composite
        from zoompick.imagery.stretch import percentile_limits
        from zoompick.raster.masks import PolygonMask
        from zoompick.raster.raster import band_index
        from zoompick.raster.turn import met

        source = sources.open(self.inputs[0])
        bands = [band_index(source, band, self.inputs[0].name) for band in self.recipe.bands]
        mask = None
        if self.area is not None:
            source, flat = met(source, self.area)
            mask = PolygonMask(flat, source.grid)
        return Composite(source, bands, percentile_limits(source, bands, self.stretch, mask, sources.executor))

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
        from zoompick.imagery.picture import write_png
        from zoompick.workflow.opening import open_raster

        write_png(open_raster(self.output), self.companions[0], settings.whole("picture_side_px"))
        return self.companions


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The recipes of the brief, or the one asked for, of the day's clip."""
    for recipe in wanted.recipes(recipes.CompositeRecipe, recipes.composite, wanted.brief.composites):
        yield CompositeStep(
            (day.clip,),
            day.folder / f"{recipe.name}.tif",
            recipe=recipe,
            stretch=wanted.brief.stretch,
            area=wanted.area.polygon,
        )


def needs(wanted: Wanted) -> dict[str, tuple[str, ...]]:
    """Bands of each recipe of the table that is wanted."""
    named = wanted.recipes(recipes.CompositeRecipe, recipes.composite, wanted.brief.composites)
    known = recipes.composite_names()
    return {recipe.name: recipe.bands for recipe in named if recipe.name in known}


KIND = Kind("composite", of_day, needs=needs)
