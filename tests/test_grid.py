"""Grids and windows."""

from __future__ import annotations

import pickle

import pytest

from helpers import UTM, grid
from zoompick.errors import GridError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import Crs
from zoompick.raster.grid import Grid, Window


@pytest.mark.parametrize(
    ("bounds", "pixel", "west", "north", "size"),
    [
        ((16, 8, 32, 24), 8, 16, 24, (2, 2)),
        ((17, 9, 31, 23), 8, 16, 24, (2, 2)),
        ((-1, -1, 1, 1), 8, -8, 8, (2, 2)),
        ((0, 0, 8.001, 8), 8, 0, 8, (1, 1)),
        ((0, 0, 8.1, 8), 8, 0, 8, (2, 1)),
        ((3, 3, 4, 4), 8, 0, 8, (1, 1)),
    ],
)
def test_snapped_grid_holds_the_bounds_on_multiples_of_the_pixel(bounds, pixel, west, north, size):
    found = Grid.snapped(Bounds(*bounds), UTM, pixel)
    assert (found.west, found.north, found.width, found.height) == (west, north, *size)


def test_neighbouring_snapped_grids_share_a_lattice():
    first = Grid.snapped(Bounds(101, 205, 900, 1003), UTM, 8)
    second = Grid.snapped(Bounds(901, 77, 1500, 800), UTM, 8)
    assert first.shares_lattice(second)
    moved = Grid(UTM, 8, 8, second.west + 3, second.north, second.width, second.height)
    assert not first.shares_lattice(moved)
    assert not first.shares_lattice(Grid(UTM, 16, 16, 0, 0, 4, 4))


def test_pixel_sizes_that_differ_a_little_do_not_share_a_lattice_over_many_pixels():
    exact, off = grid(10_000, 10), Grid(UTM, 8.00001, 8, 752000.0, 5720000.0, 10_000, 10)
    assert not exact.shares_lattice(off)


@pytest.mark.parametrize("values", [(0, 8, 4, 4), (8, -8, 4, 4), (8, 8, 0, 4), (8, 8, 4, -1)])
def test_impossible_grids_are_refused(values):
    with pytest.raises(GridError):
        Grid(UTM, values[0], values[1], 0, 0, values[2], values[3])


def test_bounds_and_parts():
    whole = grid(100, 50)
    assert whole.bounds == Bounds(752000, 5720000 - 400, 752800, 5720000)
    part = whole.part(Window(10, 5, 20, 10))
    assert (part.west, part.north, part.width, part.height) == (752080, 5719960, 20, 10)
    assert part.offset_in(whole) == (10, 5)
    assert whole.reduced(8) == Grid(UTM, 64, 64, 752000, 5720000, 13, 7)


@pytest.mark.parametrize(
    ("bounds", "window"),
    [
        ((752000, 5719992, 752008, 5720000), Window(0, 0, 1, 1)),
        ((752004, 5719980, 752020, 5719999), Window(0, 0, 3, 3)),
        ((751000, 5700000, 799999, 5730000), Window(0, 0, 100, 50)),
    ],
)
def test_window_of_bounds(bounds, window):
    assert grid(100, 50).window_of(Bounds(*bounds)) == window


@pytest.mark.parametrize("bounds", [(752004, 5719980, 752020, 5719999), (751001, 5719001, 753333, 5720777),
                                    (700000, 5600000, 700001, 5600001)])  # fmt: skip
def test_a_grid_around_a_rectangle_goes_on_on_the_same_lattice(bounds):
    first, found = grid(100, 50), grid(100, 50).around(Bounds(*bounds))
    box = found.bounds
    assert found.shares_lattice(first)
    assert box.west <= bounds[0] < box.west + 8 and box.south <= bounds[1] < box.south + 8
    assert box.east - 8 < bounds[2] <= box.east and box.north - 8 < bounds[3] <= box.north


def test_window_outside_is_empty():
    assert grid(10, 10).window_of(Bounds(0, 0, 8, 8)).is_empty


def test_tiles_cover_each_pixel_once():
    place = grid(130, 70)
    seen = [(c, r) for w in place.tiles(64) for r in range(w.row, w.stop_row) for c in range(w.col, w.stop_col)]
    assert sorted(seen) == sorted((c, r) for r in range(70) for c in range(130))


def test_values_can_be_pickled_and_compared():
    assert pickle.loads(pickle.dumps(grid(3, 4))) == grid(3, 4)
    assert Window(0, 0, 5, 5).intersect(Window(3, -2, 9, 4)) == Window(3, 0, 2, 2)
    assert Window(3, 0, 2, 2).slices_in(Window(1, -1, 9, 9)) == (slice(1, 3), slice(2, 4))


def test_pixel_size_is_told_with_its_unit():
    assert grid(1, 1).pixel_text == "8 m"
    assert UTM.metres_per_unit == 1.0


def test_a_pixel_in_metres_whatever_the_unit():
    """Degrees at the equator, metres, and feet of surveyors: 1200/3937 m."""
    sizes = [Grid(Crs(code), 10.0, 10.0, 0, 0, 5, 5).pixel_m for code in (4326, 32728, 2225)]
    assert sizes == pytest.approx([1_113_200, 10, 10 * 1200 / 3937])
