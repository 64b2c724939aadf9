"""Stack, clip, composite, index, formulas, pictures: against hand-worked numbers and NumPy."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from fractions import Fraction

import imagecodecs
import numpy as np
import pytest
import shapely

from helpers import Memory, foreign_tiff, grid, noise
from zoompick.errors import GridError, NothingFoundError, UnknownNameError, UsageError
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import project
from zoompick.products import recipes
from zoompick.products.composite import Composite
from zoompick.products.curves import Curve, curves_for
from zoompick.products.formula import Formula
from zoompick.products.index import Index
from zoompick.products.local import LocalCurves
from zoompick.products.picture import world_file, write_png
from zoompick.products.stack import Stack, build_stack
from zoompick.products.stretch import quantiles
from zoompick.products.tone import Tone
from zoompick.raster.clip import Clip
from zoompick.raster.coded import coded_block
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.opening import open_raster
from zoompick.raster.part import Part
from zoompick.raster.raster import Band, valid_mask
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.scenes.deliveries import open_layers
from zoompick.study import verbs

PLACE = grid(80, 60)


def lonlat(shape, place=PLACE):
    """A polygon in pixels of ``place`` carried to longitude/latitude."""
    moved = shapely.transform(
        shape, lambda xy: np.column_stack([place.west + xy[:, 0] * 8, place.north - xy[:, 1] * 8])
    )
    return project(shapely.segmentize(moved, 20), LONLAT, place.crs)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("(nir - red) / (nir + red)", (30 - 10) / 40),
        ("2 * red + 1", 21),
        ("-red + nir / 2", 5),
        ("1.5 * (nir - red) / (nir + 6 * red - 7.5 * nir + 1)", 1.5 * 20 / (30 + 60 - 225 + 1)),
        ("min(nir, red, 12) + max(red, 11) * abs(-2)", 10 + 22),
        ("sqrt(nir + 6) - log(exp(red))", 6 - 10),
        ("where(nir > red and not red >= 11, clip(nir, 0, 25), -1)", 25),
        ("where(nir < red or red != 10, 1, 2)", 2),
    ],
)
def test_formulas(text, expected):
    formula = Formula.parse(text)
    assert formula.compute({"nir": np.array([30.0]), "red": np.array([10.0])})[0] == pytest.approx(expected)


@pytest.mark.parametrize(
    "text",
    [
        "__import__('os').remove('x')", "red.real", "red[0]", "red if nir else 1", "red ** 99999", "lambda: 1",
        "'red'", "True", "red < nir < blue", "f(red)", "where(red)", "min(red)", "red is nir", "red if 1 else 2",
        "exp(red=1)", "abs(*red)", "red +", "", "5 + 5", "(" * 300 + "red" + ")" * 300, "-" * 60 + "red",
        "red+" * 900 + "red",
    ],
)  # fmt: skip
def test_formulas_are_never_programs(text):
    with pytest.raises(UsageError):
        Formula.parse(text)


def test_recipes_are_data_with_their_source():
    assert recipes.index("ndvi").formula.bands == ("nir", "red")
    assert "1996" in recipes.index("ndwi").source
    assert recipes.composite("infrared").bands == ("nir", "red", "green")
    with pytest.raises(UnknownNameError, match="Did you mean ndvi"):
        recipes.index("NDVI2")
    with pytest.raises(UsageError, match="three bands"):
        recipes.own_composite(("red", "nir"))


def test_index_uses_reflectance_and_knows_no_data():
    bands = (Band("red", 0.0001, -0.1), Band("nir", 0.0001, -0.1))
    pixels = np.array([[[2000, 0, 1000, 3000]], [[4000, 5000, 1000, 2000]]], "uint16")
    raster = Index(Memory(pixels, grid(4, 1), 0, bands), "ndvi", recipes.index("ndvi").formula, "it")
    found = raster.read(raster.grid.window)[0, 0]
    expected = [(0.3 - 0.1) / 0.4, np.nan, np.nan, (0.1 - 0.2) / 0.3]
    np.testing.assert_allclose(found, expected, rtol=1e-5)
    assert (raster.dtype, raster.bands[0].name) == (np.float32, "ndvi")
    with pytest.raises(UnknownNameError, match="it has the bands"):
        Index(Memory(pixels, grid(4, 1)), "x", Formula.parse("red"), "it")


def files_for(tmp_path):
    """Three files: red at 8 m, nir and classes at 16 m, half a pixel of ground apart at the edges."""
    red, nir = noise((1, 60, 80)), noise((1, 30, 40), seed=8)
    classes = noise((1, 30, 40), "uint8", 1, 6, seed=9)
    foreign_tiff(tmp_path / "red.tif", red, PLACE, nodata="0", tile=(32, 32))
    coarse = Grid(PLACE.crs, 16, 16, PLACE.west, PLACE.north, 40, 30)
    foreign_tiff(tmp_path / "nir.tif", nir, coarse, nodata="0")
    foreign_tiff(tmp_path / "classes.tif", classes, coarse, nodata="0")
    return red, nir, classes


def test_stack_of_files_in_the_order_asked(tmp_path):
    red, nir, classes = files_for(tmp_path)
    layers = open_layers([tmp_path / "red.tif", tmp_path / "nir.tif", tmp_path / "classes.tif"])
    stack = build_stack(layers, ["nir", "classes", "red"], classes=["classes"])
    assert [band.name for band in stack.bands] == ["nir", "classes", "red"]
    assert (stack.grid, stack.dtype) == (PLACE, np.uint16)
    found = stack.read(PLACE.window)
    np.testing.assert_array_equal(found[2], red[0])
    np.testing.assert_array_equal(found[1], np.kron(classes[0], np.ones((2, 2))))
    inner = (3 * nir[0, 5, 5] + nir[0, 5, 6]) / 4
    assert abs(found[0, 10, 11] - (3 * inner + (3 * nir[0, 4, 5] + nir[0, 4, 6]) / 4) / 4) <= 0.5001
    with pytest.raises(UnknownNameError, match="Did you mean nir"):
        build_stack(layers, ["nirr"])


def test_stack_fills_gaps_from_the_next_scene_in_the_same_units():
    first = np.array([[[2000, 0, 3000, 0]]], "uint16")
    second = np.array([[[500, 2500, 0, 0]]], "uint16")
    place = grid(4, 1)
    old, new = Band("red", 0.0001, -0.05), Band("red", 0.0001, -0.1)
    stack = Stack(place, [[Memory(first, place, 0, (old,)), Memory(second, place, 0, (new,))]])
    # In the units that reach lowest: what is below the others' zero is not cut off.
    assert stack.read(place.window)[0, 0].tolist() == [2500, 2500, 3500, 0]
    assert stack.bands[0] == new


def test_units_that_change_never_turn_a_value_into_no_data():
    place = grid(2, 1)
    first = Memory(np.array([[[9, 500]]], "uint16"), place, 500, (Band("red", 1, 0),))
    second = Memory(np.array([[[0, 9]]], "uint16"), place, 500, (Band("red", 1, -491),))
    assert Stack(place, [[first, second]]).read(place.window)[0, 0].tolist() == [501, 9]


def test_files_that_do_not_fit_together(tmp_path):
    files_for(tmp_path)
    other = Grid(Crs(32729), 8, 8, PLACE.west, PLACE.north, 80, 60)
    foreign_tiff(tmp_path / "green.tif", noise((1, 60, 80)), other, nodata="0")
    layers = open_layers([tmp_path / "red.tif", tmp_path / "green.tif"])
    with pytest.raises(UsageError, match=r"EPSG:32728 .red.tif., EPSG:32729 .green.tif."):
        build_stack(layers, [])
    carried = build_stack(layers, ["red", "green"], PLACE)
    assert carried.grid == PLACE
    assert not carried.read(Window(0, 0, 10, 10), [1]).any(), "the same numbers lie elsewhere in the next zone"


def test_scale_and_name_come_from_the_item_beside_the_file(tmp_path):
    foreign_tiff(tmp_path / "x-77.tif", noise((1, 60, 80)), PLACE, nodata="0")
    asset = {"href": "http://h.test/x-77.tif", "type": "image/tiff", "roles": ["data"],
             "bands": [{"eo:common_name": "red"}], "raster:scale": 0.5, "raster:offset": 3}  # fmt: skip
    item = {"id": "s", "properties": {"datetime": "2025-12-15T00:00:00Z"}, "assets": {"a": asset}}
    (tmp_path / "item.json").write_text(json.dumps(item))
    assert open_layers([tmp_path / "x-77.tif"])[0].raster.bands == (Band("red", 0.5, 3),)


@pytest.mark.parametrize(
    ("name", "band"),
    [
        ("lapwing-a-20251215t111724-28s9845-b02-swir16.tif", "swir16"),
        ("july_NIR.tif", "nir"),
        ("fen.2025.red.tif", "red"),
        ("fen-thermal.tif", "fen-thermal"),
    ],
)
def test_names_of_files_tell_the_band(tmp_path, name, band):
    foreign_tiff(tmp_path / name, noise((1, 60, 80)), PLACE)
    assert open_layers([tmp_path / name])[0].name == band


@pytest.mark.parametrize("touch", [False, True])
def test_clip_keeps_the_inside_and_blanks_the_rest(touch):
    triangle = shapely.Polygon([(10.3, 8.1), (66.7, 20.2), (30.4, 50.9)])
    source = Memory(noise((2, 60, 80)), PLACE, 0)
    clip = Clip(source, lonlat(triangle), touch)
    found = clip.read(clip.grid.window)
    assert clip.grid == PLACE.part(Window(10, 8, 57, 43))
    x, y = np.meshgrid(np.arange(10, 67), np.arange(8, 51))
    inside = shapely.contains_xy(triangle, x + 0.5, y + 0.5)
    if touch:
        inside = shapely.intersects(triangle, shapely.box(x, y, x + 1, y + 1))
    wrong = (found[0] != 0) != inside
    assert wrong.sum() <= 2
    np.testing.assert_array_equal(found[1][inside & ~wrong], source.pixels[1, 8:51, 10:67][inside & ~wrong])


def test_what_no_step_changes_goes_from_file_to_file_as_it_is(tmp_path):
    """Through a stack and a clip: blocks of a band on its own lattice, inside the area; others are computed."""
    red = noise((1, 600, 600), high=90)
    place = Grid(PLACE.crs, 8, 8, PLACE.west, PLACE.north, 600, 600)
    coarse = Grid(PLACE.crs, 16, 16, PLACE.west, PLACE.north, 300, 300)
    hard = WriteOptions(side=64, effort=9)
    write_geotiff(Memory(red, place, 0, (Band("red"),)), tmp_path / "red.tif", hard)
    write_geotiff(Memory(noise((1, 300, 300), high=90), coarse, 0, (Band("nir"),)), tmp_path / "nir.tif", hard)
    stack = build_stack(open_layers([tmp_path / "red.tif", tmp_path / "nir.tif"]), ["nir", "red"], place)
    inner, edge, corner = Window(64, 128, 64, 64), Window(576, 128, 64, 64), Window(0, 0, 64, 64)
    block = coded_block(stack, inner, 1)
    assert block.data == coded_block(open_raster(tmp_path / "red.tif"), inner, 0).data
    np.testing.assert_array_equal(block.pixels, stack.read(inner, (1,)))
    assert [coded_block(stack, *asked) for asked in ((inner, 0), (edge, 1), (inner.moved(1, 0), 1))] == [None] * 3
    write_geotiff(stack, tmp_path / "stack.tif", WriteOptions(side=64, effort=9))
    clip = Clip(
        open_raster(tmp_path / "stack.tif"), lonlat(shapely.Polygon([(0, 40), (40, 0), (600, 0), (600, 600)]), place)
    )
    assert clip.grid == place
    assert coded_block(clip, corner, 1) is None
    inside = Window(320, 128, 64, 64)
    assert coded_block(clip, inside, 1).data == coded_block(stack, inside, 1).data
    shifted = Part(open_raster(tmp_path / "red.tif"), Window(64, 64, 300, 300))
    assert coded_block(shifted, Window(0, 64, 64, 64), 0).data == block.data


def test_clips_that_cannot_be():
    with pytest.raises(GridError, match="outside the raster"):
        Clip(Memory(noise((1, 60, 80)), PLACE, 0), lonlat(shapely.box(500, 500, 600, 600)))
    with pytest.raises(UsageError, match="no no-data value"):
        Clip(Memory(noise((1, 60, 80)), PLACE), lonlat(shapely.box(5, 5, 9, 9)))
    floats = Clip(Memory(noise((1, 60, 80), "float32"), PLACE), lonlat(shapely.Point(30, 30).buffer(9)))
    assert np.isnan(floats.read(floats.grid.window)[0, 0, 0])


@pytest.mark.parametrize("dtype", ["uint8", "uint16", "int16", "float32"])
def test_percentiles_are_those_of_the_valid_pixels_in_the_area(dtype):
    pixels = noise((2, 60, 80), dtype, 1, 120)
    pixels[:, :20] = 0
    shape = shapely.Polygon([(3, 3), (77, 30), (20, 57)])
    inside = PolygonMask(shapely.affinity.scale(shape, 1, -1, origin=(0, 0)), Grid(PLACE.crs, 1, 1, 0, 0, 80, 60))
    found = quantiles(Memory(pixels, PLACE, 0), (0, 1), (2, 98), inside)
    keep = inside.read(PLACE.window)
    for band, limits in zip(pixels, found, strict=True):
        values = band[keep & (band != 0)]
        expected = np.percentile(values, (2, 98), method="nearest")
        tolerance = float(values.max() - values.min()) / 65535 * 1.01 if dtype in ("int16", "float32") else 0
        assert np.abs(np.array(limits) - expected).max() <= tolerance
    with pytest.raises(NothingFoundError):
        quantiles(Memory(np.zeros_like(pixels), PLACE, 0), (0,), (2, 98))


def test_neighbourhoods_are_equalised_wherever_a_picture_is_made(tmp_path, program):
    """From Python as by the command; and their shades are not another picture's."""
    for number, band in enumerate(("red", "green", "blue")):
        foreign_tiff(tmp_path / f"s-{band}.tif", noise((1, 300, 340), seed=number), grid(340, 300), nodata="0")
    files = [f"s-{band}.tif" for band in ("red", "green", "blue")]
    assert program("stack", *files, "--out", "s").code == 0
    made = program("composite", "s.tif", "--recipe", "natural", "--stretch", "local", "--out", "l")
    assert made.code == 0, made.err
    program("composite", "s.tif", "--recipe", "natural", "--stretch", "equalize", "--out", "e")
    ours = verbs.composite(open_raster(tmp_path / "s.tif"), "natural", stretch="local")
    local, equal = (open_raster(tmp_path / f"{name}.tif") for name in "le")
    np.testing.assert_array_equal(ours.read(ours.grid.window), local.read(local.grid.window))
    assert (local.read(local.grid.window) != equal.read(equal.grid.window)).mean() > 0.1
    refused = program("composite", "s.tif", "--recipe", "natural", "--same-stretch-as", "l.tif", "--out", "n")
    assert refused.code == 2 and "equalised in neighbourhoods" in refused.err


