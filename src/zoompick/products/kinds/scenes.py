"""What products of many scenes have in common: bands, a grid, rules, and one raster that several steps take."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from zoompick.jsontypes import JsonObject
from zoompick.products.step import RasterStep, grid_facts, units_told
from zoompick.scenes.items import scene_of
from zoompick.scenes.sidecar import read_sidecar

if TYPE_CHECKING:
    from zoompick.products.mosaic import Mosaic
    from zoompick.products.sources import Sources
    from zoompick.raster.grid import Grid


def time_of(path: Path) -> datetime | None:
    """When the scene of a file was taken, by the item or the record beside it; None where nothing tells."""
    scene = scene_of(path)
    if scene is not None:
        return scene.when
    recorded = read_sidecar(path)
    return recorded.when if recorded else None


class Rules(Protocol):
    """How scenes become one; equal rules are equal values."""

    def facts(self) -> JsonObject:
        """As JSON holds them."""


@dataclass(frozen=True)
class ScenesStep(RasterStep):
    """A product of all scenes that its files are of."""

    bands: tuple[str, ...] = ()
    grid: Grid = field(kw_only=True)
    rules: Rules = field(kw_only=True)

    def options(self) -> JsonObject:
        """Bands, grid, rules, and what the items beside the files tell of units."""
        told = {"bands": list(self.bands), "grid": grid_facts(self.grid), "units": units_told(self.inputs)}
        return told | self.rules.facts()

    def shared(self, sources: Sources) -> Mosaic:
        """The raster that this step and those that tell of it are made of: built once."""
        made: Mosaic = sources.once((self.inputs, self.bands, self.grid, self.rules), self.joined)
        return made

    @abstractmethod
    def joined(self) -> Mosaic:
        """The scenes as one raster."""
