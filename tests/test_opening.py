"""The one opener: every kind of address gives the same raster; rasters are values that travel."""

from __future__ import annotations

import gzip
import multiprocessing
import os
import pickle
import tarfile
import zipfile
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import pytest
from pyproj import CRS

from badserver import BODY, Handler, serving
from helpers import Memory, corner_sum, foreign_tiff, grid, noise
from zoompick import to_numpy, to_xarray
from zoompick.errors import DataError, FormatError, MissingFileError, SourceError, UnknownNameError, UsageError
from zoompick.geo.tilegrid import TileKey
from zoompick.net.client import Client
from zoompick.net.ranges import RemoteFile
from zoompick.raster import blockcache
from zoompick.raster.grid import Window
from zoompick.raster.ongrid import OnGrid
from zoompick.raster.raster import Band
from zoompick.raster.tilepicture import TilePicture
from zoompick.raster.write import write_geotiff
from zoompick.scenes.opening import open_raster
from zoompick.tiles.tiles import StoredTiles
from zoompick.tiles.tilestore import TileStore

PIXELS = noise((2, 300, 400))


@pytest.fixture
def addresses(tmp_path, monkeypatch):
    """The same raster on disk, in archives, and on a web server; names that tell nothing of the format."""
    monkeypatch.chdir(tmp_path)
    plain = foreign_tiff(tmp_path / "plain.dat", PIXELS, grid(400, 300), nodata="0", tile=(64, 64))
    with zipfile.ZipFile("two.zip", "w") as archive:
        archive.writestr("other.txt", b"no raster" * 99)
        archive.write(plain, "in/stored.dat")
        archive.write(plain, "in/deflated.dat", zipfile.ZIP_DEFLATED)
    with tarfile.open("one.tar", "w") as archive:
        archive.add(plain, "in/plain.dat")
    (tmp_path / "one.tar.gz").write_bytes(gzip.compress((tmp_path / "one.tar").read_bytes()))
    with serving() as url:
        Handler.files.update({"/good/a": plain.read_bytes(), "/dates/a.zip": (tmp_path / "two.zip").read_bytes()})
        yield {
            "a path": plain, "a relative path": "plain.dat", "stored in a zip": "two.zip#in/stored.dat",
            "deflated in a zip": "two.zip#in/deflated.dat", "in a tar": tmp_path / "one.tar#in/plain.dat",
            "in a compressed tar": "one.tar.gz#in/plain.dat", "on a server": f"{url}/good/a",
            "in a zip on a server": f"{url}/dates/a.zip#in/stored.dat",
        }  # fmt: skip


def test_every_address_gives_the_same_pixels_here_and_in_other_processes(addresses):
    with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as pool:
        for kind, address in addresses.items():
            raster, again = open_raster(address), open_raster(address)
            np.testing.assert_array_equal(raster.read(Window(50, 60, 70, 60)), PIXELS[:, 60:120, 50:120], kind)
            assert raster == again and hash(raster) == hash(again), kind
            assert pickle.loads(pickle.dumps(raster)) == raster, kind
            assert raster != open_raster(address, ("red", "nir")), kind
            assert pool.submit(corner_sum, raster).result() == PIXELS[:, :64, :64].astype("int64").sum(), kind
    np.testing.assert_array_equal(np.asarray(open_raster(addresses["in a tar"])), PIXELS)
    half = to_numpy(OnGrid(open_raster(addresses["a path"]), grid(200, 150, pixel=16)))
    np.testing.assert_array_equal(half, np.rint(PIXELS.reshape(2, 150, 2, 200, 2).mean(axis=(2, 4))))


def test_blocks_are_decoded_once_for_all_copies(addresses, monkeypatch):
    monkeypatch.setattr(blockcache, "_shared", None)
    first = open_raster(addresses["a path"])
    first.read(Window(0, 0, 100, 100))
    copy = pickle.loads(pickle.dumps(first))
    monkeypatch.setattr("zoompick.raster.geotiff.decoded", None)
    np.testing.assert_array_equal(copy.read(Window(20, 20, 80, 80)), PIXELS[:, 20:100, 20:100])