def test_local_equalisation_is_that_of_the_four_cells_about_a_pixel():
    """Against plain loops over single pixels; a window is the same as its part of the whole, and nothing jumps."""
    rng = np.random.default_rng(11)
    pixels = rng.integers(1, 4000, (3, 600, 700)).astype("uint16")
    pixels[:, :, 350:] = pixels[:, :, 350:] // 8 + 1
    pixels[:, 100:140, 100:140] = 0
    raster = Memory(pixels, grid(700, 600), 0)
    every, tone = (0, 1, 2), Tone.parse("local")
    curves, local = curves_for(raster, every, tone), LocalCurves.measured(raster, every)
    made = Composite(raster, every, curves, replace(tone, saturation=1), local)
    whole = made.read(raster.grid.window)
    part = Window(200, 180, 333, 222)
    rows, cols = part.slices_in(raster.grid.window)
    np.testing.assert_array_equal(made.read(part), whole[:, rows, cols])
    assert not whole[:, 100:140, 100:140].any() and whole.max() <= 255
    steps = np.linspace(0, 1, 33)
    for row, col in [(0, 0), (599, 699), (300, 349), (300, 351), (150, 128), (511, 513), (90, 640)]:
        y, x = (row + 0.5) / 256 - 0.5, (col + 0.5) / 256 - 0.5
        share = 0.0
        value = pixels[1, row, col]
        overall = np.interp(value, curves[1].values, curves[1].shares)
        for down in (0, 1):
            for right in (0, 1):
                weight = (y % 1 if down else 1 - y % 1) * (x % 1 if right else 1 - x % 1)
                i, j = min(max(math.floor(y) + down, 0), 2), min(max(math.floor(x) + right, 0), 2)
                cell = pixels[1, 256 * i : 256 * i + 256, 256 * j : 256 * j + 256]
                own = np.interp(value, np.quantile(cell[cell > 0], steps), steps)
                share += weight * (0.6 * own + 0.4 * overall)
        assert abs(whole[1, row, col] - (1 + 254 * share)) <= 0.51, (row, col)
    # The dark half has more shades for itself than a curve for the whole would give it.
    plain = Composite(raster, every, curves, replace(tone, saturation=1)).read(raster.grid.window)
    assert np.ptp(np.percentile(whole[1, :, 600:], [2, 98])) > 1.15 * np.ptp(
        np.percentile(plain[1, :, 600:], [2, 98])
    )


