"""How the landscape is laid out: relief, coast, river, lake, fen, fields, woods, villages, roads.

Positions are in kilometres from the world's centre, x eastwards, y northwards.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import scipy.ndimage

from zoompick.standin.covers import Cover
from zoompick.standin.noise import Field, enlarged, fractal, hashed, smoothstep

_RIVER = (
    (4.6, 3.6),
    (2.6, 2.4),
    (1.4, 0.6),
    (-0.6, -0.2),
    (-2.2, -1.5),
    (-4.2, -2.0),
    (-6.6, -3.7),
    (-10.2, -4.9),
)
_FEN_CENTRE, _FEN_HALF, _FEN_TURN = (-6.6, -0.6), (2.5, 1.75), 0.30
_BED_KM, _BEND_KM, _BLOCK_PX = 0.45, 0.06, 16
_LAKE_CENTRE, _LAKE_KM = (6.3, 0.4), 1.05
_VILLAGES = (((-3.1, 1.25), 0.62, 0.25), ((3.0, -3.55), 0.78, -0.4))
_ROADS = (
    (
        (-9.6, 2.3),
        (-7.4, 1.9),
        (-5.2, 1.6),
        (-3.1, 1.25),
        (-1.2, 1.3),
        (0.6, -1.1),
        (1.9, -2.6),
        (3.0, -3.55),
    ),
    ((3.0, -3.55), (5.2, -3.2), (7.6, -2.4), (9.8, -1.9)),
    ((-3.1, 1.25), (-2.6, -0.2), (-3.0, -2.6), (-2.2, -4.6), (0.4, -4.9), (3.0, -3.55)),
    ((-3.1, 1.25), (-2.0, 3.2), (-0.4, 4.9)),
    ((-5.2, 1.6), (-5.9, 0.4), (-7.1, -1.1), (-7.9, -2.5)),
)

Part = tuple[slice, slice]


@dataclass
class Land:
    """Layers under construction; see :class:`zoompick.standin.world.Layers`."""

    x: Field
    y: Field
    pixel_km: float
    shore: Field
    elevation: Field
    slope: Field
    texture: Field
    patch: Field
    lure: Field
    cover: Any
    plot: Any
    depth: Field
    silt: Field
    wet: Field

    def around(self, centre: tuple[float, float], radius: float) -> tuple[Part, Any, Any]:
        """Slices of a square part of the world, and its coordinates."""
        cols = np.nonzero(np.abs(self.x[0] - centre[0]) < radius)[0]
        rows = np.nonzero(np.abs(self.y[:, 0] - centre[1]) < radius)[0]
        part = slice(rows[0], rows[-1] + 1), slice(cols[0], cols[-1] + 1)
        return part, self.x[:, part[1]], self.y[part[0]]


def make(shape: tuple[int, int], pixel_m: float, seed: int) -> Land:
    """Build all layers; the same seed gives the same world.

    What varies smoothly is computed at half the resolution and enlarged; fields that need no other come meanwhile.
    """
    half = shape[0] // 2, shape[1] // 2
    with ThreadPoolExecutor(1) as aside:
        texture = aside.submit(fractal, shape, 0.9, seed + 1, pixel_m, longest=400)
        patch = aside.submit(fractal, half, 3.3, seed + 2, pixel_m * 2, longest=2600)
        stands = aside.submit(fractal, half, 2.9, seed + 9, pixel_m * 2, longest=2600)
        return _land(shape, pixel_m, seed, _Noise(texture.result, patch.result, stands.result))


class _Noise(NamedTuple):
    """Fields that are asked for when they are needed."""

    texture: Callable[[], Field]
    patch: Callable[[], Field]
    stands: Callable[[], Field]


def _land(shape: tuple[int, int], pixel_m: float, seed: int, noise: _Noise) -> Land:
    half = shape[0] // 2, shape[1] // 2
    x, y = _axes(half, 2 * pixel_m)
    shore = _shore(half, x, y, pixel_m * 2, seed)
    relief = _relief(half, x, y, shore, pixel_m * 2, seed)
    elevation = enlarged(relief, 2)
    down, across = np.gradient(relief, 2 * pixel_m)
    slope = np.hypot(down, across)
    lure = noise.stands() + 1.1 * smoothstep(slope, 0.10, 0.28) - 1.6 * smoothstep(relief, 190, 300)
    texture = noise.texture()
    x, y = _axes(shape, pixel_m)
    shore, slope, patch, lure = (enlarged(field, 2) for field in (shore, slope, noise.patch(), lure))
    blank = np.zeros(shape, np.float32)
    land = Land(x, y, pixel_m / 1000, shore, elevation, slope, texture, patch, lure,
                np.full(shape, Cover.SEA, np.uint8), np.zeros(shape, np.uint16),
                blank, blank.copy(), np.full(shape, -9, np.float32))  # fmt: skip
    _wild(land)
    _farms(land, seed)
    _woods(land, seed)
    _fen(land, seed)
    _villages(land, seed)
    _roads(land)
    _lake(land)
    _river(land, seed)
    _sea(land, pixel_m, seed)
    return land


def _axes(shape: tuple[int, int], pixel_m: float) -> tuple[Field, Field]:
    rows, cols = shape
    km = pixel_m / 1000
    x = ((np.arange(cols, dtype=np.float32) + 0.5 - cols / 2) * km)[None, :]
    y = ((rows / 2 - np.arange(rows, dtype=np.float32) - 0.5) * km)[:, None]
    return x, y


def _bump(x: Any, y: Any, centre: tuple[float, float], radius: tuple[float, float], turn: float = 0.0) -> Any:
    u, v = _turned(x, y, centre, turn)
    return np.exp(-((u / radius[0]) ** 2) - (v / radius[1]) ** 2)


def _turned(x: Any, y: Any, centre: tuple[float, float], turn: float) -> tuple[Any, Any]:
    dx, dy = x - np.float32(centre[0]), y - np.float32(centre[1])
    cos, sin = np.float32(np.cos(turn)), np.float32(np.sin(turn))
    return dx * cos + dy * sin, dy * cos - dx * sin


def _shore(shape: tuple[int, int], x: Field, y: Field, pixel_m: float, seed: int) -> Field:
    """Positive on land, negative at sea; zero is the coast."""
    warp = fractal(shape, 3.5, seed + 3, pixel_m, longest=7000)
    fine = fractal(shape, 2.7, seed + 4, pixel_m, longest=700)
    body = 1 - np.sqrt(((x + 0.2) / 12.0) ** 2 + ((y + 0.1 * x) / 7.2) ** 2) ** 1.6
    body = np.maximum(body, 0.80 * _bump(x, y, (11.6, -7.0), (2.4, 1.5), 0.5) - 0.36)
    body = np.maximum(body, 0.8 * _bump(x, y, (-12.2, 6.2), (1.9, 1.1), -0.6) - 0.36)
    body -= 0.60 * _bump(x, y, (8.6, 5.6), (1.3, 2.6), 0.2) + 0.50 * _bump(x, y, (0.4, -7.6), (1.3, 1.7))
    calm = 1 - 0.6 * _bump(x, y, (-8.0, -1.5), (3.5, 3.5))
    land = body + calm * (0.17 * warp + 0.008 * fine)
    # Out at sea only the outer islands rise.
    return np.asarray(land - 0.5 * smoothstep(-body, 0.12, 0.4), np.float32)


def _relief(shape: tuple[int, int], x: Field, y: Field, shore: Field, pixel_m: float, seed: int) -> Field:
    """Metres above the sea: ridges in the north-east, plains in the west and south."""
    first = fractal(shape, 3.3, seed + 5, pixel_m, longest=5600)
    second = fractal(shape, 3.1, seed + 6, pixel_m, longest=2400)
    third = fractal(shape, 2.9, seed + 7, pixel_m, longest=800)
    crest = 1 - np.abs(first) * 0.85
    ridges = crest + 0.38 * (1 - np.abs(second)) * smoothstep(crest, 0, 0.9)
    mountain = _bump(x, y, (3.6, 2.8), (5.2, 3.2), 0.2) + 0.5 * _bump(x, y, (7.5, -0.8), (3.2, 2.2))
    plain = smoothstep(shore, 0.0, 0.5)
    height = plain * (
        mountain * (190 + 330 * ridges + 22 * third) + (1 - 0.5 * mountain) * (30 + 14 * second + 11 * first)
    )
    fen_u, fen_v = _turned(x, y, _FEN_CENTRE, _FEN_TURN)
    flat = smoothstep(np.maximum(np.abs(fen_u) / _FEN_HALF[0], np.abs(fen_v) / _FEN_HALF[1]), 1.02, 1.5)
    low = 1.2 + 0.5 * smoothstep(shore, 0, 0.2)
    height = np.maximum(height, 0.8 + 9 * smoothstep(shore, 0, 0.1)) * flat + (1 - flat) * low
    return np.where(shore > 0, height + 0.5 * third * flat, 0).astype(np.float32)


def _wild(land: Land) -> None:
    """Grass, heath, upland and rock by height and slope."""
    height = land.elevation + 30 * land.patch + 5 * land.texture
    land.cover[...] = Cover.PASTURE
    land.cover[height > 175] = Cover.HEATH
    land.cover[height > 330] = Cover.UPLAND
    steep = land.slope + 0.03 * land.texture + 0.08 * land.patch
    land.cover[(steep > 1.0) & (land.elevation > 120)] = Cover.ROCK
    land.cover[(height > 560) & (steep > 0.6)] = Cover.ROCK


def _farms(land: Land, seed: int) -> None:
    """Districts of parallel fields; widths, lengths and directions differ from one district to the next."""
    farmed = (
        (land.elevation < 128 + 20 * land.patch) & (land.slope < 0.25) & (land.elevation > 2.2) & (land.shore > 0)
    )
    rows, cols = np.nonzero(farmed)
    x, y = land.x[0, cols], land.y[rows, 0]
    rng = np.random.default_rng(seed + 8)
    seeds = rng.uniform((-13, -9), (13, 9), (110, 2))
    district = _nearest(land, seeds, rows, cols)
    turn = (rng.normal(0.35, 0.5, len(seeds)))[district]
    wide = rng.uniform(0.10, 0.26, len(seeds))[district]
    long = rng.uniform(0.22, 0.62, len(seeds))[district]
    u, v = x * np.cos(turn) + y * np.sin(turn), y * np.cos(turn) - x * np.sin(turn)
    strip = np.floor(u / wide)
    shift = hashed(district, strip) / 65535.0
    part = v / (long * (0.6 + 0.8 * hashed(strip, district, 7) / 65535.0)) + shift
    block = np.floor(part)
    plot = hashed(district, strip, block)
    near = (0.5 - np.abs(u / wide - strip - 0.5)) * wide < 0.0062
    near |= (0.5 - np.abs(part - block - 0.5)) * long < 0.0062
    cover = np.where(plot % 100 < 34, Cover.PASTURE, Cover.FIELD)
    cover = np.where(near & (hashed(district, strip, 3) % 100 < 72), Cover.HEDGE, cover)
    land.cover[rows, cols] = cover
    land.plot[rows, cols] = plot


def _nearest(land: Land, seeds: Any, rows: Any, cols: Any) -> Any:
    """The nearest seed of each pixel, bent a little by the patches.

    Where every pixel of a block is nearer to one seed than to any other, by the block's size and bend, none is asked.
    """
    tree = _tree(seeds)
    high, wide = (side // _BLOCK_PX for side in land.patch.shape)
    blocks = land.patch[: high * _BLOCK_PX, : wide * _BLOCK_PX].reshape(high, _BLOCK_PX, wide, _BLOCK_PX)
    least, most = blocks.min(axis=(1, 3)), blocks.max(axis=(1, 3))
    x, y = (axis[_BLOCK_PX // 2 :: _BLOCK_PX] for axis in (land.x[0], land.y[:, 0]))
    bend = _BEND_KM * (least + most) / 2
    distance, found = tree.query(np.dstack([x[:wide] + bend, y[:high, None] - bend]), k=2)
    reach = np.sqrt(0.5) * (_BLOCK_PX * land.pixel_km + _BEND_KM * (most - least))
    sure = distance[..., 1] - distance[..., 0] > 2 * reach
    place = np.minimum(rows // _BLOCK_PX, high - 1), np.minimum(cols // _BLOCK_PX, wide - 1)
    district, open_ = found[..., 0][place], np.flatnonzero(~sure[place])
    rows, cols = rows[open_], cols[open_]
    bend = _BEND_KM * land.patch[rows, cols]
    district[open_] = tree.query(np.column_stack([land.x[0, cols] + bend, land.y[rows, 0] - bend]), workers=-1)[1]
    return district


def _woods(land: Land, seed: int) -> None:
    small = land.cover.shape[0] // 8, land.cover.shape[1] // 8
    kinds = enlarged(fractal(small, 3.3, seed + 10, land.pixel_km * 8000, longest=5000), 8)
    # Farmland keeps whole plots: copses end where a field ends.
    plots = (land.cover == Cover.FIELD) | (land.cover == Cover.HEDGE)
    wood = (land.lure + 0.06 * land.texture > 1.15) & (land.elevation > 6) & ~(plots & (land.lure < 2.6))
    wood |= plots & (land.plot % 37 == 5) & (land.lure > -0.3) & (land.cover == Cover.FIELD)
    land.cover[wood] = np.where(kinds[wood] > 0.15, Cover.CONIFER, Cover.BROADLEAF)


def _fen(land: Land, seed: int) -> None:
    """A drained peat fen: a lattice of ditches, peat meadows between, a main drain to the sluice."""
    part, x, y = land.around(_FEN_CENTRE, 3.4)
    u, v = _turned(x, y, _FEN_CENTRE, _FEN_TURN)
    patch, texture = land.patch[part], land.texture[part]
    rim = np.maximum(np.abs(u) / _FEN_HALF[0], np.abs(v) / _FEN_HALF[1])
    shape = (rim + 0.035 * patch < 1) & (land.elevation[part] > 0)
    long, wide = np.float32(0.64), np.float32(0.128)
    strip, block = np.floor(v / wide), np.floor(u / long)
    plot = hashed(strip, block, seed)
    ditch = (np.abs(v / wide - np.round(v / wide)) * wide < 0.0045) & (np.round(v / wide) % 2 == 0)
    ditch |= np.abs(u / long - np.round(u / long)) * long < 0.0065
    ditch |= (np.abs(v + 0.06) < 0.014) | (np.abs(u + 2.05) < 0.012)
    mosaic = plot / np.float32(65535.0) * 1.5 - 0.75
    low = 0.6 * mosaic + 0.42 * patch - 1.1 * np.abs(u + 0.9) / _FEN_HALF[0] - 0.5 * np.abs(v) / _FEN_HALF[1]
    land.wet[part][shape] = (low + 0.08 * texture)[shape]
    land.cover[part][shape] = np.where(ditch, Cover.DITCH, Cover.FEN)[shape]
    land.plot[part][shape] = plot[shape]


def _villages(land: Land, seed: int) -> None:
    for number, (centre, radius, turn) in enumerate(_VILLAGES):
        part, x, y = land.around(centre, 1.6 * radius)
        u, v = _turned(x, y, centre, turn)
        distance = np.hypot(u, 1.25 * v) / radius + 0.12 * land.patch[part]
        built = distance < 1
        street = (np.abs(u / 0.112 - np.round(u / 0.112)) * 0.112 < 0.0048) | (
            np.abs(v / 0.080 - np.round(v / 0.080)) * 0.080 < 0.0048
        )
        cell = hashed(np.floor(u / 0.0187), np.floor(v / 0.020), seed + number)
        house = cell / 65535.0 < 0.74 - 0.66 * distance
        cover = np.where(street, Cover.ROAD, np.where(house, Cover.ROOF, Cover.GARDEN))
        land.cover[part][built] = cover[built]
        land.plot[part][built] = cell[built]


def _roads(land: Land) -> None:
    for way in _ROADS:
        points = _curve(way, 0.003)
        row = ((land.y[0, 0] - points[:, 1]) / land.pixel_km).round().astype(int)
        col = ((points[:, 0] - land.x[0, 0]) / land.pixel_km).round().astype(int)
        dry = ~np.isin(land.cover[row, col], (Cover.ROOF,))
        land.cover[row[dry], col[dry]] = Cover.ROAD


def _curve(way: Any, step_km: float) -> Any:
    """Points along a smooth line through the given ones."""
    knots = np.asarray(way, float)
    length = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(knots, axis=0).T))])
    along = np.arange(0, length[-1], step_km)
    from scipy.interpolate import PchipInterpolator

    points = PchipInterpolator(length, knots)(along)
    sway = 0.05 * np.sin(along * 3.1) + 0.03 * np.sin(along * 7.7 + 1)
    ends = np.minimum(1, np.minimum(along, length[-1] - along) / 0.4)
    heading = np.gradient(points, axis=0)
    heading /= np.hypot(*heading.T)[:, None]
    return points + (sway * ends)[:, None] * np.column_stack([-heading[:, 1], heading[:, 0]])


def _lake(land: Land) -> None:
    part, x, y = land.around(_LAKE_CENTRE, 3.0)
    u, v = _turned(x, y, _LAKE_CENTRE, 0.7)
    rim = np.hypot(u / 1.35, v / 0.8) / _LAKE_KM + 0.13 * land.patch[part]
    cover, elevation = land.cover[part], land.elevation[part]
    cover[rim < 1.05] = Cover.GRAVEL
    cover[rim < 1] = Cover.LAKE
    level = float(np.median(elevation[rim < 1]))
    shelf = smoothstep(rim, 0.98, 1.6)
    elevation[...] = elevation * shelf + level * (1 - shelf)


def _river(land: Land, seed: int) -> None:
    """Threads that part and meet on a bed of gravel."""
    points = _curve(_RIVER, 0.01)
    points[:, 1] += 0.22 * np.sin(np.arange(len(points)) * 0.012) * np.minimum(1, np.arange(len(points)) / 150)
    west, east = points[:, 0].min() - 0.5, points[:, 0].max() + 0.5
    south, north = points[:, 1].min() - 0.5, points[:, 1].max() + 0.5
    cols = np.nonzero((land.x[0] > west) & (land.x[0] < east))[0]
    rows = np.nonzero((land.y[:, 0] > south) & (land.y[:, 0] < north))[0]
    window = slice(rows[0], rows[-1] + 1), slice(cols[0], cols[-1] + 1)
    x, y = np.meshgrid(land.x[0, window[1]], land.y[window[0], 0])
    tree = _tree(points)
    near = _about(tree, x, y).ravel()
    distance, place = tree.query(
        np.column_stack([x.ravel()[near], y.ravel()[near]]), distance_upper_bound=_BED_KM, workers=-1
    )
    is_there = np.isfinite(distance)
    near[near] = is_there
    distance, place = distance[is_there], place[is_there]
    heading = np.gradient(points, axis=0)[place]
    offset = np.column_stack([x.ravel()[near], y.ravel()[near]]) - points[place]
    side = np.sign(heading[:, 0] * offset[:, 1] - heading[:, 1] * offset[:, 0]) * distance
    patch = land.patch[window].ravel()[near]
    along = place * 0.01 + 0.02 * patch
    share = place / len(points)
    bed = (0.03 + 0.17 * smoothstep(share, 0.25, 0.7)) * (0.8 + 0.35 * np.sin(along * 2.3)) + 0.012 * patch
    water = np.zeros(len(place), bool)
    for number in range(4):
        rng = np.random.default_rng(seed + 40 + number)
        phase, length = rng.uniform(0, 6.3), rng.uniform(0.55, 1.3)
        thread = bed * 0.78 * np.sin(along / length * 6.28 + phase) * np.sin(along * 0.9 + phase * 2)
        width = 0.007 + 0.011 * rng.random() + 0.006 * np.sin(along * 4 + phase)
        water |= np.abs(side - thread) < width
    cover = land.cover[window].ravel()
    spot = np.nonzero(near)[0]
    bars = (np.abs(side) < bed) & (land.texture[window].ravel()[near] < 1.5)
    cover[spot[bars]] = Cover.GRAVEL
    cover[spot[water]] = Cover.RIVER
    land.cover[window] = cover.reshape(x.shape)


def _tree(points: Any) -> Any:
    from scipy.spatial import cKDTree  # with the world alone, not with the archive

    return cKDTree(points)


def _about(tree: Any, x: Field, y: Field) -> Any:
    """True in blocks of pixels that may hold a point within the river's bed: most need not be asked."""
    middle = _BLOCK_PX // 2
    distance, _ = tree.query(
        np.dstack([x[middle::_BLOCK_PX, middle::_BLOCK_PX], y[middle::_BLOCK_PX, middle::_BLOCK_PX]])
    )
    blocks = distance < _BED_KM + _BLOCK_PX * abs(x[0, 1] - x[0, 0])
    return np.pad(
        blocks.repeat(_BLOCK_PX, 0).repeat(_BLOCK_PX, 1), ((0, _BLOCK_PX),) * 2, constant_values=True
    )[: x.shape[0], : x.shape[1]]  # fmt: skip


