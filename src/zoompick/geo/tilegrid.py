"""Grids of picture tiles: levels, which tiles lie under an area, and how large a pixel is on the ground.

Source: OGC 17-083r4 (Two Dimensional Tile Matrix Set), sections 6 and 7 and annex D.1 (WebMercatorQuad).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

from zoompick.errors import UsageError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, bounds_of, project
from zoompick.later import np, shapely

MERCATOR = Crs(3857)
HALF_WORLD_M = 20_037_508.342789244
SCREEN_PIXEL_M = 0.00028
"""Side of a pixel on the screen that scale denominators assume (OGC 17-083r4, section 6.1.1)."""
METRES_PER_DEGREE = 111_319.49079327358
"""Of the equator of WGS 84: what scale denominators assume for systems in degrees (the same place)."""
_WORLD_LAT = 85.0511287798066
MOST_ZOOM = 24


@dataclass(frozen=True, slots=True, order=True)
class TileKey:
    """A tile of a level: row from the top, column from the left, both from 0."""

    row: int
    col: int


@dataclass(frozen=True, slots=True)
class Matrix:
    """One level of a tile grid.

    Attributes
    ----------
    pixel : float
        Side of a pixel in CRS units.
    west, north : float
        Outer corner of the tile in row 0, column 0.
    tile_width, tile_height : int
        Pixels of a tile.
    cols, rows : int
        Tiles across and down.
    limits : tuple of int
        First and last column, first and last row that a service has; empty for all.
    """

    name: str
    pixel: float
    west: float
    north: float
    tile_width: int
    tile_height: int
    cols: int
    rows: int
    limits: tuple[int, ...] = ()

    def bounds_of(self, key: TileKey) -> Bounds:
        """Outer edges of a tile in CRS units."""
        west = self.west + key.col * self.tile_width * self.pixel
        north = self.north - key.row * self.tile_height * self.pixel
        return Bounds(west, north - self.tile_height * self.pixel, west + self.tile_width * self.pixel, north)

    def _range(self, box: Bounds) -> tuple[range, range]:
        """Columns and rows under a box, inside the level and the service's limits."""
        side_x, side_y = self.tile_width * self.pixel, self.tile_height * self.pixel
        first_col, last_col, first_row, last_row = self.limits or (0, self.cols - 1, 0, self.rows - 1)
        cols = range(
            max(first_col, math.floor((box.west - self.west) / side_x)),
            min(last_col, math.ceil((box.east - self.west) / side_x) - 1) + 1,
        )
        rows = range(
            max(first_row, math.floor((self.north - box.north) / side_y)),
            min(last_row, math.ceil((self.north - box.south) / side_y) - 1) + 1,
        )
        return cols, rows

    def under(self, shape: Shape) -> list[TileKey]:
        """Tiles that a polygon in the grid's CRS touches, row by row."""
        blocks = self._blocks(shape)
        return sorted(TileKey(row, col) for rows, cols in blocks for row in rows for col in cols)

    def count(self, shape: Shape) -> int:
        """How many tiles a polygon in the grid's CRS touches; they are not listed for it."""
        return sum(len(rows) * len(cols) for rows, cols in self._blocks(shape))

    def _blocks(self, shape: Shape) -> list[tuple[range, range]]:
        """Blocks of tiles, rows and columns, that a polygon touches: large ones inside, single ones at its edge.

        A block that the polygon neither covers nor misses is cut into four, so that the work grows with the edge.
        """
        cols, rows = self._range(bounds_of(shape))
        if not cols or not rows:
            return []
        shapely.prepare(shape)
        found, open_ = [], [(rows, cols)]
        while open_:
            boxes = shapely.box(*np.array([self._edges(*block) for block in open_]).T)
            touched = shapely.intersects(shape, boxes)
            covered = shapely.covers(shape, boxes)
            following = []
            for block, is_touched, is_covered in zip(open_, touched, covered, strict=True):
                if is_covered or (is_touched and len(block[0]) == len(block[1]) == 1):
                    found.append(block)
                elif is_touched:
                    following += [(down, across) for down in _halves(block[0]) for across in _halves(block[1])]
            open_ = following
        return found

    def _edges(self, rows: range, cols: range) -> tuple[float, float, float, float]:
        first, last = self.bounds_of(TileKey(rows[0], cols[0])), self.bounds_of(TileKey(rows[-1], cols[-1]))
        return first.west, last.south, last.east, first.north


