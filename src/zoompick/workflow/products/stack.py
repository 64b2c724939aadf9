"""Stacks: bands of files on one grid, in order."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zoompick.catalog.scene import CLASS_BAND
from zoompick.workflow.kind import Day, Kind, Wanted
from zoompick.workflow.step import Step

if TYPE_CHECKING:
    from zoompick.raster.grid import Grid
    from zoompick.raster.raster import Raster
    from zoompick.raster.write import WriteOptions


@dataclass(frozen=True)
class StackStep(Step):
    """Bands of files on one grid; all bands, on the finest file's grid, by default."""

    name: ClassVar[str] = "stack"
    checks: ClassVar[tuple[str, ...]] = ("grid", "order", "distinct", "valid")

    bands: tuple[str, ...] = ()
    grid: Grid | None = None

    def options(self) -> dict[str, Any]:
        """Bands and grid."""
        grid = self.grid
        facts = None if grid is None else [
            str(grid.crs), grid.pixel_x, grid.west, grid.north, grid.width, grid.height
        ]  # fmt: skip
        return {"bands": list(self.bands), "grid": facts}

    def build(self, executor: Executor | None = None) -> Raster:
        """See :func:`zoompick.imagery.stack.build_stack`."""
        from zoompick.imagery.deliveries import open_layers
        from zoompick.imagery.stack import build_stack

        return build_stack(open_layers(self.inputs), self.bands, self.grid, (CLASS_BAND,))

    def write_options(self, raster: Raster) -> WriteOptions:
        """Classes are never averaged."""
        from zoompick.raster.write import WriteOptions

        return WriteOptions(is_class=[band.name for band in raster.bands] == [CLASS_BAND])


def of_day(wanted: Wanted, day: Day) -> Iterator[Step]:
    """The bands of the brief, of all scenes of the day."""
    yield StackStep(day.inputs, day.folder / "stack.tif", wanted.brief.bands, wanted.grid)


KIND = Kind("stack", of_day)
