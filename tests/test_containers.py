"""HDF5 and netCDF files that h5py wrote here: grids, packing, valid ranges, swaths against brute force."""

from __future__ import annotations

import json
import pickle
import subprocess
import sys

import h5py
import numpy as np
import pytest
import urllib3
from pyhdf.SD import SD, SDC

from helpers import noise
from zoompick.errors import FormatError, ZoomPickError
from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.products.stack import build_stack
from zoompick.raster.grid import Grid, Window
from zoompick.raster.hdf5 import variables_of
from zoompick.raster.opening import open_raster
from zoompick.raster.source import LocalFile
from zoompick.scenes.deliveries import open_layers
from zoompick.standin.dunlin import Dunlin
from zoompick.standin.siskin import Siskin
from zoompick.standin.store import Store
from zoompick.standin.tern import Tern

ROWS, COLS = 40, 60


def netcdf(path, values, x, y, mapping=None, attributes=None, axes=None, chunks=True):
    """One variable in a group, with dimension scales along its sides."""
    with h5py.File(path, "w") as file:
        group = file.create_group("science")
        for name, axis, about in (("y", y, (axes or {}).get("y", {})), ("x", x, (axes or {}).get("x", {}))):
            scale = group.create_dataset(name, data=axis)
            scale.attrs.update(about)
            scale.make_scale(name)
        data = group.create_dataset("red", data=values, chunks=chunks, compression="gzip")
        data.dims[0].attach_scale(group["y"])
        data.dims[1].attach_scale(group["x"])
        data.attrs.update(attributes or {})
        if mapping is not None:
            group.create_dataset("crs", data=0).attrs.update(mapping)
            data.attrs["grid_mapping"] = "crs"
    return path


def test_a_cf_grid_with_packing_and_a_valid_range_south_up_in_kilometres(tmp_path):
    values = noise((ROWS, COLS), "int16", 1, 3000)
    values[3, 4], values[10, 11] = -32768, 2999
    x, y = 300.005 + 0.01 * np.arange(COLS), 5700.005 + 0.01 * np.arange(ROWS)
    about = {"scale_factor": 0.01, "add_offset": -1.0, "_FillValue": np.int16(-32768),
             "valid_range": np.array([0, 2500], "i2"), "units": "K"}  # fmt: skip
    crs = Crs(32729)
    path = netcdf(tmp_path / "a.nc", values, x, y, {"crs_wkt": crs.wkt}, about,
                  {"x": {"units": "km"}, "y": {"units": "km"}})  # fmt: skip
    raster = open_raster(path)
    grid = raster.grid
    assert (grid.crs, grid.pixel_x, grid.width, grid.height) == (crs, pytest.approx(10), COLS, ROWS)
    assert (grid.west, grid.north) == pytest.approx((300000, 5700400))
    (band,) = raster.bands
    assert (band.name, band.scale, band.offset, band.unit, raster.nodata) == ("red", 0.01, -1.0, "K", -32768)
    wanted = np.where(values > 2500, -32768, values)[::-1]
    np.testing.assert_array_equal(raster.read(grid.window)[0], wanted)
    padded = np.pad(wanted, 9, constant_values=-32768)
    np.testing.assert_array_equal(raster.read(Window(-4, 30, 20, 15))[0], padded[39:54, 5:25])
    again = pickle.loads(pickle.dumps(raster.parts[0]))
    np.testing.assert_array_equal(again.read(grid.window)[0], wanted)


