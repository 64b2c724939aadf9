"""Reading GeoTIFFs that another library wrote, in every layout."""

from __future__ import annotations

import pickle
import struct

import numpy as np
import pytest
import tifffile

from helpers import foreign_tiff, geo_tags, grid, noise
from zoompick.errors import DataError, FormatError, MissingFileError
from zoompick.raster.grid import Window
from zoompick.raster.opening import open_raster

PLACE = grid(90, 70)
LAYOUTS = {
    "strips": {"rowsperstrip": 7},
    "one strip": {"rowsperstrip": 70},
    "tiles": {"tile": (32, 48)},
    "interleaved strips": {"rowsperstrip": 16, "interleaved": True},
    "interleaved tiles": {"tile": (16, 32), "interleaved": True},
    "big-endian": {"tile": (32, 32), "byteorder": ">"},
    "bigtiff": {"tile": (32, 32), "bigtiff": True},
}
CODECS = {
    "none": None,
    "deflate": "zlib",
    "old deflate": "adobe_deflate",
    "lzw": "lzw",
    "zstd": "zstd",
    "packbits": "packbits",
}
TYPES = ("uint8", "int16", "uint16", "uint32", "int32", "float32", "float64")


def check(path, pixels):
    raster = open_raster(path)
    assert raster.grid == PLACE
    assert raster.dtype == pixels.dtype
    np.testing.assert_array_equal(raster.read(raster.grid.window), pixels)
    window = Window(13, 9, 50, 40)
    np.testing.assert_array_equal(raster.read(window, (1,)), pixels[1:2, 9:49, 13:63])


@pytest.mark.parametrize("layout", LAYOUTS)
@pytest.mark.parametrize("codec", CODECS)
def test_layouts_and_codecs(tmp_path, layout, codec):
    pixels = noise((3, 70, 90))
    options = dict(LAYOUTS[layout])
    if CODECS[codec] and codec not in ("packbits",):
        options["predictor"] = 2
    check(foreign_tiff(tmp_path / "a.tif", pixels, PLACE, compression=CODECS[codec], **options), pixels)


@pytest.mark.parametrize("dtype", TYPES)
@pytest.mark.parametrize("predictor", [1, 2, 3])
def test_types_and_predictors(tmp_path, dtype, predictor):
    is_float = np.dtype(dtype).kind == "f"
    if (predictor == 3) != is_float and predictor != 1:
        predictor = 3 if is_float else 2
    pixels = noise((2, 70, 90), dtype, 0, 200)
    for name, layout in (("t", {"tile": (32, 32)}), ("i", {"rowsperstrip": 9, "interleaved": True})):
        path = foreign_tiff(
            tmp_path / f"{name}.tif", pixels, PLACE, compression="zlib", predictor=predictor, **layout
        )
        check(path, pixels)


def test_floating_predictor_in_a_big_endian_file(tmp_path):
    pixels = noise((2, 70, 90), "float32")
    path = foreign_tiff(
        tmp_path / "a.tif", pixels, PLACE, compression="zlib", predictor=3, tile=(32, 32), byteorder=">"
    )
    check(path, pixels)


@pytest.mark.parametrize("kind", [{}, {"point": True}, {"transformation": True}])
def test_georeference_in_its_three_forms(tmp_path, kind):
    path = foreign_tiff(tmp_path / "a.tif", noise((1, 70, 90)), PLACE, tags=geo_tags(PLACE, **kind))
    assert open_raster(path).grid == PLACE


def test_windows_beyond_the_edge_are_no_data(tmp_path):
    pixels = noise((1, 70, 90))
    raster = open_raster(foreign_tiff(tmp_path / "a.tif", pixels, PLACE, nodata="0", tile=(32, 32)))
    got = raster.read(Window(-5, -6, 200, 100))
    expected = np.zeros((1, 100, 200), "uint16")
    expected[:, 6:76, 5:95] = pixels
    np.testing.assert_array_equal(got, expected)
    assert raster.read(Window(500, 500, 4, 4)).tolist() == [[[0] * 4] * 4]


@pytest.mark.parametrize(("text", "value"), [("0", 0), ("-9999", -9999), ("1e3", 1000), ("", None), ("junk", None)])
def test_no_data_tag(tmp_path, text, value):
    path = foreign_tiff(tmp_path / "a.tif", noise((1, 70, 90), "int16"), PLACE, nodata=text)
    assert open_raster(path).nodata == value


def test_nan_as_no_data(tmp_path):
    assert np.isnan(
        open_raster(foreign_tiff(tmp_path / "a.tif", noise((1, 70, 90), "float32"), PLACE, nodata="nan")).nodata
    )


def test_overviews_are_levels(tmp_path):
    path = tmp_path / "a.tif"
    full = noise((64, 96))
    with tifffile.TiffWriter(path) as tiff:
        tiff.write(full, tile=(32, 32), extratags=geo_tags(grid(96, 64)), metadata=None)
        tiff.write(full[::4, ::4], tile=(16, 16), subfiletype=1, metadata=None)
        tiff.write(full[::2, ::2], tile=(16, 16), subfiletype=1, metadata=None)
    raster = open_raster(path)
    assert [level.width for level in raster.levels] == [96, 48, 24]
    assert [level.pixel_x for level in raster.levels] == [8, 16, 32]
    np.testing.assert_array_equal(raster.read(Window(3, 3, 20, 20), level=1)[0], full[::2, ::2][3:23, 3:23])


