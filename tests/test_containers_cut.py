"""A part of a container is a file of its own: as netCDF4 and h5py write them, each variable against the whole's."""

from __future__ import annotations

import json
from pathlib import Path

import h5py
import netCDF4
import numpy as np
import pytest

from helpers import noise
from strangers import stranger
from test_containers_of_others import COLS, ROWS, VALUES, Writer, X, Y
from test_far_containers import CHUNK, SIDE, ZONE, container, serving
from zoompick.errors import FormatError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT
from zoompick.geo.shapes import bounds_of, box_polygon, project
from zoompick.raster.containercut import ContainerCut
from zoompick.raster.grid import Window
from zoompick.raster.hdf5 import variables_of
from zoompick.raster.opening import open_raster
from zoompick.raster.source import LocalFile

WINDOW = Window(9, 6, 20, 12)


def cut(path: Path, window: Window = WINDOW) -> Path:
    made = ContainerCut.of(LocalFile(path), lambda grid: window)
    target = path.with_name("part" + path.suffix)
    made.write(target)
    return target


def is_a_part(path: Path, window: Window = WINDOW) -> None:
    """Every variable that lies somewhere is that of the whole file in the window, told as there."""
    whole, part = variables_of(LocalFile(path)), variables_of(LocalFile(cut(path, window)))
    assert [one.bands for one in part] == [one.bands for one in whole]
    for ours, theirs in zip(part, whole, strict=True):
        place = theirs.grid.part(window)
        assert ours.grid.bounds.west == pytest.approx(place.bounds.west, abs=0.05 * place.pixel_x)
        assert ours.grid.bounds.north == pytest.approx(place.bounds.north, abs=0.05 * place.pixel_x)
        assert (ours.grid.width, ours.grid.height, ours.nodata) == (window.width, window.height, theirs.nodata)
        np.testing.assert_array_equal(ours.read(ours.grid.window), theirs.read(window))


@pytest.mark.parametrize("turn", [(1, 1), (-1, 1), (1, -1), (-1, -1)])
def test_a_part_is_cut_whatever_way_rows_and_columns_run(tmp_path, turn):
    down, across = turn
    writer = Writer(tmp_path / "a.nc", x=X[::across], y=Y[::down])
    writer.add(VALUES[::down, ::across], fill=-9999, scale_factor=0.01, add_offset=1.0).done()
    is_a_part(tmp_path / "a.nc")


def test_a_part_keeps_layers_groups_packed_places_and_what_lies_on_no_grid(tmp_path):
    writer = Writer(tmp_path / "a.nc", step=8)
    for name, line in (("time", [0, 1]), ("depth", [0, 10, 50])):
        writer.file.createDimension(name, len(line))
        writer.line(name, line, units="m", standard_name=name)
    cube = noise((2, 3, ROWS, COLS), "int16", 0, 3000)
    writer.add(cube, sides=("time", "depth", "y", "x"), name="warmth")
    writer.add(np.moveaxis(cube[0], 0, 2), sides=("y", "x", "depth"), name="light")
    group = writer.file.createGroup("deep").createGroup("deeper")
    writer.add(VALUES + 7, name="nir", where=group)
    writer.file.createVariable("about", str, ())[...] = "kept"
    writer.file.setncatts({"title": "a sea", "geospatial_lat_min": -39.0})
    writer.done()
    is_a_part(tmp_path / "a.nc")
    with netCDF4.Dataset(tmp_path / "part.nc") as made:
        assert made.title == "a sea" and "geospatial_lat_min" not in made.ncattrs()
        assert made["warmth"].dimensions == ("time", "depth", "y", "x") and made["about"][...] == "kept"
        assert made["depth"][:].tolist() == [0, 10, 50] and len(made.dimensions["x"]) == WINDOW.width
        np.testing.assert_array_equal(made["deep/deeper/nir"][:], (VALUES + 7)[6:18, 9:29])


def test_degrees_and_two_grids_are_cut_each_by_its_own_sides(tmp_path):
    with netCDF4.Dataset(tmp_path / "a.nc", "w") as file:
        for name, count, step in (("fine", 80, 0.01), ("coarse", 20, 0.04)):
            group = file.createGroup(name)
            for side, first, way, unit in (
                ("lat", -38.0, -step, "degrees_north"),
                ("lon", -12.5, step, "degrees_east"),
            ):
                group.createDimension(side, count)
                line = group.createVariable(side, "f4", (side,))
                line.units, line[:] = unit, first + way * np.arange(count)
            group.createVariable("warmth", "f4", ("lat", "lon"), zlib=True)[:] = noise((count, count), "float32")
    box = box_polygon(Bounds(-12.3, -38.5, -12.1, -38.3))

    def around(grid):
        return grid.window_of(bounds_of(box))

    made = ContainerCut.of(LocalFile(tmp_path / "a.nc"), around)
    made.write(tmp_path / "b.nc")
    for ours, theirs in zip(*(variables_of(LocalFile(tmp_path / name)) for name in ("b.nc", "a.nc")), strict=True):
        window = around(theirs.grid)
        assert (ours.grid.width, ours.grid.height) == (window.width, window.height)
        assert ours.grid.west == pytest.approx(theirs.grid.part(window).west, abs=1e-4)
        np.testing.assert_array_equal(ours.read(ours.grid.window), theirs.read(window))