def test_a_file_that_changed_is_another_raster_and_never_taken_for_the_first(addresses):
    path = addresses["a path"]
    before, packed = open_raster(path), pickle.dumps(open_raster(path))
    foreign_tiff(path, PIXELS + 1, grid(400, 300), nodata="0", tile=(64, 64))
    os.utime(path, ns=(1, 1))
    assert open_raster(path) != before
    np.testing.assert_array_equal(np.asarray(open_raster(path)), PIXELS + 1)
    with pytest.raises(DataError, match="changed while it was read"):
        pickle.loads(packed)


def test_a_remote_file_that_changes_while_it_travels_is_told():
    with serving() as url:
        file = RemoteFile(f"{url}/edited/a.tif", Client())
        assert file.read(0, 4) == BODY[:4] and file.size == len(BODY)
        assert pickle.loads(pickle.dumps(file)).identity == file.identity
        with pytest.raises(SourceError, match="changed at the source"):
            pickle.loads(pickle.dumps(file)).read(500_000, 10)


def test_addresses_that_lead_nowhere_are_told(addresses, tmp_path):
    (tmp_path / "a#b.dat").write_bytes(addresses["a path"].read_bytes())
    assert open_raster("a#b.dat").grid.width == 400
    for address, kind, words in (
        ("none.tif", MissingFileError, "none.tif"),
        ("none.zip#a.tif", MissingFileError, "none.zip"),
        ("two.zip#in/stored.tif", UnknownNameError, "in/stored.dat"),
        ("two.zip#other.txt", FormatError, "no raster of a kind"),
        ("plain.dat#a.tif", FormatError, "no archive"),
        ("two.zip", FormatError, "no raster of a kind"),
    ):
        with pytest.raises(kind, match=words):
            open_raster(address)
    large = Memory(np.broadcast_to(np.uint8(1), (1, 1, 1)), grid(10**6, 10**6))
    with pytest.raises(UsageError, match="Read windows"):
        to_numpy(large)


def test_picture_tiles_travel_by_their_store(tmp_path):
    import imagecodecs

    tile = noise((64, 64, 3), "uint8", 1, 250)
    with TileStore(tmp_path / "a.mbtiles") as store:
        store.put(3, 8, [(TileKey(2, 5), imagecodecs.png_encode(tile))])
        picture = TilePicture(grid(64, 64), (64, 64), StoredTiles(store, 3, 8, TileKey(2, 5)))
        np.testing.assert_array_equal(np.asarray(picture), np.moveaxis(tile, 2, 0))
        with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as pool:
            assert pool.submit(corner_sum, picture).result() == tile.sum()


def test_rasters_become_arrays_in_physical_values_and_with_labels(tmp_path):
    pixels = noise((2, 90, 120))
    pixels[:, 10:20, 30:50] = 0
    place = grid(120, 90)
    bands = (Band("red", 0.0001, -0.1), Band("nir", 0.0001, -0.1))
    write_geotiff(Memory(pixels, place, 0, bands), tmp_path / "a.tif")
    raster, window = open_raster(tmp_path / "a.tif"), Window(25, 5, 40, 30)
    wanted = np.where(pixels == 0, np.nan, pixels * 0.0001 - 0.1)[:, 5:35, 25:65]
    np.testing.assert_allclose(to_numpy(raster, window=window, scaled=True), wanted, atol=1e-6)
    np.testing.assert_array_equal(to_numpy(raster, window=window), pixels[:, 5:35, 25:65])
    told = to_xarray(raster, window=window)
    np.testing.assert_allclose(told.sel(band="nir").values, wanted[1], atol=1e-6)
    assert told.dims == ("band", "y", "x") and told.attrs["grid_mapping"] == "spatial_ref"
    assert (float(told.x[0]), float(told.y[0])) == (place.west + 25.5 * 8, place.north - 5.5 * 8)
    assert CRS.from_wkt(told.spatial_ref.attrs["crs_wkt"]).to_epsg() == place.crs.epsg
    stored = to_xarray(raster, scaled=False)
    assert stored.dtype == "uint16" and stored.attrs["_FillValue"] == 0 and stored.attrs["add_offset"] == [-0.1, -0.1]
    assert float(told.mean()) == pytest.approx(np.nanmean(wanted), rel=1e-5)
