"""Images that do not lie north up, as rasters that do: mirrored ones pixel by pixel, turned ones resampled.

Mirrored, south up, or turned by quarters, every pixel stays what it is. Turned by another angle, an image is carried
onto a grid of the same reference system whose pixels are as fine; where it is laid on another grid afterwards it goes
there at once, out of its own pixels.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opened import Opened
from zoompick.raster.placement import Affine, Placement
from zoompick.raster.raster import Derived, Raster
from zoompick.raster.roomy import Roomy
from zoompick.raster.warp import Warped
from zoompick.raster.ways import CLASS


def upright(opened: Raster) -> Raster:
    """A raster out of a file, north up whatever the file."""
    turn: Placement | None = getattr(opened, "turn", None)
    if turn is None:
        return opened
    if isinstance(turn, Affine) and turn.is_upright:
        return Mirrored(opened, turn)
    name = Path(opened.source.address).name if isinstance(opened, Opened) else "The image"
    return Turned(opened, turn, name)


class _OfImage(Derived):
    """Two are equal when they show the same image: its file tells how it is turned."""

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and isinstance(other, _OfImage) and self.source == other.source

    def __hash__(self) -> int:
        return hash((type(self).__name__, self.source))


class Mirrored(_OfImage):
    """An image whose rows and columns run along the axes, in any of the seven ways that are not north up."""

    def __init__(self, source: Raster, turn: Affine) -> None:
        super().__init__(source)
        self._turn = turn

    @property
    def grid(self) -> Grid:
        """Its own pixels, put in order."""
        return self.levels[0]

    @property
    def levels(self) -> tuple[Grid, ...]:
        """The file's overviews, put in order."""
        return tuple(self._put(level) for level in self.source.levels)

    @property
    def block(self) -> tuple[int, int]:
        """The file's block."""
        rows, cols = self.source.block
        return (cols, rows) if self._turn.is_crosswise else (rows, cols)

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        turn, lattice = self._turn, self.source.levels[level]
        col, row, width, height = window.col, window.row, window.width, window.height
        if turn.is_crosswise:
            col, row, width, height = row, col, height, width
            runs_back, runs_up = turn.d > 0, turn.b < 0
        else:
            runs_back, runs_up = turn.a < 0, turn.e > 0
        col = lattice.width - col - width if runs_back else col
        row = lattice.height - row - height if runs_up else row
        pixels = self.source.read(Window(col, row, width, height), bands, level)
        pixels = pixels[:, :: -1 if runs_up else 1, :: -1 if runs_back else 1]
        return np.ascontiguousarray(pixels.transpose(0, 2, 1) if turn.is_crosswise else pixels)

    def _put(self, level: Grid) -> Grid:
        turn, full = self._turn, self.source.grid
        box = turn.bounds((level.west, level.west + level.width * level.pixel_x),
                          (-level.north, -level.north + level.height * level.pixel_y))  # fmt: skip
        across, down, width, height = (turn.a, turn.e, level.width, level.height)
        pixel_x, pixel_y = level.pixel_x, level.pixel_y
        if turn.is_crosswise:
            across, down, width, height = turn.b, turn.d, height, width
            pixel_x, pixel_y = pixel_y, pixel_x
        return Grid(full.crs, abs(across) * pixel_x, abs(down) * pixel_y, box.west, box.north, width, height)


class Turned(_OfImage):
    """An image turned by some angle, or of uneven steps, on a north-up grid around it; corners, gaps are no-data."""

    def __init__(self, source: Raster, turn: Placement, name: str) -> None:
        super().__init__(source if source.nodata is not None else Roomy(source))
        self._turn = turn
        self._name = name
        self._grid = turn.grid(self.source.grid)

    @property
    def grid(self) -> Grid:
        """North up, pixels as fine as the image's."""
        return self._grid

    @property
    def levels(self) -> tuple[Grid, ...]:
        """As fine as the file's overviews."""
        return tuple(self._grid.reduced(max(1, round(level.pixel_x))) for level in self.source.levels)

    @property
    def notes(self) -> tuple[str, ...]:
        """By how much it was turned, or that its steps are not even."""
        return (*super().notes, f"{self._turn.told(self._name)}.")

    def read(self, window: Window, bands: Sequence[int] | None = None, level: int = 0) -> Pixels:
        """Pixels of a window; see :meth:`zoompick.raster.raster.Raster.read`."""
        way = CLASS if all(band.is_class for band in self.bands) else "bilinear"
        return self.put_on(self.levels[level], way).read(window, bands)

    def put_on(self, grid: Grid, way: str = "bilinear") -> Raster:
        """See :func:`zoompick.raster.raster.put_on`: out of the image's own pixels."""
        return _FromTurned(self.source, grid, way, self._turn, self.notes)


class _FromTurned(Warped):
    """A turned image seen on a grid of any reference system."""

    def __init__(self, source: Raster, grid: Grid, way: str, turn: Placement, notes: tuple[str, ...]) -> None:
        self._turn = turn
        self._step_px = turn.step_px
        self._notes = notes
        super().__init__(source, grid, way)

    @property
    def notes(self) -> tuple[str, ...]:
        """Those of the image."""
        return self._notes

    def _in_lattice(self, x: Pixels, y: Pixels, lattice: Grid) -> tuple[Pixels, Pixels]:
        cols, rows = self._turn.inverse(x, y)
        return (cols - lattice.west) / lattice.pixel_x - 0.5, (rows + lattice.north) / lattice.pixel_y - 0.5
