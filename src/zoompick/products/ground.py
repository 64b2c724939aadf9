"""Which pixels tell how bright a picture should be: inside an area, and not under cloud or its shadow."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

from zoompick.arrays import Mask
from zoompick.later import np
from zoompick.products.observations import HIDDEN, Clear, classes_of
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.deliveries import open_layers


class Where(Protocol):
    """What tells, window by window, which pixels count."""

    def read(self, window: Window) -> Mask:
        """Boolean array (rows, cols)."""

    def clearly_holds(self, window: Window) -> bool:
        """True when every pixel counts, told without looking at each."""


class ClearGround:
    """Pixels inside an area that no class layer calls cloud or shadow.

    Parameters
    ----------
    area : PolygonMask or None
        None for all of the grid.
    """

    def __init__(self, area: PolygonMask | None, layers: Sequence[Clear]) -> None:
        self._area, self._layers = area, tuple(layers)

    def read(self, window: Window) -> Mask:
        """See :class:`Where`."""
        found = np.ones((window.height, window.width), bool) if self._area is None else self._area.read(window)
        for layer in self._layers:
            found &= layer.read(window)
        return found

    def clearly_holds(self, window: Window) -> bool:
        """See :class:`Where`."""
        return not self._layers and (self._area is None or self._area.clearly_holds(window))


def clear_ground(area: PolygonMask | None, classes: Sequence[Path], grid: Grid) -> ClearGround | None:
    """The clear ground by class layers that are here; None where none is or none tells."""
    found = []
    for layer in open_layers([path for path in classes if path.is_file()]):
        table = classes_of(layer)
        if table is not None:
            found.append(Clear(resampled_to(layer.raster, grid, "class"), table, HIDDEN))
    return ClearGround(area, found) if found else None