def test_grids_by_cf_parameters_and_by_degrees(tmp_path):
    values = noise((ROWS, COLS), "float32")
    merc = {"grid_mapping_name": "transverse_mercator", "latitude_of_projection_origin": 0.0,
            "longitude_of_central_meridian": -9.0, "scale_factor_at_central_meridian": 0.9996,
            "false_easting": 500000.0, "false_northing": 10000000.0, "semi_major_axis": 6378137.0,
            "inverse_flattening": 298.257223563}  # fmt: skip
    x, y = 300005 + 10.0 * np.arange(COLS), 5700005 - 10.0 * np.arange(ROWS)
    assert open_raster(netcdf(tmp_path / "a.nc", values, x, y, merc)).grid.crs == Crs(32729)
    lon, lat = -12 + 0.01 * np.arange(COLS), -38 - 0.02 * np.arange(ROWS)
    units = {"x": {"units": "degrees_east"}, "y": {"units": "degrees_north"}}
    grid = open_raster(netcdf(tmp_path / "b.nc", values, lon, lat, axes=units)).grid
    assert grid.crs.epsg == 4326 and (grid.west, grid.north) == pytest.approx((-12.005, -37.99))
    with pytest.raises(FormatError, match="no variable with a place"):
        open_raster(netcdf(tmp_path / "c.nc", values, lon, lat))


def swath(path, shape=(50, 70)):
    rows, cols = np.meshgrid(np.arange(shape[0]), np.arange(shape[1]), indexing="ij")
    lat = -38.0 - 0.007 * rows + 0.001 * cols
    lon = -12.0 + 0.009 * cols + 0.002 * rows
    values = noise(shape, "float32", 280, 300)
    values[5:9, 8:20] = -999
    lat[30, 40] = np.nan
    with h5py.File(path, "w") as file:
        for name, data in (("latitude", lat), ("longitude", lon), ("sst", values)):
            file[name] = data
        file["sst"].attrs["_FillValue"] = np.float32(-999)
    return lon, lat, values


def test_a_swath_takes_what_is_nearest_and_keeps_its_gaps(tmp_path):
    lon, lat, values = swath(tmp_path / "s.h5")
    raster = open_raster(tmp_path / "s.h5")
    assert raster.grid.crs == Crs(32729) or raster.grid.crs == Crs(32728)
    assert "is a swath" in raster.notes[0]
    window = Window(10, 12, 40, 30)
    got = raster.read(window)[0]
    grid = raster.grid
    x = grid.west + (np.arange(10, 50) + 0.5) * grid.pixel_x
    y = grid.north - (np.arange(12, 42) + 0.5) * grid.pixel_y
    lons, lats = transform(*np.meshgrid(x, y), grid.crs, Crs(4326))
    known = np.isfinite(lat)
    east = (lons[..., None] - lon[known]) * np.cos(np.radians(lats[..., None]))
    far = np.hypot(east, lats[..., None] - lat[known]) * 111195
    nearest = far.argmin(axis=-1)
    wanted = np.where(far.min(axis=-1) <= 1.5 * raster.parts[0].swath.pixel_m, values[known][nearest], -999)
    assert (got == wanted).mean() > 0.995 and (got == -999).any()
    (layer,) = [one for one in open_layers([tmp_path / "s.h5"], True) if one.name == "sst"]
    mean = layer.raster.read(window)[0]
    assert np.isfinite(mean).all() and mean[mean != -999].min() >= 280 and (mean[got != -999] != -999).mean() > 0.99


@pytest.mark.parametrize("kind", [Siskin, Tern, Dunlin])
@pytest.mark.slow
def test_the_archives_containers_are_read(tmp_path, shared_cache, kind):
    instrument = kind()
    scene = instrument.scenes()[5]
    instrument.make(scene, "container" if kind is Siskin else "", tmp_path, shared_cache)
    path = next(path for path in tmp_path.iterdir() if path.suffix in (".h5", ".nc"))
    found = {raster.bands[0].name: raster for raster in variables_of(LocalFile(path))}
    with h5py.File(path) as file:
        for name, raster in found.items():
            full = next(p for p in (name, f"vnir/{name}", f"swir/{name}", f"thermal/{name}") if p in file)
            if kind is not Tern:
                np.testing.assert_array_equal(raster.read(raster.grid.window)[0], file[full][...])
    assert len(found) >= {Siskin: 7, Tern: 4, Dunlin: 12}[kind]


