"""Masks of one scene: a class layer of what a rule names, or the bands without it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.errors import UsageError
from zoompick.geo.shapes import Shape, geojson_of, project
from zoompick.workflow.step import Sources, Step, grid_facts, units_told

if TYPE_CHECKING:
    from zoompick.imagery.formula import Formula
    from zoompick.imagery.masking import MaskLayer
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster


@dataclass(frozen=True)
class MaskStep(Step):
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
        """See :class:`zoompick.imagery.masking.MaskLayer` and :class:`~zoompick.imagery.masking.Masked`."""
        from zoompick.imagery.masking import Masked
        from zoompick.imagery.sightings import sightings

        layer = self._layer()
        if not self.is_applied:
            return layer
        (one,) = sightings(self.inputs, self.bands, self.grid, ())
        return Masked(layer, one.raster)

    def _layer(self) -> MaskLayer:
        from zoompick.imagery.masking import MaskLayer
        from zoompick.imagery.sightings import sightings
        from zoompick.raster.masks import PolygonMask
        from zoompick.sensors.classes import MEANINGS

        found = sightings(self.inputs, (), self.grid, MEANINGS)
        if len(found) > 1:
            raise UsageError(
                f"The files are of {len(found)} scenes: {found[0].name}, {found[1].name} …",
                "A mask is of one scene; 'mosaic' and 'blend' mask each of theirs.",
            )
        flat = None if self.outside is None else PolygonMask(project(self.outside, self.grid.crs), self.grid)
        return MaskLayer(found[0], self.rule, self.grow_m, self.shrink_m, flat)
