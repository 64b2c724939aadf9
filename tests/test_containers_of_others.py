"""netCDF and HDF5 files as netCDF4 and SciPy write them: packing, places, dimensions, each against its own truth."""

from __future__ import annotations

import pickle

import h5py
import netCDF4
import numpy as np
import pyproj
import pytest
import scipy.interpolate
import scipy.io

from helpers import noise
from zoompick.errors import FormatError, UnknownNameError, UsageError
from zoompick.products.drawing import shown
from zoompick.raster.grid import Grid, Window
from zoompick.raster.hdf5 import variables_of
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import to_numpy
from zoompick.raster.warp import resampled_to
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.opening import source_of

ROWS, COLS = 40, 60
ZONE = pyproj.CRS(32728)
X, Y = 700_004 + 8.0 * np.arange(COLS), 5_699_996 - 8.0 * np.arange(ROWS)
VALUES = noise((ROWS, COLS), "int16", -300, 3000)


class Writer:
    """A netCDF file with a system, coordinates along its sides, and a variable ``red``."""

    def __init__(self, path, x=X, y=Y, unit="m", system=ZONE, wkt=True, step=0):
        self.path, self.unit = path, unit
        self.file = netCDF4.Dataset(path, "w")
        for name, line in (("y", y), ("x", x)):
            self.file.createDimension(name, len(line))
            if not step:
                self.line(name, line)
                continue
            way = float(np.sign(line[1] - line[0]) * step)
            self.line(name, np.arange(len(line)), "i4", scale_factor=way, add_offset=line[0])
        if system is not None:
            holder = self.file.createVariable("crs", "i4")
            told = system.to_cf()
            holder.setncatts({key: value for key, value in told.items() if wkt or key != "crs_wkt"})

    def line(self, name, values, kind="f8", **about):
        held = self.file.createVariable(name, kind, (name,))
        held.set_auto_maskandscale(False)
        held.setncatts({"units": self.unit, "standard_name": f"projection_{name}_coordinate"} | about)
        held[:] = values

    def add(self, values, kind="i2", sides=("y", "x"), name="red", where=None, fill=None, **about):
        held = (where or self.file).createVariable(name, kind, sides, fill_value=fill)
        held.set_auto_maskandscale(False)
        held.setncatts({"grid_mapping": "crs"} | about)
        held[:] = values
        return self

    def done(self):
        self.file.close()
        return open_raster(self.path)


def is_at_home(raster, values):
    grid = raster.grid
    assert (grid.west, grid.north, grid.pixel_x, grid.pixel_y) == pytest.approx((700_000, 5_700_000, 8, 8))
    assert grid.crs.epsg == 32728
    np.testing.assert_allclose(to_numpy(raster, scaled=True)[0], values, rtol=1e-6)
    part = raster.read(Window(7, 11, 20, 13))[0]
    np.testing.assert_array_equal(part, raster.read(grid.window)[0][11:24, 7:27])


MISSING = {
    "two values": ({"fill": -9999, "missing_value": np.int16([-8888, -7777])}, [-9999, -8888, -7777]),
    "a default": ({}, [-32767]),
    "no fill, a least value": ({"fill": False, "valid_min": np.int16(-200)}, [-201, -32768]),
    "a range in true values": (
        {"fill": -9999, "scale_factor": 0.01, "add_offset": -1.0, "valid_range": np.array([-3.0, 24.0])},
        [-9999, 2501, -201],
    ),
    "a range that falls": (
        {"fill": -9999, "scale_factor": -0.01, "add_offset": 0.0, "valid_range": np.array([-24.0, 2.0])},
        [-9999, 2401, -201],
    ),
}  # fmt: skip


@pytest.mark.parametrize("about,codes", MISSING.values(), ids=MISSING)
def test_whatever_stands_for_missing_is_missing(tmp_path, about, codes):
    stored = np.clip(VALUES, -200, 2400)
    for row, code in enumerate(codes):
        stored[row, 5:20] = code
    raster = Writer(tmp_path / "a.nc").add(stored, **about).done()
    scale, offset = about.get("scale_factor", 1.0), about.get("add_offset", 0.0)
    is_at_home(raster, np.where(np.isin(stored, codes), np.nan, stored * scale + offset))