def test_what_is_read_is_what_was_told_to_be_read(tmp_path):
    """The stretches hold every byte of the chunks, and little else."""
    data, _ = container()
    (tmp_path / "a.h5").write_bytes(data)
    window = Window(300, 400, 100, 90)
    stretches = ContainerCut.of(LocalFile(tmp_path / "a.h5"), lambda grid: window).stretches()
    chunks = 2 * CHUNK * CHUNK * (4 * 2 + 1)
    assert chunks <= sum(length for _, length in stretches) <= chunks + 3 * 8 * SIDE
    is_a_part(tmp_path / "a.h5", window)


def test_what_cannot_be_cut_is_said(tmp_path):
    from scipy.io import netcdf_file

    with netcdf_file(tmp_path / "old.nc", "w") as old:
        old.createDimension("x", 4)
    lat, lon = np.meshgrid(np.linspace(-38, -39, 40), np.linspace(-12, -11, 50), indexing="ij")
    with h5py.File(tmp_path / "swath.h5", "w") as file:
        for name, values in (("lat", lat), ("lon", lon), ("red", lat * 100)):
            file[name] = values
        file["lat"].attrs["units"], file["lon"].attrs["units"] = "degrees_north", "degrees_east"
        file["red"].attrs["coordinates"] = "lat lon"
    with h5py.File(tmp_path / "told.h5", "w") as file:
        file["red"] = VALUES
        file["red"].attrs.update({"epsg": 32728, "west": 700_000, "north": 5_700_000, "pixel_m": 8})
    for name, why in (("old.nc", "no HDF5"), ("swath.h5", "swath"), ("told.h5", "otherwise than along its sides")):
        with pytest.raises(FormatError, match=why) as found:
            ContainerCut.of(LocalFile(tmp_path / name), lambda grid: WINDOW)
        assert "it is fetched whole" in found.value.what


@pytest.mark.parametrize("is_near", [True, False])
def test_a_window_of_a_far_container_is_downloaded_as_a_container(tmp_path, program, is_near):
    data, values = container()
    west, north = (752_000 + 2400, 5_720_000 - 3200) if is_near else (800_000, 5_600_000)
    box = bounds_of(project(box_polygon(Bounds(west, north - 600, west + 600, north)), LONLAT, ZONE))
    kind = {"type": "application/x-hdf5", "roles": ["data"]}
    with stranger() as here:
        sent = serving(here, {"a.h5": data})
        item = {
            "type": "Feature", "stac_version": "1.0.0", "id": "one", "collection": "c", "links": [],
            "geometry": {"type": "Polygon", "coordinates": [[[-14, -41], [-10, -41], [-10, -37], [-14, -41]]]},
            "bbox": [-14, -41, -10, -37], "properties": {"datetime": "2025-01-01T00:00:00Z"},
            "assets": {"optics": kind | {"href": f"{here.url}/a.h5",
                                         "bands": [{"name": "K3", "eo:common_name": "red"}]}},
        }  # fmt: skip
        found = json.dumps({"type": "FeatureCollection", "features": [item]})
        words = ("download", "-", "--bands", "red", "--window", "--box", box.west, box.south, box.east, box.north)
        done = program(*words, "--to", "here", stdin=found)
    if not is_near:
        assert done.code != 0 and "does not touch the area" in done.err
        return
    assert done.code == 0, done.err
    assert "out of files of 9.5 MB" in done.err and sum(sent) < len(data) / 3, (sum(sent), len(data))
    [path] = (tmp_path / "here").glob("one/*.h5")
    part = open_raster(path)
    band = [one.name for one in part.bands].index("K3")
    col, row = round((part.grid.west - 752_000) / 8), round((5_720_000 - part.grid.north) / 8)
    there = part.read(part.grid.window, [band])[0]
    np.testing.assert_array_equal(there, values["K3"][row : row + there.shape[0], col : col + there.shape[1]])
    checked = program("verify", path, "--checks", "checksum,blocks")
    assert there.shape[0] < 100 and checked.code == 0, checked.out
    stacked = program("stack", path, "--bands", "red", "--out", "s.tif", cwd=tmp_path)
    assert stacked.code == 0, stacked.err