@pytest.mark.parametrize("dtype", ["uint16", "float32"])
def test_composite_stretches_linearly_and_keeps_zero_for_missing(dtype):
    pixels = np.zeros((3, 1, 6), dtype)
    pixels[:, 0] = [[0, 100, 150, 200, 300, 50]] * 3
    pixels[1, 0, 5] = 0
    composite = Composite(Memory(pixels, grid(6, 1), 0), (2, 1, 0), [Curve.between(100, 200)] * 3)
    found = composite.read(composite.grid.window)
    assert found[0, 0].tolist() == [0, 1, 128, 255, 255, 0]
    assert [band.name for band in composite.bands] == ["b2", "b1", "b0"]


def test_stretches_are_what_they_say():
    pixels = noise((3, 90, 90), "uint16", 1, 3000)
    pixels[:, :9] = 0
    raster, every = Memory(pixels, grid(90, 90), 0), (0, 1, 2)
    seen = pixels[0][pixels[0] != 0].astype(float)
    (low, high) = curves_for(raster, every, Tone.parse("minmax"))[0].values
    assert (low, high) == (seen.min(), seen.max())
    (low, high) = curves_for(raster, every, Tone.parse("sigma=1.5"))[0].values
    np.testing.assert_allclose([low, high], [seen.mean() - 1.5 * seen.std(), seen.mean() + 1.5 * seen.std()])
    flat = Composite(raster, every, curves_for(raster, every, Tone.parse("equalize")), Tone(gamma=1, saturation=1))
    shades = flat.read(PLACE.window)[0][:90, :90]
    counts = np.bincount(shades[shades > 0], minlength=256)[8:248].reshape(-1, 16).sum(axis=1)
    assert counts.max() < 1.4 * counts.min(), "all shades are about as frequent"
    for text in ("98,2", "1,2,3", "median", "sigma=x", "sigma=0", "minmax=2"):
        with pytest.raises(UsageError):
            Tone.parse(text)
    with pytest.raises(UsageError, match="gamma of 0"):
        Tone().shaped(gamma=0)