def test_numbers_are_unsigned_where_the_variable_says_so(tmp_path):
    words = noise((ROWS, COLS), "uint16", 0, 65000)
    words[3, 4], words[5, 6] = 65535, 40000
    raster = Writer(tmp_path / "a.nc").add(words.view("i2"), _Unsigned="true", fill=np.int16(-1)).done()
    assert raster.dtype == np.uint16 and raster.nodata == 65535
    is_at_home(raster, np.where(words == 65535, np.nan, words))
    small = noise((ROWS, COLS), "uint8", 0, 255)
    is_at_home(Writer(tmp_path / "b.nc").add(small.view("i1"), "i1", _Unsigned="true").done(), small)


@pytest.mark.parametrize("turn", ["south up", "mirrored", "columns first", "all of it"])
def test_rows_and_columns_lie_where_their_coordinates_say(tmp_path, turn):
    flip_y, flip_x = turn in ("south up", "all of it"), turn in ("mirrored", "all of it")
    values = VALUES[:: -1 if flip_y else 1, :: -1 if flip_x else 1]
    sides = ("x", "y") if turn in ("columns first", "all of it") else ("y", "x")
    writer = Writer(tmp_path / "a.nc", X[:: -1 if flip_x else 1], Y[:: -1 if flip_y else 1])
    raster = writer.add(values.T if sides == ("x", "y") else values, sides=sides).done()
    is_at_home(raster, VALUES)
    is_at_home(pickle.loads(pickle.dumps(raster)), VALUES)


def test_coordinates_may_be_packed_or_in_kilometres_and_a_system_without_its_text(tmp_path):
    writer = Writer(tmp_path / "a.nc", X / 1000, Y / 1000, unit="km", wkt=False)
    is_at_home(writer.add(VALUES).done(), VALUES)
    is_at_home(Writer(tmp_path / "b.nc", wkt=False, step=8).add(VALUES).done(), VALUES)


def test_a_satellite_that_stands_still_sees_by_angles(tmp_path):
    seen = pyproj.CRS("+proj=geos +h=35786023 +lon_0=-75 +sweep=x +ellps=GRS80 +units=m")
    xs, ys = -0.05 + 56e-6 * np.arange(COLS), 0.1 - 56e-6 * np.arange(ROWS)
    raster = Writer(tmp_path / "a.nc", xs, ys, "rad", seen, wkt=False).add(VALUES).done()
    lon, lat = pyproj.Transformer.from_crs(seen, 4326, always_xy=True).transform(xs[30] * 35786023, ys[20] * 35786023)
    grid = raster.grid
    here = pyproj.Transformer.from_crs(4326, pyproj.CRS.from_wkt(grid.crs.wkt2), always_xy=True).transform(lon, lat)
    assert ((here[0] - grid.west) / grid.pixel_x, (grid.north - here[1]) / grid.pixel_y) == pytest.approx(
        (30.5, 20.5)
    )
    assert "eostationary" in str(grid.crs)


def test_degrees_from_0_to_360_and_single_floats_lie_where_they_mean(tmp_path):
    lon, lat = (
        (348 + 0.01 * (np.arange(COLS) + 0.5)).astype("f4"),
        (-38 - 0.01 * (np.arange(ROWS) + 0.5)).astype("f4"),
    )
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, line, unit in (("lat", lat, "degrees_north"), ("lon", lon, "degrees_east")):
            file.createDimension(name, len(line))
            held = file.createVariable(name, "f4", (name,))
            held.units = unit
            held[:] = line
        file.createVariable("sst", "f4", ("lat", "lon"))[:] = VALUES
    grid = open_raster(tmp_path / "a.nc").grid
    assert (grid.west, grid.north, grid.pixel_x) == pytest.approx((-12, -38, 0.01), abs=1e-9)


