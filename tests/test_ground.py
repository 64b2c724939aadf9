"""Hectares and metres on the ground, in a UTM zone, in degrees and on Mercator's map, at 0, 40 and 65 degrees."""

from __future__ import annotations

import numpy as np
import pyproj
import pytest
import shapely

from helpers import Memory, noise
from zoompick.area.model import Area
from zoompick.figures.face import _metres_a_unit
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.geodesy import buffered, circle
from zoompick.geo.shapes import outline_of
from zoompick.products.change import areas_m2
from zoompick.products.formula import Formula
from zoompick.products.grids import common_grid
from zoompick.products.masking import MaskLayer
from zoompick.products.mosaic import Mosaic
from zoompick.products.observations import Clear, Observation
from zoompick.raster.clip import Clip
from zoompick.raster.grid import Grid, Window
from zoompick.raster.masks import PolygonMask
from zoompick.raster.pixelsize import pixel_sizes
from zoompick.raster.raster import Band
from zoompick.raster.reach import Reach
from zoompick.raster.write import write_geotiff
from zoompick.sensors.classes import ClassTable

GEOD = pyproj.Geod(ellps="WGS84")
PLACES = [(kind, lat) for kind in ("utm", "degrees", "mercator", "feet") for lat in (0.5, 40, 65)]


def place_at(kind: str, lat: float, pixel_m: float = 40.0, width: int = 70, height: int = 60) -> Grid:
    """A grid whose pixels are so large on the ground, about a latitude."""
    zone = 32631
    feet = pyproj.CRS(f"+proj=tmerc +lat_0={lat} +lon_0=3 +units=us-ft +datum=WGS84").to_wkt()
    crs = {"utm": Crs(zone), "degrees": Crs(4326), "mercator": Crs(3857), "feet": Crs.from_wkt(feet)}[kind]
    x, y = pyproj.Transformer.from_crs(4326, pyproj.CRS.from_wkt(crs.wkt2), always_xy=True).transform(3.4, lat)
    if kind == "degrees":
        pixel = pixel_m / 111_320
    elif kind == "mercator":
        pixel = pixel_m / np.cos(np.radians(lat))
    else:
        pixel = pixel_m / crs.metres_per_unit
    return Grid(crs, pixel, pixel, x - width / 2 * pixel, y + height / 2 * pixel, width, height)


def centres(grid: Grid) -> tuple[np.ndarray, np.ndarray]:
    """Longitude and latitude of pixel centres, by another library than the one that is tested goes through."""
    xs = grid.west + (np.arange(grid.width) + 0.5) * grid.pixel_x
    ys = grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y
    system = pyproj.CRS.from_wkt(grid.crs.wkt2)
    return pyproj.Transformer.from_crs(system, 4326, always_xy=True).transform(*np.meshgrid(xs, ys))


def away_m(grid: Grid, where: np.ndarray) -> np.ndarray:
    """Geodesic distance from each pixel's centre to the nearest centre that is set."""
    lon, lat = centres(grid)
    found = np.full(lon.shape, np.inf)
    for x, y in zip(lon[where], lat[where], strict=True):
        found = np.minimum(found, GEOD.inv(np.full(lon.size, x), np.full(lon.size, y), lon.ravel(), lat.ravel())[2]
                           .reshape(lon.shape))  # fmt: skip
    return found