def test_gamma_contrast_brightness_and_saturation_by_hand():
    pixels = np.array([[[100, 150, 200]], [[100, 125, 175]], [[100, 110, 150]]], np.uint16)
    tone = Tone(gamma=2, contrast=1.5, brightness=0.1, saturation=0.5)
    raster = Memory(pixels, grid(3, 1), 0)
    for kind in (pixels.dtype, np.float32):
        source = Memory(pixels.astype(kind), grid(3, 1), 0)
        found = Composite(source, (0, 1, 2), [Curve.between(100, 200)] * 3, tone).read(raster.grid.window)
        share = np.clip((np.sqrt((pixels - 100) / 100) - 0.5) * 1.5 + 0.6, 0, 1)
        shades = np.rint(1 + 254 * share)
        wanted = np.rint(shades.mean(axis=0) + 0.5 * (shades - shades.mean(axis=0)))
        assert np.abs(found - wanted).max() <= 1


def test_picture_with_world_file(tmp_path):
    pixels = noise((3, 60, 80), "uint8", 1, 255)
    pixels[:, :5] = 0
    write_geotiff(Memory(pixels, PLACE, 0), tmp_path / "a.tif", WriteOptions(is_rgb=True, side=32))
    place = write_png(open_raster(tmp_path / "a.tif"), tmp_path / "a.png", 4096)
    image = imagecodecs.png_decode((tmp_path / "a.png").read_bytes())
    np.testing.assert_array_equal(np.moveaxis(image[:, :, :3], 2, 0), pixels)
    assert (image[:5, :, 3] == 0).all()
    assert (image[5:, :, 3] == 255).all()
    numbers = [float(line) for line in (tmp_path / "a.pgw").read_text().split()]
    assert numbers == [8, 0, 0, -8, PLACE.west + 4, PLACE.north - 4]
    assert place == PLACE
    smaller = write_png(open_raster(tmp_path / "a.tif"), tmp_path / "b.png", 50)
    assert (smaller.width, smaller.pixel_x) == (40, 16)
    assert float(world_file(smaller).split()[0]) == 16


