"""Polygons to pixels, against shapely's own predicates."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from helpers import grid
from zoompick.raster.grid import Window
from zoompick.raster.masks import PolygonMask

PLACE = grid(60, 50, 10, 0, 500)
SHAPES = {
    "triangle": shapely.Polygon([(33, 444), (571, 391), (207, 33)]),
    "hole": shapely.Polygon([(23, 23), (583, 23), (583, 483), (23, 483)], [[(203, 203), (407, 203), (377, 391)]]),
    "two parts": shapely.MultiPolygon([shapely.box(13, 17, 122, 133), shapely.Point(400, 300).buffer(97)]),
    "sliver": shapely.Polygon([(5.5, 4), (590, 203), (590, 206)]),
    "beyond the grid": shapely.box(-300, -300, 303, 253),
    "on pixel edges": shapely.box(100, 100, 300, 200),
    "smaller than a pixel": shapely.box(121, 121, 123, 124),
}


def centres():
    x = (np.arange(60) + 0.5) * 10
    y = 500 - (np.arange(50) + 0.5) * 10
    return np.meshgrid(x, y)


@pytest.mark.parametrize("name", SHAPES)
def test_pixels_whose_centre_is_inside(name):
    x, y = centres()
    expected = shapely.contains_xy(SHAPES[name], x, y)
    np.testing.assert_array_equal(PolygonMask(SHAPES[name], PLACE).read(PLACE.window), expected)


@pytest.mark.parametrize("name", [name for name in SHAPES if name != "on pixel edges"])
def test_touch_keeps_every_pixel_the_polygon_meets(name):
    x, y = centres()
    boxes = shapely.box(x - 5, y - 5, x + 5, y + 5)
    expected = shapely.intersects(SHAPES[name], boxes)
    np.testing.assert_array_equal(PolygonMask(SHAPES[name], PLACE, touch=True).read(PLACE.window), expected)


@pytest.mark.parametrize("touch", [False, True])
def test_windows_agree_with_the_whole(touch):
    mask = PolygonMask(SHAPES["hole"], PLACE, touch)
    whole = mask.read(Window(-7, -7, 80, 80))
    for window in (Window(-7, -7, 30, 30), Window(11, 3, 20, 25), Window(40, 40, 33, 33)):
        rows, cols = window.slices_in(Window(-7, -7, 80, 80))
        np.testing.assert_array_equal(mask.read(window), whole[rows, cols])


def test_area_of_the_mask_is_that_of_the_polygon():
    circle = shapely.Point(300, 250).buffer(200, quad_segs=64)
    pixels = PolygonMask(circle, PLACE).read(PLACE.window).sum()
    assert pixels * 100 == pytest.approx(circle.area, rel=0.01)


def test_neighbours_share_no_pixel_and_leave_none_out():
    left, right = shapely.box(0, 0, 233, 500), shapely.box(233, 0, 600, 500)
    first, second = (PolygonMask(shape, PLACE).read(PLACE.window) for shape in (left, right))
    assert (first ^ second).all()