@pytest.mark.parametrize("axis", [0, 1, 2])
def test_a_cube_is_as_many_bands_along_whatever_side_its_wavelengths_lie(tmp_path, axis):
    """A spectrum's layers, read by window, against the array; south up, and with places of its pixels too."""
    cube = noise((7, ROWS, COLS), "int16", 1, 3000)
    x, y = 300005 + 10.0 * np.arange(COLS), 5700005 + 10.0 * np.arange(ROWS)
    with h5py.File(tmp_path / "c.nc", "w") as file:
        names, sides = ["y", "x"], [y, x]
        names.insert(axis, "wavelength")
        sides.insert(axis, 400.0 + 100 * np.arange(7))
        data = file.create_dataset("light", data=np.moveaxis(cube, 0, axis), chunks=True)
        for side, (name, values) in enumerate(zip(names, sides, strict=True)):
            scale = file.create_dataset(name, data=values)
            scale.attrs["units"] = "nm" if name == "wavelength" else "m"
            scale.make_scale(name)
            data.dims[side].attach_scale(scale)
        file.create_dataset("crs", data=0).attrs["crs_wkt"] = Crs(32729).wkt
        data.attrs.update({"grid_mapping": "crs", "_FillValue": np.int16(-1)})
    found = variables_of(LocalFile(tmp_path / "c.nc"))
    assert [one.bands[0].name for one in found] == [f"light_{n:03d}" for n in range(1, 8)]
    assert [one.variable.band.wavelength_um for one in found] == pytest.approx(0.4 + 0.1 * np.arange(7))
    for layer, one in enumerate(found):
        np.testing.assert_array_equal(one.read(Window(5, 3, 30, 20))[0], cube[layer, ::-1][3:23, 5:35])
        np.testing.assert_array_equal(pickle.loads(pickle.dumps(one)).read(one.grid.window)[0], cube[layer, ::-1])
    assert len({hash(one) for one in found}) == 7
    whole = open_raster(tmp_path / "c.nc")
    np.testing.assert_array_equal(whole.read(whole.grid.window, (2, 6)), cube[[2, 6], ::-1])


@pytest.mark.slow
def test_the_archives_cube_goes_from_wavelengths_to_a_composite_and_an_index(archive, tmp_path, program):
    """168 narrow bands of the flight; bands are asked for by wavelength, some of them are blind."""
    url = f"{archive}/deliveries/curlew-spectrometer-fen.nc"
    (tmp_path / "cube.nc").write_bytes(urllib3.request("GET", url).data)
    listed = program("bands", "cube.nc", "--json").json["bands"]
    assert len(listed) == 168 and listed[0]["um"] == 0.445 and listed[9]["key"] == "reflectance, wavelength 535 nm"
    done = program("stack", "cube.nc", "--bands", "850nm,0.66um,560nm", "--out", "s")
    assert done.code == 0 and "0.66um is reflectance_022, 0.655 µm" in done.err, done.err
    far = program("stack", "cube.nc", "--bands", "5um", "--out", "t")
    assert far.code == 2 and "The nearest: reflectance_168 2.115" in " ".join(far.err.split())
    formula = "(reflectance_041 - reflectance_022) / (reflectance_041 + reflectance_022)"
    for words in (("composite", "s.tif", "--bands", "reflectance_041,reflectance_022,reflectance_012"),
                  ("index", "s.tif", "--formula", formula, "--out", "n.tif")):  # fmt: skip
        made = program(*words)
        assert made.code == 0, made.err
    with h5py.File(tmp_path / "cube.nc") as file:
        nir, red = (file["reflectance"][layer].astype(float) for layer in (40, 21))
        assert (file["reflectance"][95] == -9999).all(), "blind"
    index = open_raster(tmp_path / "n.tif")
    np.testing.assert_allclose(index.read(index.grid.window)[0], (nir - red) / (nir + red), atol=1e-6)
    every = program("stack", "cube.nc", "--out", "all")
    assert every.code == 0, every.err
    checked = program("verify", "all.tif", "--json")
    (row,) = [row for row in checked.json["findings"] if row["check"] == "bands distinct"]
    assert row["outcome"] == "warn" and "and 26 more hold no data" in row["note"] and row["figure"] == "139 of 168"


