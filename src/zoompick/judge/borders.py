"""Where parts of a product meet: by its scene layer, by the files or footprints of its scenes, by lines of tiles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar, Protocol

from zoompick.arrays import Pixels
from zoompick.geo.shapes import bounds_of, outline_of, project
from zoompick.judge.subject import Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.raster.ways import Ways

_BOX_STEPS = 32


class Borders(Protocol):
    """Parts of a product by number from 1, 0 for none, wherever a window looks.

    Attributes
    ----------
    by : str
        What tells them, for people.
    slack_px : int
        So far from where they are told the parts may meet.
    """

    by: ClassVar[str]

    @property
    def slack_px(self) -> int:
        """See above."""

    def read(self, window: Window) -> Pixels:
        """Numbers of the parts, shape (rows, cols)."""

    def name(self, number: int) -> str:
        """What a part is called."""


@dataclass(frozen=True)
class _Named:
    """Parts that have names."""

    names: Sequence[str]

    def name(self, number: int) -> str:
        return self.names[number - 1] if number <= len(self.names) else f"scene {number}"


@dataclass(frozen=True)
class ByLayer(_Named):
    """The scene that each pixel is of, as a layer tells it."""

    layer: Raster
    by: ClassVar[str] = "its scene layer"
    slack_px: ClassVar[int] = 0

    def read(self, window: Window) -> Pixels:
        return np.asarray(self.layer.read(window)[0].astype(np.int64))


@dataclass(frozen=True)
class ByFiles(_Named):
    """The first of some files, on the product's grid, that has a pixel there."""

    files: Sequence[Raster]
    boxes: Sequence[Window]
    slack_px: int
    by: ClassVar[str] = "the edges of its files"

    def read(self, window: Window) -> Pixels:
        found = np.zeros((window.height, window.width), np.int64)
        near = [number for number, box in enumerate(self.boxes) if not window.intersect(box).is_empty]
        if len(near) == 1:
            # Nothing to meet: where that has no pixel the product has none.
            return found + near[0] + 1
        for number in near:
            there = valid_mask(self.files[number].read(window, (0,)), self.files[number].nodata)[0]
            found[(found == 0) & there] = number + 1
        return found


@dataclass(frozen=True)
class ByFootprints(_Named):
    """The first of some footprints that a pixel lies in."""

    masks: Sequence[PolygonMask]
    by: ClassVar[str] = "footprints"
    slack_px: ClassVar[int] = 3

    def read(self, window: Window) -> Pixels:
        found = np.zeros((window.height, window.width), np.int64)
        for number, mask in enumerate(self.masks, 1):
            found[(found == 0) & mask.read(window)] = number
        return found


@dataclass(frozen=True)
class ByTiles:
    """Tiles of one size, the corner of one of them at a column and row."""

    width: int
    height: int
    col: int
    row: int
    by: ClassVar[str] = "the lines of its tiles"
    slack_px: ClassVar[int] = 0

    def read(self, window: Window) -> Pixels:
        rows = (np.arange(window.row, window.stop_row) - self.row) // self.height
        cols = (np.arange(window.col, window.stop_col) - self.col) // self.width
        return np.asarray((rows[:, None] + 1) * _ACROSS + cols[None] + 1)

    def name(self, number: int) -> str:
        row, col = divmod(number, _ACROSS)
        return f"the tiles in row {row}, column {col}"


_ACROSS = 1 << 20


def borders_of(subject: Subject) -> Borders | None:
    """What tells where parts of a product meet; None where nothing does."""
    layer, tiles = subject.scene_layer, subject.options.get("tiles_px")
    if layer is not None:
        same = layer.grid.bounds == subject.raster.grid.bounds
        return ByLayer(tuple(scene.id for scene in subject.scenes), layer) if same else None
    if isinstance(tiles, list) and len(tiles) == 4 and all(type(one) is int for one in tiles) and min(tiles[:2]) > 0:
        return ByTiles(*tiles)
    if subject.traits.judged not in ("scenes", "mosaic"):
        return None
    return (_files(subject) if subject.layers else None) or _footprints(subject)


def _files(subject: Subject) -> Borders | None:
    """Files of the first band of a stack; None where it is of one, or where one is not here."""
    first, grid = next((layer.band for layer in subject.layers), ""), subject.raster.grid
    ways = Ways.parse(str(subject.options.get("kernel", "")))
    names, files, boxes, slack_px = [], [], [], 0
    for layer in subject.layers:
        raster = layer.opened() if layer.band == first else None
        if raster is None:
            if layer.band == first:
                return None
            continue
        bounds, crs = raster.grid.bounds, raster.grid.crs
        if crs != grid.crs:
            step = max(bounds.east - bounds.west, bounds.north - bounds.south) / _BOX_STEPS
            bounds = bounds_of(project(outline_of(bounds, crs, step), grid.crs))
        box = grid.window_of(bounds)
        if not box.is_empty:
            names.append(layer.path.stem.removesuffix(f"-{first}"))
            files.append(resampled_to(raster, grid, ways.of(first, False)))
            boxes.append(box)
            slack_px = slack_px if raster.grid.shares_lattice(grid) else 1
    return ByFiles(names, files, boxes, slack_px) if len(files) > 1 else None


def _footprints(subject: Subject) -> Borders | None:
    """Footprints of a mosaic without its scene layer."""
    known = [(scene.id, scene.footprint) for scene in subject.scenes if scene.footprint is not None]
    masks = [PolygonMask(project(shape, subject.raster.grid.crs), subject.raster.grid) for _, shape in known]
    return ByFootprints([name for name, _ in known], masks) if len(masks) > 1 else None
