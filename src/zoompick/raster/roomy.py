"""A raster in which every value counts, in a type that has one more for what is missing."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.arrays import Pixels, PixelType
from zoompick.later import np
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Derived, Raster, put_on, with_room


def roomy(raster: Raster) -> Raster:
    """A raster that can tell missing pixels: itself where it does, else in a wider type, which its notes tell."""
    return raster if raster.nodata is not None else Roomy(raster)


class Roomy(Derived):
    """A raster without a no-data value, with one that its own values cannot be. Two of one source are equal."""

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and isinstance(other, Roomy) and self.source == other.source

    def __hash__(self) -> int:
        return hash((type(self).__name__, self.source))

    @property
    def dtype(self) -> PixelType:
        """Wide enough."""
        return with_room(self.source.dtype)[0]

    @property
    def nodata(self) -> float | None:
        """A value that the source cannot have."""
        return with_room(self.source.dtype)[1]

    @property
    def levels(self) -> tuple[Grid, ...]:
        """The source's."""
        return self.source.levels

    @property
    def notes(self) -> tuple[str, ...]:
        """In what type it is read, where that is another."""
        own = f"Every value of {', '.join(band.name for band in self.bands[:3])} counts: it is read as {self.dtype}, "
        told = (f"{own}which has room for what is missing.",) if self.dtype != self.source.dtype else ()
        return (*super().notes, *told)

    def put_on(self, grid: Grid, way: str = "bilinear") -> Raster | None:
        """See :func:`zoompick.raster.raster.put_on`."""
        return put_on(self.source, grid, way)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """The source's pixels; no-data outside."""
        pixels = self.source.read(window, bands, level).astype(self.dtype)
        inside = window.intersect(self.source.levels[level].window)
        if inside != window:
            outside = np.ones(pixels.shape[1:], bool)
            outside[inside.slices_in(window)] = inside.is_empty
            pixels[:, outside] = self.nodata
        return pixels