def test_a_dimension_of_depths_is_layers_and_one_may_be_chosen_in_the_address(tmp_path):
    cube = noise((2, 3, ROWS, COLS), "int16", 0, 3000)
    writer = Writer(tmp_path / "sea.nc")
    for name, line, unit in (("time", [0, 1], "days since 2026-01-01"), ("depth", [0, 10, 50], "m")):
        writer.file.createDimension(name, len(line))
        writer.line(name, line, units=unit, standard_name=name)
    writer.add(cube, sides=("time", "depth", "y", "x"), name="warmth").add(VALUES).done()
    everything = open_layers([tmp_path / "sea.nc"])
    assert [one.name for one in everything] == ["red", *(f"warmth_{n:03d}" for n in range(1, 7))]
    (one,) = open_layers([tmp_path / "sea.nc#warmth?time=1&depth=10"])
    assert one.name == "warmth"
    np.testing.assert_array_equal(one.raster.read(one.raster.grid.window)[0], cube[1, 1])
    again = pickle.loads(pickle.dumps(one.raster))
    np.testing.assert_array_equal(again.read(one.raster.grid.window)[0], cube[1, 1])
    with pytest.raises(UsageError, match="no place 20") as found:
        variables_of(source_of(tmp_path / "sea.nc#warmth?depth=20"))
    assert "There are 0, 10, 50" in found.value.todo
    with pytest.raises(UnknownNameError, match="variable called 'cold'"):
        variables_of(source_of(tmp_path / "sea.nc#cold"))
    with pytest.raises(UnknownNameError, match="dimension called 'deep'"):
        variables_of(source_of(tmp_path / "sea.nc#warmth?deep=1"))


def test_bands_behind_the_columns_and_variables_in_groups_are_found(tmp_path):
    writer = Writer(tmp_path / "a.nc")
    writer.file.createDimension("band", 3)
    writer.add(np.stack([VALUES, VALUES + 1, VALUES + 2], 2), sides=("y", "x", "band"), name="light")
    group = writer.file.createGroup("deep").createGroup("deeper")
    writer.add(VALUES + 7, name="nir", where=group).done()
    found = {one.bands[0].name: one for one in variables_of(source_of(tmp_path / "a.nc"))}
    assert sorted(found) == ["light_001", "light_002", "light_003", "nir"]
    is_at_home(found["light_003"], VALUES + 2)
    is_at_home(found["nir"], VALUES + 7)


def test_a_classic_netcdf_file_is_read_also_where_it_is_no_file(tmp_path):
    with scipy.io.netcdf_file(tmp_path / "a.nc", "w") as file:
        for name, line in (("y", Y), ("x", X)):
            file.createDimension(name, len(line))
            held = file.createVariable(name, "d", (name,))
            held[:] = line
            held.units, held.standard_name = "m", f"projection_{name}_coordinate"
        file.createVariable("crs", "i", ()).epsg_code = "EPSG:32728"
        held = file.createVariable("red", "h", ("y", "x"))
        held.grid_mapping, held.missing_value = "crs", np.int16(-300)
        held[:] = VALUES
    wanted = np.where(VALUES == -300, np.nan, VALUES)
    raster = open_raster(tmp_path / "a.nc")
    is_at_home(raster, wanted)

    class Held:
        data = (tmp_path / "a.nc").read_bytes()
        address, size, identity = "a.nc", len(data), raster.parts[0].identity

        def read(self, offset, length):
            return self.data[offset : offset + length]

    is_at_home(open_raster(Held()), wanted)
    (tmp_path / "five.nc").write_bytes(b"CDF\x05" + bytes(60))
    with pytest.raises(FormatError, match="CDF-5"):
        open_raster(tmp_path / "five.nc")


def uneven(path, lat, lon, values, kind="f4"):
    with netCDF4.Dataset(path, "w") as file:
        for name, line, unit in (("lat", lat, "degrees_north"), ("lon", lon, "degrees_east")):
            file.createDimension(name, len(line))
            held = file.createVariable(name, "f8", (name,))
            held.units = unit
            held[:] = line
        file.createVariable("sst", kind, ("lat", "lon"), fill_value=-999)[:] = values
    return open_raster(path)