@dataclass(frozen=True)
class TileGrid:
    """A tile matrix set: levels from coarse to fine in one CRS."""

    name: str
    crs: Crs
    matrices: tuple[Matrix, ...] = field(repr=False)

    def level(self, name: str) -> Matrix:
        """A level by its name.

        Raises
        ------
        UsageError
        """
        alike = [
            one for one in self.matrices if name.isdecimal() and one.name.isdecimal() and int(one.name) == int(name)
        ]
        # A level called 06 is meant by 6, too.
        found = next(
            (matrix for matrix in self.matrices if matrix.name == name), alike[0] if len(alike) == 1 else None
        )
        if found is None:
            raise UsageError(
                f"There is no zoom level {name}.",
                f"There is {self.matrices[0].name} to {self.matrices[-1].name}, coarse to fine.",
            )
        return found

    def ground_m(self, matrix: Matrix, lat: float) -> float:
        """Side of a pixel on the ground in metres, north to south, at a latitude in degrees.

        Web mercator enlarges by 1 / cos(latitude) (J. P. Snyder, Map projections: a working manual, 1987, section 7).
        """
        if self.crs.is_geographic:
            return matrix.pixel * METRES_PER_DEGREE
        metres = matrix.pixel * self.crs.metres_per_unit
        return metres * math.cos(math.radians(lat)) if self.crs == MERCATOR else metres

    def level_for(self, pixel_m: float, lat: float) -> Matrix:
        """The coarsest level whose pixels on the ground are no larger than asked for; the finest when none is."""
        slack = 1.0001
        fine = [matrix for matrix in self.matrices if self.ground_m(matrix, lat) <= pixel_m * slack]
        return fine[0] if fine else self.matrices[-1]

    def under(self, area: Shape, matrix: Matrix) -> list[TileKey]:
        """Tiles of a level that an area in longitude/latitude touches."""
        shape = self._projected(area)
        return [] if shape is None else matrix.under(shape)

    def count(self, area: Shape, matrix: Matrix) -> int:
        """How many tiles of a level an area in longitude/latitude touches."""
        shape = self._projected(area)
        return 0 if shape is None else matrix.count(shape)

    def _projected(self, area: Shape) -> Shape | None:
        """An area in the grid's CRS; None where the grid has no place for it."""
        if self.crs == MERCATOR:
            area = area.intersection(shapely.box(-180, -_WORLD_LAT, 180, _WORLD_LAT))
        return None if area.is_empty else project(shapely.segmentize(area, 0.25), self.crs)


def _halves(numbers: range) -> list[range]:
    middle = len(numbers) // 2
    return [numbers[:middle], numbers[middle:]] if middle else [numbers]


def sorted_grid(name: str, crs: Crs, matrices: Sequence[Matrix]) -> TileGrid:
    """A tile grid of levels in any order."""
    return TileGrid(name, crs, tuple(sorted(matrices, key=lambda matrix: -matrix.pixel)))


def web_mercator(first: int = 0, last: int = MOST_ZOOM, side_px: int = 256) -> TileGrid:
    """The grid that most services use: level 0 is the world in one tile, each further one halves the pixels."""
    matrices = [
        Matrix(str(zoom), 2 * HALF_WORLD_M / side_px / 2**zoom, -HALF_WORLD_M, HALF_WORLD_M, side_px, side_px,
               2**zoom, 2**zoom)
        for zoom in range(first, last + 1)
    ]  # fmt: skip
    return TileGrid("WebMercatorQuad", MERCATOR, tuple(matrices))