def test_damaged_containers_end_in_a_sentence(tmp_path):
    swath(tmp_path / "s.h5")
    whole = (tmp_path / "s.h5").read_bytes()
    rng = np.random.default_rng(5)
    path = tmp_path / "x.h5"
    for number in range(150):
        data = bytearray(whole)
        for place in rng.integers(8, 3000 if number % 2 else len(data), 4):
            data[place] = rng.integers(0, 256)
        path.write_bytes(bytes(data[: rng.integers(9, len(data))] if number % 5 == 0 else data))
        try:
            open_raster(path).read(Window(0, 0, 20, 20))
        except ZoomPickError as error:
            assert str(error)


def test_a_swath_is_laid_on_a_given_grid_straight_from_its_places(tmp_path):
    """Each pixel by the nearest of all places on the globe, with no grid between; large pixels take means."""
    lon, lat, values = swath(tmp_path / "s.h5")
    own = open_raster(tmp_path / "s.h5").grid
    west, north = own.west + 30_000.0, own.north - 20_000.0
    place = Grid(own.crs, 500.0, 500.0, west + 77, north - 33, 24, 18)
    built = build_stack(open_layers([tmp_path / "s.h5"]), ["sst"], place)
    got = built.read(place.window)[0]
    x, y = (place.west + (np.arange(24) + 0.5) * 500, place.north - (np.arange(18) + 0.5) * 500)
    lons, lats = transform(*np.meshgrid(x, y), place.crs, Crs(4326))
    east = (lons[..., None] - lon.ravel()) * np.cos(np.radians(lats[..., None]))
    far = np.nan_to_num(np.hypot(east, lats[..., None] - lat.ravel()), nan=9)
    assert (got == values.ravel()[far.argmin(axis=-1)]).mean() > 0.995
    assert "pixels of 500 m" in built.notes[0] and not any("Resampled" in note for note in built.notes)
    coarse = Grid(own.crs, 4000.0, 4000.0, west, north, 5, 4)
    mean = build_stack(open_layers([tmp_path / "s.h5"]), ["sst"], coarse).read(coarse.window)[0]
    assert np.abs(mean - values[values > 0].mean()).max() < 6, "of 16 and more pixels, not one"


def test_a_swath_becomes_a_stack(tmp_path, program):
    swath(tmp_path / "s.h5")
    done = program("stack", "s.h5", "--bands", "sst", "--swath", "mean", "--out", "sst", cwd=tmp_path)
    assert done.code == 0, done.err
    assert open_raster(tmp_path / "sst.tif").bands[0].name == "sst"
    wrong = program("stack", "s.h5", "--swath", "cubic", "--out", "b", cwd=tmp_path)
    assert wrong.code == 2 and "nearest" in wrong.err


@pytest.mark.parametrize(
    ("kind", "group", "recipe", "bands"),
    [
        (Siskin, "container", "infrared", ("green", "red", "nir")),
        (Dunlin, "", "infrared", ("green", "red", "nir")),
        (Siskin, "", "infrared", ("green", "red", "nir")),
    ],
)
@pytest.mark.slow
def test_instruments_go_from_their_files_to_checked_products(
    tmp_path, shared_cache, program, kind, group, recipe, bands
):
    instrument = kind()
    scene = instrument.scenes()[5]
    instrument.make(scene, group, tmp_path, shared_cache)
    item = instrument.item(scene, "http://127.0.0.1:1", Store(shared_cache))
    (tmp_path / "item.json").write_text(json.dumps(item))
    files = [path.name for path in sorted(tmp_path.iterdir()) if path.suffix in (".h5", ".tif")]
    done = program("stack", *files, "--bands", ",".join(bands), "--out", "s.tif", cwd=tmp_path)
    assert done.code == 0, done.err
    stacked = open_raster(tmp_path / "s.tif")
    assert tuple(band.name for band in stacked.bands) == bands and stacked.bands[0].scale != 1
    for words in (("composite", "s.tif", "--recipe", recipe), ("index", "s.tif", "--recipe", "ndvi,ndwi")):
        made = program(*words, cwd=tmp_path)
        assert made.code == 0, made.err
    ndvi = open_raster(tmp_path / "s-ndvi.tif").read(stacked.grid.window)[0]
    stored = stacked.read(stacked.grid.window).astype(float)
    there = (stored != stacked.nodata).all(axis=0)
    red, nir = (stored[bands.index(n)] * stacked.bands[0].scale + stacked.bands[0].offset for n in ("red", "nir"))
    with np.errstate(all="ignore"):
        wanted = (nir - red) / (nir + red)
    assert there.mean() > 0.3
    np.testing.assert_allclose(ndvi[there & np.isfinite(wanted)], wanted[there & np.isfinite(wanted)], atol=1e-5)
    checked = program("verify", f"s-{recipe}.tif", "s-ndvi.tif", "s-ndwi.tif", "s.tif", cwd=tmp_path)
    assert checked.code == 0, checked.out + checked.err