@pytest.mark.parametrize("rows", [800, 1500])
def test_rows_at_uneven_steps_lie_at_their_true_places(tmp_path, rows):
    """Rows at even steps of Mercator: a smooth value of latitude stands at that latitude, within 0.1 px."""
    even = 48.0 + 0.003 * np.arange(rows)
    lat = np.degrees(2 * np.arctan(np.exp(np.radians(even))) - np.pi / 2)
    lon = 0.003 * np.arange(50)
    raster = uneven(tmp_path / "a.nc", lat, lon, np.broadcast_to((lat * 1000)[:, None], (rows, 50)), "f8")
    assert "uneven steps" in raster.notes[0]
    grid = raster.grid
    true = grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y
    shown = raster.read(grid.window)[0][:, 20] / 1000
    valid = shown > 0
    inner = valid & (true > lat[0]) & (true < lat[-1])
    assert inner.sum() > 0.95 * rows and np.abs(shown - true)[inner].max() < 0.1 * grid.pixel_y
    zone = Grid.snapped(resampled_bounds(grid), pyproj_crs(32631), 300)
    carried = resampled_to(raster, zone)
    xs = zone.west + (np.arange(zone.width) + 0.5) * zone.pixel_x
    ys = zone.north - (np.arange(zone.height) + 0.5) * zone.pixel_y
    _, lats = pyproj.Transformer.from_crs(32631, 4326, always_xy=True).transform(*np.meshgrid(xs, ys))
    got = carried.read(zone.window)[0] / 1000
    seen = got > 0
    assert seen.any() and np.abs(got - lats)[seen].max() < 0.5 * grid.pixel_y


def resampled_bounds(grid):
    """A box inside a grid in degrees, in UTM zone 31."""
    from zoompick.geo.bounds import Bounds

    lons, lats = [0.02, 0.12], [grid.bounds.south + 0.2, grid.bounds.south + 0.5]
    xs, ys = pyproj.Transformer.from_crs(4326, 32631, always_xy=True).transform(lons, lats)
    return Bounds(xs[0], ys[0], xs[1], ys[1])


def pyproj_crs(number):
    from zoompick.geo.crs import Crs

    return Crs(number)


def test_gaps_between_rows_stay_gaps_and_coordinates_that_turn_back_are_refused(tmp_path):
    lat = np.concatenate([-38 - 0.01 * np.arange(20), -38.5 - 0.01 * np.arange(20)])
    lon = -12 + 0.01 * np.arange(30) + 0.003 * (np.arange(30) % 2)
    values = np.broadcast_to(lat[:, None] + lon, (40, 30))
    raster = uneven(tmp_path / "a.nc", lat, lon, values, "f8")
    grid = raster.grid
    ys, xs = (
        grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y,
        grid.west + (np.arange(grid.width) + 0.5) * grid.pixel_x,
    )
    got = to_numpy(raster, scaled=True)[0]
    gap, there = (ys < -38.2) & (ys > -38.49), (ys > -38.195) | ((ys < -38.495) & (ys > -38.69))
    assert gap.any() and np.isnan(got[gap]).all() and np.isfinite(got[there][:, 1:-1]).all()
    inner = (((ys > -38.19) & (ys < -38.0)) | ((ys < -38.5) & (ys > -38.69)))[:, None] & (
        (xs > lon[0]) & (xs < lon[-1])
    )
    plane = scipy.interpolate.RegularGridInterpolator((lat[::-1], lon), values[::-1])
    wanted = plane(np.stack(np.meshgrid(ys, xs, indexing="ij"), -1)[inner])
    np.testing.assert_allclose(got[inner], wanted, atol=1e-4)
    lat[5] = lat[3]
    with pytest.raises(FormatError, match="turn back"):
        uneven(tmp_path / "b.nc", lat, lon, values)


def swath_places(middle, rows=60, cols=50, px=1000):
    """Longitude and latitude of a swath, by geodesics from its track."""
    geod = pyproj.Geod(ellps="WGS84")
    lon, lat, _ = geod.fwd(
        np.full(rows, middle[0]), np.full(rows, middle[1]), np.full(rows, 192.0), np.arange(rows) * px
    )
    off = (np.arange(cols) - (cols - 1) / 2) * px
    out = [geod.fwd(np.full(cols, a), np.full(cols, b), np.where(off >= 0, 282.0, 102.0), np.abs(off))[:2]
           for a, b in zip(lon, lat, strict=True)]  # fmt: skip
    return np.stack([one[0] for one in out]), np.stack([one[1] for one in out])


def add_swath(group, lon, lat, suffix="", value="lonv", name_them=True):
    for name, line, unit in ((f"lat{suffix}", lat, "degrees_north"), (f"lon{suffix}", lon, "degrees_east")):
        held = group.createVariable(name, "i4", ("row", "col"), fill_value=-(2**31))
        held.scale_factor, held.units = 1e-6, unit
        held[:] = line
    held = group.createVariable(value, "f4", ("row", "col"), fill_value=-999.0)
    if name_them:
        held.coordinates = f"lon{suffix} lat{suffix}"
    held[:] = lon