def _sea(land: Land, pixel_m: float, seed: int) -> None:
    """Sea, beaches and salt marsh; how deep the water is and how much mud the river brings."""
    at_sea = land.shore <= 0
    quarter = (slice(2, None, 4),) * 2
    km = 4 * land.pixel_km
    from_land = scipy.ndimage.distance_transform_edt(at_sea[quarter]).astype(np.float32) * km
    from_sea = enlarged(scipy.ndimage.distance_transform_edt(~at_sea[quarter]).astype(np.float32) * km, 4)
    swell = fractal(from_land.shape, 3.0, seed + 11, pixel_m * 4, longest=6000)
    beach = (land.shore < 0.006 + 0.006 * land.patch) & ~at_sea
    free = beach & ~np.isin(land.cover, (Cover.RIVER, Cover.DITCH, Cover.ROAD))
    land.cover[free] = np.where(land.slope[free] > 0.34, Cover.ROCK, Cover.SAND)
    marsh = (from_sea < 0.20 + 0.10 * land.patch) & (land.elevation < 5.5) & ~beach & ~at_sea
    marsh &= np.isin(land.cover, (Cover.PASTURE, Cover.FIELD, Cover.HEDGE))
    land.cover[marsh] = Cover.SALTMARSH
    land.cover[at_sea] = Cover.SEA
    land.depth[...] = np.where(at_sea, enlarged(np.clip(22 * from_land + 2.2 * swell, 0.2, 60), 4), 0)
    x, y = land.x[:, 2::4], land.y[2::4]
    mouth = np.hypot(x + 11.0, (y + 5.1) * 1.25)
    plume = np.exp(-np.maximum(mouth - 0.4 + 0.35 * swell, 0) / 1.5) + 0.45 * np.exp(-from_land / 0.16)
    land.silt[...] = np.where(at_sea, enlarged(np.clip(plume, 0, 1).astype(np.float32), 4), 0)