def clip_by_hand(raster, polygon, outside=False):
    """Pixels whose centre shapely puts inside, or outside."""
    place = raster.grid
    x = place.west + (np.arange(place.width) + 0.5) * place.pixel_x
    y = place.north - (np.arange(place.height) + 0.5) * place.pixel_y
    inside = shapely.contains_xy(polygon, *np.meshgrid(x, y))
    return np.where(inside ^ outside, raster.read(place.window), 0)


def test_clips_outside_with_the_whole_extent_and_on_blocks():
    raster = Memory(noise((2, 300, 400)), grid(400, 300), 0)
    flat = shapely.Point(753701.3, 5718999.7).buffer(611)
    polygon = project(flat, LONLAT, raster.grid.crs)
    wanted = clip_by_hand(raster, flat)
    kept = Clip(raster, polygon, keeps_extent=True)
    assert kept.grid == raster.grid and (kept.read(raster.grid.window) != wanted).mean() < 2e-4
    outside = Clip(raster, polygon, is_outside=True)
    assert (outside.read(raster.grid.window) != clip_by_hand(raster, flat, True)).mean() < 2e-4
    loose = Clip(raster, polygon, loose_to=64)
    col, row = loose.grid.offset_in(raster.grid)
    assert col % 64 == row % 64 == 0 and (col, row) != (0, 0)
    window = loose.grid.window.moved(round(col), round(row))
    np.testing.assert_array_equal(loose.read(loose.grid.window), kept.read(window))