# HDF4


def hdf4(path, grid_text="", **datasets):
    """A file as the library writes it: values, attributes, names of the sides, scales along them."""
    sd = SD(str(path), SDC.WRITE | SDC.CREATE)
    kinds = {"int16": SDC.INT16, "float32": SDC.FLOAT32, "float64": SDC.FLOAT64, "uint8": SDC.UINT8}
    for name, (values, attributes, sides) in datasets.items():
        sds = sd.create(name, kinds[str(values.dtype)], values.shape)
        for key, value in attributes.items():
            sds.attr(key).set(SDC.FLOAT64 if isinstance(value, float) else SDC.INT16, value)
        for number, side in enumerate(sides):
            sds.dim(number).setname(side)
        sds[:] = values
        sds.endaccess()
    if grid_text:
        sd.attr("StructMetadata.0").set(SDC.CHAR8, grid_text)
    sd.end()
    return path


EOS = """GROUP=GridStructure
GROUP=GRID_1
GridName="fen"
XDim=60
YDim=40
UpperLeftPointMtrs=(300000.000000,5700400.000000)
LowerRightMtrs=(300600.000000,5700000.000000)
Projection=GCTP_UTM
ZoneCode=-29
END_GROUP=GRID_1
END_GROUP=GridStructure
"""


def test_hdf5_copies_of_eos_grids_lie_where_their_text_says(tmp_path):
    """The text in a dataset of its own group; what is of another size, or tells its place itself, is left alone."""
    values = noise((ROWS, COLS), "int16", 1, 3000)
    path = tmp_path / "g.he5"
    with h5py.File(path, "w") as file:
        file["HDFEOS INFORMATION/StructMetadata.0"] = np.bytes_(EOS)
        fields = file.create_group("HDFEOS/GRIDS/fen/Data Fields")
        fields.create_dataset("red", data=values, chunks=(16, 16)).attrs["_FillValue"] = np.int16(-3000)
        fields["other"] = values[:-1]
    (red,) = variables_of(LocalFile(path))
    assert (red.grid.crs, red.grid.pixel_x, red.grid.west, red.grid.north) == (Crs(32729), 10, 300000, 5700400)
    np.testing.assert_array_equal(red.read(Window(7, 5, 30, 20))[0], values[5:25, 7:37])
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(red)).read(red.grid.window)[0], values)
    assert red.nodata == -3000 and red.bands[0].name == "red"
    with h5py.File(path, "r+") as file:
        del file["HDFEOS INFORMATION/StructMetadata.0"]
        file["HDFEOS INFORMATION/StructMetadata.0"] = np.bytes_(EOS.replace("GCTP_UTM", "GCTP_MOLL"))
    with pytest.raises(FormatError):
        open_raster(path)