@pytest.mark.parametrize(("kind", "lat"), PLACES)
@pytest.mark.parametrize("size", [(70, 60), (600, 900)])
def test_pixels_have_the_ground_of_the_ellipsoid(kind, lat, size):
    grid = place_at(kind, lat, 400, *size)
    outline = outline_of(grid.bounds, grid.crs, grid.bounds.width / 400)
    whole = abs(GEOD.geometry_area_perimeter(outline)[0])
    areas = pixel_sizes(grid, grid.window).area_m2
    assert areas.sum() == pytest.approx(whole, rel=1e-5)
    codes = noise((1, *areas.shape), "uint8", 1, 4)
    found = areas_m2(Memory(codes, grid, 0))
    for code in (1, 2, 3):
        assert found[code] == pytest.approx(areas[codes[0] == code].sum(), rel=1e-9)
    north = codes.copy()
    north[:, size[1] // 10 :] = 0
    strip = grid.part(Window(0, 0, size[0], size[1] // 10))
    true = abs(GEOD.geometry_area_perimeter(outline_of(strip.bounds, strip.crs, strip.bounds.width / 400))[0])
    assert sum(areas_m2(Memory(north, grid, 0)).values()) == pytest.approx(true, rel=1e-4), "the northern tenth"


@pytest.mark.parametrize(("kind", "lat"), PLACES)
def test_what_grows_by_metres_reaches_so_far_on_the_ground(kind, lat):
    grid = place_at(kind, lat)
    hidden = np.zeros((60, 70), bool)
    hidden[28:31, 30:34] = hidden[50, 60] = True
    reach = Reach(grid, 500)
    for window in (grid.window, Window(20, 15, 30, 33), Window(0, 0, 70, 1)):
        wide = reach.widened(window)
        padded = np.zeros((wide.height, wide.width), bool)
        inside = wide.intersect(grid.window)
        padded[inside.slices_in(wide)] = hidden[inside.slices_in(grid.window)]
        rows, cols = window.slices_in(grid.window)
        got, true = reach.grown(padded, window), away_m(grid, hidden)[rows, cols]
        largest = max(pixel_sizes(grid, window).across_m.max(), pixel_sizes(grid, window).down_m.max())
        assert got[true <= 499].all() and not got[true > 500 + largest].any(), (kind, lat, window)


@pytest.mark.parametrize(("kind", "lat"), [("utm", 40), ("mercator", 40), ("degrees", 65)])
def test_clouds_masks_and_feathers_reach_alike_in_every_system(kind, lat):
    grid = place_at(kind, lat)
    codes = np.ones((1, 60, 70), np.uint8)
    codes[0, 28:31, 30:34] = 4
    near = away_m(grid, codes[0] == 4)
    table = ClassTable.of_codes({"clear": [1], "cloud": [4]})
    clear = Clear(Memory(codes, grid, 0), table, ("cloud",), 300)
    shown = clear.read(grid.window)
    assert not shown[near <= 299].any() and shown[near > 345].all()
    bands = Memory(noise((1, 60, 70), "uint16"), grid, 0, (Band("red"),))
    sight = Observation("a", None, None, None, bands, replace_grow(clear))
    layer = MaskLayer(sight, Formula.parse("cloud"), grow_m=300)
    np.testing.assert_array_equal(layer.holds(grid.window), ~shown)
    left = np.zeros((1, 60, 70), np.uint16)
    left[:, :, :35] = 1000
    halves = [Observation(name, None, None, None, Memory(pixels, grid, 0, (Band("red"),)))
              for name, pixels in (("l", left), ("r", np.full_like(left, 3000)))]  # fmt: skip
    mixed = Mosaic(halves, feather_m=200).read(grid.window)[0, 30].astype(float)
    lon, lats = centres(grid)
    edge = GEOD.inv(lon[30, :35], lats[30, :35], np.full(35, lon[30, 35]), np.full(35, lats[30, 35]))[2]
    wanted = 1000 + 2000 * np.clip(1 - edge / 200, 0, 1)
    # Towards the outer edge the left scene fades as well.
    assert np.abs(mixed[14:35] - wanted[14:]).max() < 40


def replace_grow(clear: Clear) -> Clear:
    return Clear(clear.classes, clear.table, clear.hide)


def test_forty_metres_over_pixels_of_eight_stay_five_pixels():
    for kind, lat in (("utm", 0.5), ("utm", 40), ("utm", 65)):
        grid = place_at(kind, lat, 8.0)
        hidden = np.zeros((60, 70), bool)
        hidden[30, 30] = True
        reach = Reach(grid, 40)
        wide = reach.widened(grid.window)
        padded = np.zeros((wide.height, wide.width), bool)
        padded[grid.window.slices_in(wide)] = hidden
        rows, cols = np.indices((60, 70))
        np.testing.assert_array_equal(reach.grown(padded, grid.window), np.hypot(rows - 30, cols - 30) <= 5)


def test_growing_leaves_what_is_hidden_for_lying_outside_as_it_is():
    grid = place_at("utm", 40)
    codes = np.ones((1, 60, 70), np.uint8)
    codes[0, 28:31, 30:34] = 4
    table = ClassTable.of_codes({"clear": [1], "cloud": [4]})
    bands = Memory(noise((1, 60, 70), "uint16"), grid, 0, (Band("red"),))
    sight = Observation("a", None, None, None, bands, Clear(Memory(codes, grid, 0), table, ("cloud",)))
    x, y = grid.west + 35 * 40, grid.north - 30 * 40
    polygon = PolygonMask(shapely.Point(x, y).buffer(1000), grid)
    outside = ~polygon.read(grid.window)
    grown = MaskLayer(sight, Formula.parse("cloud"), grow_m=200).holds(grid.window)
    both = MaskLayer(sight, Formula.parse("cloud or outside"), grow_m=200, polygon=polygon).holds(grid.window)
    np.testing.assert_array_equal(both, grown | outside)
    alone = MaskLayer(sight, Formula.parse("outside"), grow_m=200, polygon=polygon).holds(grid.window)
    np.testing.assert_array_equal(alone, outside)
    inner = MaskLayer(sight, Formula.parse("cloud and not outside"), grow_m=200, polygon=polygon).holds(grid.window)
    np.testing.assert_array_equal(inner, grown)


@pytest.mark.parametrize("lat", [0.5, 40, 60, 65])
def test_a_circle_around_a_place_and_a_margin_reach_so_far_on_the_ground(lat):
    ring = circle(3.4, lat, 500)
    wide = buffered(ring, 500)
    for shape, metres in ((ring, 500), (wide, 1000)):
        lons, lats = np.array(shape.exterior.coords).T
        reach = GEOD.inv(np.full(lons.size, 3.4), np.full(lats.size, lat), lons, lats)[2]
        assert 0.995 * metres < reach.min() and reach.max() < 1.002 * metres


ACROSS = Area.from_box(179, -20, -179, -18)
GLOBES = [(-180, 1440), (0, 1440), (175, 40), (-185, 40), (-179.75, 1438)]


@pytest.mark.parametrize(("west", "width"), GLOBES)
def test_areas_over_180_degrees_keep_both_halves_and_no_empty_middle(west, width):
    grid = Grid(LONLAT, 0.25, 0.25, west, 0, width, 120)
    lons = (west + (np.arange(width) + 0.5) * 0.25 + 180) % 360 - 180
    values = np.broadcast_to(np.round(lons * 100) + 20_000, (1, 120, width)).astype(np.uint16)
    raster = Memory(values, grid, 0, (Band("red"),))
    clip = Clip(raster, ACROSS.polygon)
    assert (clip.grid.width, clip.grid.height) == (8, 8)
    got = clip.read(clip.grid.window)[0]
    true = (clip.grid.west + (np.arange(8) + 0.5) * 0.25 + 180) % 360 - 180
    gone = np.abs(true) > 179.75 if width == 1438 else np.zeros(8, bool)
    np.testing.assert_array_equal(got[0], np.where(gone, 0, np.round(true * 100) + 20_000))
    inside = PolygonMask(ACROSS.polygon, grid).read(grid.window)
    wanted = np.abs(lons) > 179
    np.testing.assert_array_equal(inside[75], wanted)
    assert inside.sum() == 8 * wanted.sum()


def test_a_grid_in_degrees_around_an_area_over_180_degrees_is_as_large_as_the_area():
    grid = common_grid([Grid(Crs(32760), 1000, 1000, 300_000, 8_000_000, 100, 100)], ACROSS, 0.01, "EPSG:4326")
    assert grid.width == pytest.approx(200, abs=1) and grid.bounds.west == pytest.approx(179)


@pytest.mark.parametrize(("kind", "lat"), PLACES)
def test_a_bar_that_tells_a_length_is_as_long_as_it_tells(kind, lat):
    grid = place_at(kind, lat)
    lon, lats = centres(grid)
    across = GEOD.inv(lon[30, 34], lats[30, 34], lon[30, 35], lats[30, 35])[2]
    assert _metres_a_unit(grid) * grid.pixel_x == pytest.approx(across, rel=1e-3)


@pytest.mark.parametrize(("kind", "lat"), [("mercator", 40), ("mercator", 65), ("feet", 40), ("degrees", 65)])
def test_a_patch_without_pixels_has_its_true_size(program, tmp_path, kind, lat):
    grid = place_at(kind, lat)
    values = noise((1, 60, 70), "uint16")
    values[0, 20:30, 30:45] = 0
    write_geotiff(Memory(values, grid, 0, (Band("red"),)), tmp_path / "a.tif")
    lons, lats = centres(grid)
    box = shapely.box(lons[3:-3, 3:-3].min(), lats[3:-3, 3:-3].min(), lons[3:-3, 3:-3].max(), lats[3:-3, 3:-3].max())
    (tmp_path / "area.geojson").write_text(shapely.to_geojson(box))
    done = program("verify", "a.tif", "--area", "area.geojson", "--only", "holes", "--json")
    (row,) = [row for row in done.json["findings"] if row["check"] == "largest hole" or "hole" in row["check"]]
    patch = grid.part(Window(30, 20, 15, 10))
    true = abs(GEOD.geometry_area_perimeter(outline_of(patch.bounds, patch.crs, patch.bounds.width / 50))[0])
    assert row["data"]["holes"][0]["size_km2"] == pytest.approx(true / 1e6, rel=0.01)


def test_pixel_m_is_metres_and_pixel_sizes_are_told_in_units_of_the_system():
    feet = place_at("feet", 40)
    assert "ft" in feet.pixel_text and feet.pixel_m == pytest.approx(40)
    assert place_at("utm", 40).pixel_text == "40 m"
    assert Grid(LONLAT, 0.25, 0.5, 0, 0, 2, 2).pixel_text == "0.25 x 0.5°"