@pytest.mark.parametrize("text", ["(nir - red) / (nir + red)", "1 / (red + nir)", "nir / (2 * (nir + red))"])
def test_an_index_has_no_value_where_rounding_alone_is_left_of_its_denominator(text):
    """Every pair of stored values whose reflectances are opposite: exactly zero on paper, 1e-17 in the machine."""
    nir = np.arange(1, 2000, dtype=np.uint16)
    stored = np.stack([nir, 2000 - nir])[:, np.newaxis, :]
    bands = tuple(Band(name, 0.0001, -0.1) for name in ("nir", "red"))
    index = Index(Memory(stored, grid(1999, 1), 0, bands), "x", Formula.parse(text), "it")
    assert np.isnan(index.read(index.grid.window)).all()
    beside = np.stack([nir, 2001 - nir])[:, np.newaxis, :]
    one = Index(Memory(beside, grid(1999, 1), 0, bands), "x", Formula.parse(text), "it")
    found = one.read(one.grid.window)
    assert np.isfinite(found).all(), "one step of the stored numbers apart there is a sum"
    exact = {
        "nir": [Fraction(int(n) - 1000, 10000) for n in nir],
        "red": [Fraction(1001 - int(n), 10000) for n in nir],
    }
    expected = [eval(text, {}, {"nir": a, "red": b}) for a, b in zip(exact["nir"], exact["red"], strict=True)]
    np.testing.assert_allclose(found[0, 0], np.array(expected, float), rtol=1e-5, atol=1e-6)


