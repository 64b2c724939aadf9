"""Variables of containers: which there are, what their values mean, and where on the ground they lie.

Source: CF conventions 1.11, sections 2.5 (missing data), 4 and 5 (coordinates, grid mappings), 8.1 (packed data).
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from zoompick.arrays import Pixels
from zoompick.geo.crs import LONLAT, Crs
from zoompick.jsontypes import JsonMap
from zoompick.later import np
from zoompick.raster.attributes import Dataset, Packing, number_of, numbers_of, plain, text_of
from zoompick.raster.eosgrid import TEXT, EosGrid, grids_in
from zoompick.raster.grid import Grid
from zoompick.raster.gridmapping import factor_of, system_of
from zoompick.raster.pairs import Pair, pair_for, pairs_in
from zoompick.raster.raster import Band
from zoompick.raster.sides import EAST, NORTH, Side, even_steps, sides_of
from zoompick.raster.uneven import Uneven

_MOST_VARIABLES, _MOST_LAYERS, _MOST_SIDES, _LEAST_SIDE = 2000, 2000, 6, 2
_MICROMETRES = {"um": 1.0, "µm": 1.0, "micrometer": 1.0, "micrometers": 1.0, "micrometre": 1.0, "micron": 1.0,
                "nm": 1e-3, "nanometer": 1e-3, "nanometers": 1e-3, "nanometre": 1e-3}  # fmt: skip
"""Units of wavelength, and how many micrometres each is."""


@dataclass(frozen=True)
class Layout:
    """Where rows and columns of a map lie in a dataset.

    Attributes
    ----------
    down, across : int
        Dimensions that run south (or north) and east (or west).
    layer : tuple of (int, int)
        Which place is meant along each of the other dimensions.
    is_south_up, is_mirrored : bool
        Rows run north; columns run west.
    """

    down: int = 0
    across: int = 1
    layer: tuple[tuple[int, int], ...] = ()
    is_south_up: bool = False
    is_mirrored: bool = False

    def read(self, dataset: Dataset, rows: slice, cols: slice) -> Pixels:
        """Stored values of some rows and columns, counted north up, of a dataset."""
        place: list[Any] = [0] * len(dataset.shape)
        for axis, at in self.layer:
            place[axis] = at
        place[self.down] = stored_part(rows, dataset.shape[self.down], self.is_south_up)
        place[self.across] = stored_part(cols, dataset.shape[self.across], self.is_mirrored)
        values = np.asarray(dataset[tuple(place)])
        values = values.T if self.across < self.down else values
        return values[:: -1 if self.is_south_up else 1, :: -1 if self.is_mirrored else 1]


def stored_part(part: slice, size: int, is_backward: bool) -> slice:
    """Rows or columns counted north up as they are stored."""
    return slice(size - part.stop, size - part.start) if is_backward else part


@dataclass(frozen=True)
class Variable:
    """A dataset that lies somewhere, or one layer of a dataset with more dimensions than rows and columns.

    Attributes
    ----------
    path : str
        Group and name.
    shape : tuple of int
        Rows and columns.
    band : Band
        With the scale and offset of the stored values.
    packing : Packing
        Type of the stored values, and which of them are missing.
    grid : Grid or None
        None for one on a swath; one that counts pixels where ``turn`` tells their places.
    turn : Uneven or None
        Places of rows and columns at uneven steps.
    places : Pair or None
        Datasets of places of its pixels, for a swath.
    at : tuple of (str, float, str)
        What layer it is: dimension, coordinate (or a number from 1) and its unit; for dimensions of one place, too.
    """

    path: str
    shape: tuple[int, int]
    band: Band
    packing: Packing
    layout: Layout
    chunks: tuple[int, int]
    grid: Grid | None = None
    turn: Uneven | None = field(default=None, compare=False)
    places: Pair | None = None
    at: tuple[tuple[str, float, str], ...] = ()

    @property
    def key(self) -> str:
        """Where it lies in its file, for people."""
        several = [f"{name} {value:g}{f' {unit}' if unit else ''}" for name, value, unit in self.at]
        return ", ".join([self.path, *several])


def variables_in(file: Any) -> Iterator[Variable]:
    """Every variable that lies somewhere, in the order of the file."""
    datasets: list[tuple[str, Dataset]] = []

    def visit(name: str, entry: Dataset) -> bool | None:
        if hasattr(entry, "dtype") and hasattr(entry, "shape") and entry.dtype.kind in "iuf":
            datasets.append((name, entry))
        return True if len(datasets) > _MOST_VARIABLES else None

    file.visititems(visit)
    lines = [(name, entry) for name, entry in datasets if len(entry.shape) == 1]
    pairs, grids = pairs_in(file, datasets), _eos_grids(file)
    taken = {name for pair in pairs for name in (pair.lon, pair.lat)}
    for name, entry in datasets:
        if not 2 <= len(entry.shape) <= _MOST_SIDES or name in taken:
            continue
        one = _placed(_Looked(file, name, entry, sides_of(entry, lines)), pairs, grids)
        if one is not None and min(one.shape) >= _LEAST_SIDE:
            yield from _layers(one, sides_of(entry, lines))


@dataclass(frozen=True)
class _Looked:
    """A dataset as it is looked at."""

    file: Any
    name: str
    entry: Dataset
    sides: Sequence[Side]

    def variable(self, down: int, across: int, **where: Any) -> Variable:
        """It, with rows and columns along two of its dimensions."""
        entry, packing = self.entry, Packing.of(self.entry)
        rows, cols = entry.shape[down], entry.shape[across]
        chunks = (entry.chunks[down], entry.chunks[across]) if entry.chunks else (min(rows, 256), cols)
        layout = where.pop("layout", Layout(down, across))
        is_class = "flag_values" in entry.attrs or "flag_masks" in entry.attrs
        band = Band(
            self.name.rpartition("/")[2], packing.scale, packing.offset, text_of(entry, "units"), is_class,
            number_of(entry, "wavelength_um"), classes=_flags(entry),
        )  # fmt: skip
        return Variable(self.name, (rows, cols), band, packing, layout, chunks, **where)


def _flags(entry: Dataset) -> tuple[tuple[int, str], ...]:
    """Codes and their words, where the variable tells both (CF section 3.5); none for bits."""
    values, words = numbers_of(entry, "flag_values"), text_of(entry, "flag_meanings").split()
    if "flag_masks" in entry.attrs or len(values) != len(words):
        return ()
    return tuple((int(value), word) for value, word in zip(values, words, strict=True))


def _placed(one: _Looked, pairs: Sequence[Pair], grids: Sequence[EosGrid]) -> Variable | None:
    """A dataset with its place: told by itself, by the text of the file, along its sides, or by pairs of places."""
    down, across = _usual(one.sides)
    rows, cols = one.entry.shape[down], one.entry.shape[across]
    told = _told_grid(one.entry.attrs, rows, cols)
    eos = next((grid for grid in grids if grid.holds(one.name, (rows, cols))), None)
    if told is None and eos is not None:
        told = _told_grid(eos.told, rows, cols)
    if told is not None:
        return one.variable(down, across, grid=told)
    by_sides = _by_sides(one)
    if by_sides is not None:
        return by_sides
    found = pair_for(one.file, one.name, one.entry, pairs)
    if found is None:
        return None
    place, (down, across) = found
    return one.variable(down, across, places=place)


def _usual(sides: Sequence[Side]) -> tuple[int, int]:
    """The last two dimensions that are no wavelength: rows and columns where nothing else tells."""
    left = [side.axis for side in sides if side.kind != "wavelength"]
    down, across = (left if len(left) >= 2 else [side.axis for side in sides])[-2:]
    return down, across


def _by_sides(one: _Looked) -> Variable | None:
    """A grid by coordinates along both sides, in the system of the grid mapping, else in degrees."""
    north = next((side for side in one.sides if side.kind in NORTH and side.values is not None), None)
    east = next((side for side in one.sides if side.kind in EAST and side.values is not None), None)
    mapped = system_of(one.file, one.entry)
    if mapped is not None and (north is None or east is None):
        # A system, and two sides with coordinates of which nothing tells the way: rows before columns.
        plain_sides = [side for side in one.sides if side.values is not None and side.kind != "wavelength"]
        if len(plain_sides) >= 2:
            north, east = plain_sides[-2:]
    if north is None or east is None or north.size < _LEAST_SIDE or east.size < _LEAST_SIDE:
        return None
    if mapped is None and (north.kind, east.kind) != ("lat", "lon"):
        return None
    crs, height = mapped or (LONLAT, 0.0)
    assert north.values is not None and east.values is not None
    factors = [factor_of(side.unit, crs, height) for side in (north, east)]
    ys, xs = north.values * factors[0], east.values * factors[1]
    south_up, mirrored = bool(ys[-1] > ys[0]), bool(xs[-1] < xs[0])
    ys, xs = ys[:: -1 if south_up else 1], xs[:: -1 if mirrored else 1]
    if crs.is_geographic and float(xs[0]) >= _HALF_TURN:
        xs = xs - 2 * _HALF_TURN
    layout = Layout(north.axis, east.axis, is_south_up=south_up, is_mirrored=mirrored)
    down, across = even_steps(ys, north.slack * factors[0]), even_steps(xs, east.slack * factors[1])
    if down is None or across is None:
        turn = Uneven.of(xs, ys, one.name)
        lattice = Grid(crs, 1, 1, 0, 0, east.size, north.size)
        return one.variable(north.axis, east.axis, layout=layout, grid=lattice, turn=turn)
    west, top = across.first - across.step / 2, down.first - down.step / 2
    grid = Grid(crs, across.step, -down.step, west, top, east.size, north.size)
    return one.variable(north.axis, east.axis, layout=layout, grid=grid)


_HALF_TURN = 180.0


def _layers(one: Variable, sides: Sequence[Side]) -> Iterator[Variable]:
    """A variable for each place along its other dimensions: the only one as it is called, several with a number."""
    others = [side for side in sides if side.axis not in (one.layout.down, one.layout.across)]
    count = int(np.prod([side.size for side in others], dtype=np.int64)) if others else 1
    if count > _MOST_LAYERS:
        return
    for number, places in enumerate(itertools.product(*(range(side.size) for side in others))):
        at = tuple(
            (side.name.rpartition("/")[2] or f"side {side.axis + 1}", _at(side, place), side.unit)
            for side, place in zip(others, places, strict=True)
        )
        um = next((_um(side, place) for side, place in zip(others, places, strict=True) if _um(side, place)), None)
        name = one.band.name if count == 1 else f"{one.band.name}_{number + 1:03d}"
        layer = tuple((side.axis, place) for side, place in zip(others, places, strict=True))
        band = replace(one.band, name=name, wavelength_um=um or one.band.wavelength_um)
        yield replace(one, layout=replace(one.layout, layer=layer), band=band, at=at)


def _at(side: Side, place: int) -> float:
    """Coordinate of a place along a dimension; its number from 1 where nothing tells one."""
    return place + 1.0 if side.values is None or not np.isfinite(side.values[place]) else float(side.values[place])


def _um(side: Side, place: int) -> float | None:
    """Wavelength of a place along a dimension of wavelengths."""
    factor = _MICROMETRES.get(side.unit)
    if factor is None or side.kind != "wavelength" or side.values is None:
        return None
    return float(side.values[place] * factor)


_EOS, _MOST_TEXT = "HDFEOS INFORMATION", 1 << 20


def _eos_grids(file: Any) -> Sequence[EosGrid]:
    """Grids that the text of an HDF-EOS file tells."""
    own = getattr(file, "grids", None)
    if own is not None:
        return tuple(own)
    if not hasattr(file, "filename") or _EOS not in file:
        return ()
    told = [file[_EOS][name] for name in sorted(file[_EOS]) if name.startswith(TEXT)]
    pieces = [part[()] for part in told if hasattr(part, "shape") and part.size <= _MOST_TEXT]
    return grids_in("".join(str(plain(piece)) for piece in pieces))


def _told_grid(attrs: Mapping[str, Any] | JsonMap, rows: int, cols: int) -> Grid | None:
    """A grid told by attributes of the variable itself, or by the text of the file."""
    if not all(key in attrs for key in ("west", "north", "pixel_m")):
        return None
    code = plain(attrs.get("epsg"))
    crs = str(plain(attrs.get("crs", ""))) or (str(int(code)) if code is not None else "")
    if not crs:
        return None
    west, north, pixel = (float(plain(attrs[key])) for key in ("west", "north", "pixel_m"))
    return Grid(Crs.parse(crs), pixel, pixel, west, north, cols, rows)