def is_where_it_says(raster):
    """A swath of its own longitudes: each pixel shows that of where it lies, within the radius."""
    grid = raster.grid
    xs = grid.west + (np.arange(grid.width) + 0.5) * grid.pixel_x
    ys = grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y
    lon, lat = pyproj.Transformer.from_crs(grid.crs.epsg, 4326, always_xy=True).transform(*np.meshgrid(xs, ys))
    got = raster.read(grid.window)[0].astype(float)
    seen = got != -999
    away_km = ((got - lon + 180) % 360 - 180) * 111.32 * np.cos(np.radians(lat))
    assert seen.sum() > 1900 and np.abs(away_km[seen]).max() < 1.6


@pytest.mark.parametrize("name_them", [True, False])
def test_each_swath_lies_by_the_packed_places_that_it_names_or_that_are_nearest(tmp_path, name_them):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, middle in (("one", (-10, -35)), ("two", (15, -20)), ("far", (179.9, -17))):
            group = file.createGroup(name)
            group.createDimension("row", 60)
            group.createDimension("col", 50)
            add_swath(group, *swath_places(middle), value=f"v_{name}", name_them=name_them)
    found = variables_of(source_of(tmp_path / "a.nc"))
    assert sorted(one.bands[0].name for one in found) == ["v_far", "v_one", "v_two"]
    for one in found:
        is_where_it_says(one)


def test_two_pairs_of_places_in_one_group_are_told_by_name_and_not_guessed(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.createDimension("row", 60)
        file.createDimension("col", 50)
        add_swath(file, *swath_places((-10, -35)), value="first")
        add_swath(file, *swath_places((-9.8, -34.9)), "_b", "second")
        file.createVariable("stray", "f4", ("row", "col"))[:] = 1.0
    found = variables_of(source_of(tmp_path / "a.nc"))
    assert sorted(one.bands[0].name for one in found) == ["first", "second"], "which pair 'stray' means nothing tells"
    for one in found:
        is_where_it_says(one)


def test_a_swath_over_a_pole_lies_on_a_polar_grid(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        file.createDimension("row", 60)
        file.createDimension("col", 50)
        add_swath(file, *swath_places((20, -89.8)))
    (one,) = variables_of(source_of(tmp_path / "a.nc"))
    assert one.grid.crs.epsg == 32761 and one.grid.width * one.grid.height < 12_000
    is_where_it_says(one)


def test_lines_of_coordinates_that_no_dimension_names_place_what_lies_beside_or_below_them(tmp_path):
    with h5py.File(tmp_path / "a.h5", "w") as file:
        file["lat"], file["lon"] = -38 - 0.01 * np.arange(ROWS), -12 + 0.01 * np.arange(COLS)
        file["deep/sst"] = VALUES
        file["deep/odd"] = VALUES[:-1]
    (one,) = variables_of(source_of(tmp_path / "a.h5"))
    assert one.bands[0].name == "sst" and one.grid.north == pytest.approx(-37.995)
    np.testing.assert_array_equal(one.read(one.grid.window)[0], VALUES)


def test_what_is_no_colour_is_drawn_with_a_scale_in_its_unit(program, tmp_path):
    cube = noise((3, ROWS, COLS), "int16", 0, 3000)
    writer = Writer(tmp_path / "sea.nc")
    writer.file.createDimension("depth", 3)
    writer.line("depth", [0, 10, 50], units="m", standard_name="depth")
    writer.add(cube, sides=("depth", "y", "x"), name="warmth", scale_factor=0.01, add_offset=280.0, units="K").done()
    drawn = program("picture", "sea.nc", "--out", "a.png")
    assert drawn.code == 0 and "holds 3 bands that make no colour: warmth_001 is shown" in drawn.err, drawn.err
    made = program("composite", "sea.nc#warmth?depth=10", "--out", "b")
    assert made.code == 0 and "is drawn in b.png with a scale of warmth, K" in " ".join(made.err.split()), made.err
    legend = shown(tmp_path / "sea.nc#warmth?depth=10", 400).legend
    assert legend.label == "warmth, K" and 280 <= legend.low < legend.high <= 310
    refused = program("composite", "sea.nc", "--recipe", "natural")
    assert refused.code == 2 and "no band called 'red'" in refused.err