def test_small_terms_are_no_rounding():
    formula = Formula.parse("(a - b) / (a + b)")
    told = formula.compute({"a": np.array([1e-12, 3e-300, 0.0]), "b": np.array([3e-12, 1e-300, 0.0])})
    assert told[:2] == pytest.approx([-0.5, 0.5]) and np.isnan(told[2])


@pytest.mark.parametrize(
    ("dtype", "nodata"),
    [("int64", -(2**63)), ("int64", 2**63 - 1), ("uint64", 2**64 - 1), ("int64", 2**60 + 1), ("uint64", 2**53 + 1)],
)
def test_a_whole_no_data_value_that_no_double_holds_is_exact(tmp_path, program, dtype, nodata):
    pixels = np.full((1, 80, 70), 5, dtype)
    beside = nodata - 1 if nodata > 0 else nodata + 1
    pixels[0, 0, :2] = nodata, beside
    foreign_tiff(tmp_path / "a.tif", pixels, grid(70, 80), nodata=str(nodata))
    done = program("stack", "a.tif", "--out", "b.tif", cwd=tmp_path)
    assert done.code == 0, done.err
    for name in ("a.tif", "b.tif"):
        raster = open_raster(tmp_path / name)
        found = raster.read(raster.grid.window)
        assert raster.nodata == nodata and valid_mask(found, raster.nodata).sum() == pixels.size - 1
        assert found[0, 0, 1] == beside


@pytest.mark.parametrize("text", ["-1.#IND", "1.#QNAN", "-1.#IND00", "nan", "NaN"])
def test_a_no_data_value_that_is_no_number_is_nan(tmp_path, text):
    pixels = np.full((1, 20, 20), 1.5, "float32")
    pixels[0, 0, 0] = np.nan
    foreign_tiff(tmp_path / "a.tif", pixels, grid(20, 20), nodata=text)
    raster = open_raster(tmp_path / "a.tif")
    assert np.isnan(raster.nodata) and valid_mask(raster.read(raster.grid.window), raster.nodata).sum() == 399


@pytest.mark.parametrize(
    ("dtype", "values"),
    [
        ("float64", (1e20, 1e20)), ("float32", (3e38, 3e38)), ("float32", (-3e38, 3e38)), ("uint64", (2**63, 2**63)),
        ("int64", (1_700_000_000_000_000_000, 1_700_000_000_000_001_000)), ("uint16", (0, 0)),
        ("float32", (np.inf, 1)),
    ],
)  # fmt: skip
def test_huge_and_constant_values_end_no_command(tmp_path, program, dtype, values):
    pixels = np.where(np.add.outer(np.arange(90), np.arange(90)) % 2 == 0, *(np.array(one, dtype) for one in values))
    foreign_tiff(tmp_path / "a.tif", np.stack([pixels, pixels, pixels]), grid(90, 90))
    for words in (
        ("stack", "a.tif", "--pixel", "16", "--out", "s.tif"),
        ("composite", "a.tif", "--bands", "1,2,3", "--out", "c.tif"),
        ("index", "a.tif", "--formula", "band1 / (band1 + 1)", "--out", "i.tif"),
        ("picture", "i.tif", "--out", "i.png"),
        ("verify", "s.tif", "i.tif"),
    ):
        done = program(*words, cwd=tmp_path)
        assert done.code in (0, 1, 2, 3) and "Traceback" not in done.err and "Warning" not in done.err, (
            words,
            done.err,
        )
    assert (tmp_path / "s.tif").exists() and (tmp_path / "i.tif").exists()