def test_a_raster_is_pickled_by_its_address(tmp_path):
    pixels = noise((2, 70, 90))
    raster = pickle.loads(pickle.dumps(open_raster(foreign_tiff(tmp_path / "a.tif", pixels, PLACE), ("x", "y"))))
    assert [band.name for band in raster.bands] == ["x", "y"]
    np.testing.assert_array_equal(raster.read(raster.grid.window), pixels)


def test_what_is_read_cannot_spoil_later_reads(tmp_path):
    pixels = noise((1, 64, 64))
    raster = open_raster(foreign_tiff(tmp_path / "a.tif", pixels, grid(64, 64), tile=(64, 64), compression="zlib"))
    once = raster.read(raster.grid.window)
    with pytest.raises(ValueError, match="read-only"):
        once[...] = 0
    np.testing.assert_array_equal(raster.read(raster.grid.window), pixels)


def test_a_block_of_no_length_is_no_data(tmp_path):
    path = foreign_tiff(
        tmp_path / "a.tif", noise((1, 64, 64)), grid(64, 64), nodata="7", tile=(32, 32), compression="zlib"
    )
    with tifffile.TiffFile(path) as tiff:
        tag = tiff.pages[0].tags[325]
        place = tag.valueoffset
    data = bytearray(path.read_bytes())
    struct.pack_into("<H" if tag.dtype == 3 else "<I", data, place, 0)
    path.write_bytes(data)
    got = open_raster(path).read(Window(0, 0, 64, 64))
    assert (got[0, :32, :32] == 7).all()
    assert (got[0, 32:, 32:] != 7).any()


BROKEN = {
    "text": (b"I am a text file.\n", FormatError, "no raster of a kind"),
    "empty": (b"", FormatError, "no raster of a kind"),
    "magic only": (b"II*\0", FormatError, "cannot be read"),
    "directory far away": (b"II*\0" + struct.pack("<I", 4_000_000_000), FormatError, "cannot be read"),
    "directory of zeros": (b"II*\0" + struct.pack("<I", 8) + bytes(64), FormatError, "has no pixels"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_broken_files_are_told_in_a_sentence(tmp_path, name):
    data, kind, words = BROKEN[name]
    path = tmp_path / "a.tif"
    path.write_bytes(data)
    with pytest.raises(kind, match=words):
        open_raster(path)


def test_missing_file(tmp_path):
    with pytest.raises(MissingFileError, match="There is no file"):
        open_raster(tmp_path / "none.tif")


def test_a_cut_file_fails_where_it_is_cut_and_only_there(tmp_path):
    path = foreign_tiff(tmp_path / "a.tif", noise((1, 64, 64)), grid(64, 64), tile=(32, 32))
    path.write_bytes(path.read_bytes()[:-100])
    raster = open_raster(path)
    raster.read(Window(0, 0, 32, 32))
    with pytest.raises(DataError, match="cut short"):
        raster.read(Window(32, 32, 32, 32))


@pytest.mark.parametrize("codec", ["zlib", "lzw", "zstd"])
def test_damaged_blocks_are_found(tmp_path, codec):
    path = foreign_tiff(tmp_path / "a.tif", noise((1, 64, 64)), grid(64, 64), tile=(64, 64), compression=codec)
    with tifffile.TiffFile(path) as tiff:
        offset, count = tiff.pages[0].dataoffsets[0], tiff.pages[0].databytecounts[0]
    data = bytearray(path.read_bytes())
    data[offset + count // 2 : offset + count] = bytes(count - count // 2)
    path.write_bytes(data)
    with pytest.raises(DataError, match="does not decode"):
        open_raster(path).read(Window(0, 0, 64, 64))


def test_absurd_block_sizes_are_refused_before_memory_is_taken(tmp_path):
    path = foreign_tiff(tmp_path / "a.tif", noise((1, 64, 64)), grid(64, 64), tile=(32, 32))
    with tifffile.TiffFile(path) as tiff:
        places = [tiff.pages[0].tags[code].valueoffset for code in (322, 323)]
        kinds = [tiff.pages[0].tags[code].dtype for code in (322, 323)]
    data = bytearray(path.read_bytes())
    for place, kind in zip(places, kinds, strict=True):
        struct.pack_into("<H" if kind == 3 else "<I", data, place, 65520)
    path.write_bytes(data)
    with pytest.raises(FormatError, match=r"claims blocks|lists \d+ blocks"):
        open_raster(path)


def test_a_tiff_without_place_or_with_an_unnamed_system_is_refused(tmp_path):
    plain = tmp_path / "plain.tif"
    tifffile.imwrite(plain, noise((70, 90)))
    with pytest.raises(FormatError, match="without a georeference"):
        open_raster(plain)
    unnamed = [(34735, "H", 12, (1, 1, 0, 2, 1024, 0, 1, 1, 3072, 0, 1, 32767), True), *geo_tags(PLACE)[1:]]
    with pytest.raises(FormatError, match="EPSG number"):
        open_raster(foreign_tiff(tmp_path / "u.tif", noise((1, 70, 90)), PLACE, tags=unnamed))
    nowhere = geo_tags(PLACE)[:1]
    with pytest.raises(FormatError, match="not where its pixels lie"):
        open_raster(foreign_tiff(tmp_path / "n.tif", noise((1, 70, 90)), PLACE, tags=nowhere))