def test_hdf4_grids_swaths_and_both_kinds_of_calibration(tmp_path, program):
    values = noise((ROWS, COLS), "int16", 1, 3000)
    values[3, 4] = -3000
    cf = {"_FillValue": -3000, "scale_factor": 0.0001, "add_offset": 0.05}
    # The library's own: what is stored less the offset, then times the factor.
    own = {"scale_factor": 0.02, "scale_factor_err": 0.0, "add_offset": -500.0, "add_offset_err": 0.0}
    hdf4(tmp_path / "g.hdf", EOS, red=(values, cf, ("YDim", "XDim")), warm=(values, own, ("YDim", "XDim")))
    red, warm = variables_of(LocalFile(tmp_path / "g.hdf"))
    assert (red.grid.crs, red.grid.pixel_x, red.grid.west, red.grid.north) == (Crs(32729), 10, 300000, 5700400)
    np.testing.assert_array_equal(red.read(Window(7, 5, 30, 20))[0], values[5:25, 7:37])
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(red)).read(red.grid.window)[0], values)
    assert (red.nodata, red.bands[0].scale, red.bands[0].offset) == (-3000, 0.0001, 0.05)
    stored = float(values[9, 9])
    assert stored * warm.bands[0].scale + warm.bands[0].offset == pytest.approx(0.02 * (stored + 500))
    wavy = EOS.replace("GCTP_UTM\nZoneCode=-29", "GCTP_SNSOID\nProjParams=(6371007.181,0,0,0,-12030000.0,0,0,0,0)")
    hdf4(tmp_path / "w.hdf", wavy, red=(values, cf, ("YDim", "XDim")))
    (sphere,) = variables_of(LocalFile(tmp_path / "w.hdf"))
    x, y = transform([-12.4], [-38.3], LONLAT, sphere.grid.crs)
    by_hand = 6371007.181 * np.radians([(-12.4 + 12.5) * np.cos(np.radians(-38.3)), -38.3])
    # The formula of the sphere; latitudes of the ellipsoid are taken as they are.
    assert (x[0], y[0]) == pytest.approx(by_hand, abs=0.01) and sphere.grid.west == 300000
    lon, lat = -12 + 0.01 * np.arange(COLS), -38 - 0.02 * np.arange(ROWS)
    hdf4(tmp_path / "d.hdf", lat=(lat, {}, ("lat",)), lon=(lon, {}, ("lon",)), red=(values, cf, ("lat", "lon")))
    (degrees,) = variables_of(LocalFile(tmp_path / "d.hdf"))
    assert degrees.grid.crs.epsg == 4326 and (degrees.grid.west, degrees.grid.north) == pytest.approx(
        (-12.005, -37.99)
    )
    lons, lats, heat = swath(tmp_path / "s.h5")
    hdf4(tmp_path / "s.hdf", Latitude=(lats, {}, "ab"), Longitude=(lons, {}, "ab"),
         sst=(heat.astype("float32"), {"_FillValue": -999.0}, "ab"))  # fmt: skip
    newer, older = (open_raster(tmp_path / name) for name in ("s.h5", "s.hdf"))
    np.testing.assert_array_equal(older.read(older.grid.window), newer.read(newer.grid.window))
    listed = program("bands", "g.hdf", "--json").json["bands"]
    assert [row["band"] for row in listed] == ["red", "warm"]
    made = program("stack", "g.hdf", "--bands", "red", "--out", "r")
    assert made.code == 0, made.err
    assert program("verify", "r.tif").code == 0


def test_hdf4_that_cannot_be_read_is_told(tmp_path):
    hdf4(tmp_path / "n.hdf", red=(noise((ROWS, COLS), "int16"), {}, ("y", "x")))
    with pytest.raises(FormatError, match="no variable with a place"):
        open_raster(tmp_path / "n.hdf")
    hdf4(tmp_path / "g.hdf", EOS, red=(noise((ROWS, COLS), "int16"), {}, ("y", "x")))
    whole = (tmp_path / "g.hdf").read_bytes()
    rng = np.random.default_rng(6)
    for number in range(60):
        data = bytearray(whole)
        for place in rng.integers(4, 1200 if number % 2 else len(data), 4):
            data[place] = rng.integers(0, 256)
        (tmp_path / "x.hdf").write_bytes(bytes(data[: rng.integers(9, len(data))] if number % 5 == 0 else data))
        code = "from zoompick.raster.opening import open_raster as o; r = o('x.hdf'); r.read(r.grid.window)"
        if number % 12 == 0:  # the library may end the process: each in one of its own
            done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True)
            assert done.returncode in (0, 1) and (not done.returncode or "zoompick.errors" in done.stderr), (
                done.stderr
            )
