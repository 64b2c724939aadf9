"""Files written here, read by another library: layout, pixels, overviews, statistics."""

from __future__ import annotations

import hashlib
import multiprocessing
import pickle
import struct
import xml.etree.ElementTree as ET
import zlib
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace

import blake3
import numpy as np
import pytest
import tifffile

from helpers import Memory, foreign_tiff, geo_tags, grid, noise
from zoompick import files
from zoompick.errors import DataError, DiskError, UsageError
from zoompick.events import Advanced, Started
from zoompick.products.formula import Formula
from zoompick.products.index import Index
from zoompick.raster import cog
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opening import open_raster
from zoompick.raster.part import FAR_BELOW
from zoompick.raster.raster import Band, valid_mask
from zoompick.raster.shared import Shared
from zoompick.raster.warp import resampled_to
from zoompick.raster.write import Job, WriteOptions, as_told, write_geotiff, write_together


def halved_by_hand(pixels, nodata):
    """2 x 2 means of the valid pixels, with plain loops' logic in masked arrays."""
    bands, rows, cols = pixels.shape
    data = np.ma.masked_all((bands, rows + rows % 2, cols + cols % 2), "float64")
    data[:, :rows, :cols] = np.ma.masked_equal(pixels, nodata) if nodata is not None else pixels
    groups = data.reshape(bands, (rows + 1) // 2, 2, (cols + 1) // 2, 2)
    return groups.mean(axis=(2, 4))


@pytest.mark.parametrize("compression", ["deflate", "zstd", "lzw", "none"])
@pytest.mark.parametrize("dtype", ["uint8", "uint16", "int32", "float32"])
@pytest.mark.parametrize("is_rgb", [False, True])
def test_pixels_come_back_through_another_reader(tmp_path, compression, dtype, is_rgb):
    pixels = noise((3, 150, 210), dtype, 1, 120)
    options = WriteOptions(side=64, compression=compression, is_rgb=is_rgb)
    write_geotiff(Memory(pixels, grid(210, 150), 0), tmp_path / "a.tif", options)
    with tifffile.TiffFile(tmp_path / "a.tif") as tiff:
        page = tiff.pages[0]
        found = page.asarray()
        assert page.planarconfig == (1 if is_rgb else 2)
        assert page.photometric.name == ("RGB" if is_rgb else "MINISBLACK")
    np.testing.assert_array_equal(np.moveaxis(found, 2, 0) if is_rgb else found, pixels)


@pytest.mark.parametrize(("dtype", "error"), [("uint8", 0), ("int16", 0.5), ("uint16", 0.9), ("float32", 0.02)])
@pytest.mark.parametrize("lie", ["band", "pixel"])
def test_lerc_keeps_its_bound_and_what_is_missing(tmp_path, dtype, error, lie):
    """Another reader finds every value within the bound, no-data as it is, and the figures of what it sees."""
    low = {"uint8": 0, "uint16": 0, "int16": -32768, "float32": FAR_BELOW}[dtype]
    pixels = noise((3, 150, 210), dtype, 1, 120)
    if dtype == "float32":
        pixels += np.random.default_rng(3).random(pixels.shape, "float32")
    pixels[:, 20:60, 30:50] = low
    options = as_told(WriteOptions(side=64), f"lerc={error:g},{lie}")
    written = write_geotiff(Memory(pixels, grid(210, 150), low), tmp_path / "a.tif", options)
    with tifffile.TiffFile(tmp_path / "a.tif") as tiff:
        page = tiff.pages[0]
        assert (page.compression.name, page.planarconfig) == ("LERC", 1 if lie == "pixel" else 2)
        assert float(page.tags["GDAL_NODATA"].value) == low and page.nodata == low
        found = page.asarray()
    found = np.moveaxis(found, 2, 0) if lie == "pixel" else found
    missing = pixels == low
    assert (found[missing] == low).all() and (found[~missing] != low).all()
    off = np.abs(found[~missing].astype("float64") - pixels[~missing])
    assert off.max() <= error + 1e-6 and ((error < 1 and dtype != "float32") or off.max() > 0)
    np.testing.assert_array_equal(open_raster(tmp_path / "a.tif").read(Window(0, 0, 210, 150)), found)
    for band, told in zip(found, written.statistics, strict=True):
        there = band[band != low].astype("float64")
        assert (told.count, told.minimum, told.maximum) == (there.size, there.min(), there.max())
        assert told.mean == pytest.approx(there.mean())


@pytest.mark.parametrize(
    ("text", "words"),
    [("lerc", "takes what values may be off"), ("zstd=2", "takes what values may be off"), ("lerc=-1", "off by '-1'"),
     ("lerc=x", "off by 'x'"), ("deflate,row", "no way for bands")],
)  # fmt: skip
def test_compressions_that_cannot_be_told(text, words):
    with pytest.raises(UsageError, match=words):
        as_told(WriteOptions(), text)


def test_no_data_that_lerc_would_blur_is_refused_or_changed(tmp_path, program):
    worst = Memory(noise((1, 64, 64), "uint16", 1, 900), grid(64, 64), 65535)
    with pytest.raises(UsageError, match="would be mixed up"):
        write_geotiff(worst, tmp_path / "a.tif", as_told(WriteOptions(), "lerc=5"))
    write_geotiff(worst, tmp_path / "a.tif", as_told(WriteOptions(), "lerc=0.5"))
    plain = Memory(worst.pixels, grid(64, 64))
    write_geotiff(plain, tmp_path / "b.tif", as_told(WriteOptions(), "lerc=5"))
    assert np.abs(tifffile.imread(tmp_path / "b.tif").astype(int) - worst.pixels[0]).max() == 5
    holed = noise((1, 64, 64), "float32", 1, 90)
    holed[0, 5:9, 5:9] = np.nan
    foreign_tiff(tmp_path / "f-red.tif", holed, grid(64, 64), nodata="nan")
    for text in ("lerc=0", "lerc=0.1"):
        done = program("stack", "f-red.tif", "--compression", text, "--out", "b", "--overwrite")
        assert done.code == 0, done.err
        raster = open_raster(tmp_path / "b.tif")
        seen = raster.read(Window(0, 0, 64, 64))
        assert raster.nodata == FAR_BELOW and ((seen == FAR_BELOW) == np.isnan(holed)).all()


def test_layout_is_cloud_optimized(tmp_path):
    """OGC 21-026: tiled, directories first, full resolution first among them, smallest overview's data first."""
    write_geotiff(Memory(noise((2, 500, 700)), grid(700, 500), 0), tmp_path / "a.tif", WriteOptions(side=64))
    with tifffile.TiffFile(tmp_path / "a.tif") as tiff:
        pages = list(tiff.pages)
        starts = [min(page.dataoffsets) for page in pages]
        ends = [max(o + c for o, c in zip(p.dataoffsets, p.databytecounts, strict=True)) for p in pages]
        assert [page.subfiletype for page in pages] == [0] + [1] * (len(pages) - 1)
        assert [(p.imagewidth, p.imagelength) for p in pages] == [
            (700, 500),
            (350, 250),
            (175, 125),
            (88, 63),
            (44, 32),
        ]
        assert all(page.is_tiled for page in pages)
        assert max(page.offset for page in pages) < min(starts)
        assert sorted(starts, reverse=True) == starts
        assert all(end <= start for end, start in zip(ends[1:], starts[:-1], strict=True))
        assert ends[0] == (tmp_path / "a.tif").stat().st_size
        rows = pages[0].dataoffsets
        assert list(rows) == sorted(rows)


@pytest.mark.parametrize("dtype", ["uint8", "uint16", "int32", "float32"])
@pytest.mark.parametrize("nodata", [None, 0])
@pytest.mark.parametrize("size", [(150, 210), (129, 257), (64, 64), (65, 1)])
def test_overviews_are_means_of_valid_pixels(tmp_path, dtype, nodata, size):
    pixels = noise((2, *size), dtype, 1, 250)
    if nodata is not None:
        pixels[:, noise(size, "uint8", 0, 4, seed=3) == 0] = nodata
        pixels[:, :40, :40] = nodata
    write_geotiff(Memory(pixels, grid(size[1], size[0]), nodata), tmp_path / "a.tif", WriteOptions(side=64))
    raster = open_raster(tmp_path / "a.tif")
    below = pixels
    for level in range(1, len(raster.levels)):
        expected = halved_by_hand(below, nodata)
        found = raster.read(raster.levels[level].window, None, level)
        if nodata is not None:
            np.testing.assert_array_equal(found == nodata, np.ma.getmaskarray(expected))
        tolerance = 1e-3 if dtype == "float32" else 0.5001
        assert np.abs(np.ma.filled(expected - found, 0)).max() <= tolerance
        below = found


@pytest.mark.parametrize(
    ("dtype", "nodata", "low", "high"),
    [("int16", 0, -5, 5), ("int16", -9999, -10002, -9996), ("uint8", 100, 97, 103), ("uint16", 7, 6, 8),
     ("int32", 0, -4, 4), ("float32", 0.0, -0.25, 0.25), ("float32", -9999.0, -10000.5, -9997.5),
     ("float64", 2.0, 1.5, 2.5)],
)  # fmt: skip
def test_no_mean_of_pixels_that_are_all_there_counts_as_missing(tmp_path, dtype, nodata, low, high):
    """Two values lie as far below the no-data value as above it; overviews, and what is warped from them."""
    odd = np.add.outer(np.arange(600), np.arange(500)) % 2 == 0
    pixels = np.where(odd, low, high).astype(dtype)[np.newaxis]
    write_geotiff(Memory(pixels, grid(500, 600), nodata, (Band("a"),)), tmp_path / "a.tif", WriteOptions(side=64))
    raster = open_raster(tmp_path / "a.tif")
    assert len(raster.levels) > 3
    for level, place in enumerate(raster.levels):
        found = raster.read(place.window, level=level)
        assert valid_mask(found, raster.nodata).all(), level
        assert low <= found.min() <= found.max() <= high
    far = resampled_to(raster, Grid.snapped(raster.grid.bounds, raster.grid.crs, 30 * raster.grid.pixel_x))
    assert valid_mask(far.read(Window(1, 1, far.grid.width - 2, far.grid.height - 2)), far.nodata).all()


def test_class_overviews_hold_only_classes(tmp_path):
    pixels = np.where(noise((1, 128, 128), "uint8", 0, 10) < 3, 1, 5).astype("uint8")
    write_geotiff(Memory(pixels, grid(128, 128), 0), tmp_path / "a.tif", WriteOptions(side=64, is_class=True))
    half = open_raster(tmp_path / "a.tif").read(Window(0, 0, 64, 64), None, 1)[0]
    ones = (pixels[0].reshape(64, 2, 64, 2) == 1).sum(axis=(1, 3))
    np.testing.assert_array_equal(half, np.where(ones >= 2, 1, 5))


def test_statistics_names_and_scale_are_inside(tmp_path):
    pixels = noise((2, 100, 130))
    pixels[:, :10] = 0
    bands = (Band("red", 0.0001, -0.1), Band("nir", 0.0001, -0.1))
    written = write_geotiff(Memory(pixels, grid(130, 100), 0, bands), tmp_path / "a.tif", WriteOptions(side=64))
    with tifffile.TiffFile(tmp_path / "a.tif") as tiff:
        items = ET.fromstring(tiff.pages[0].tags[42112].value)
        assert tiff.pages[0].tags[42113].value == "0"
    told = {(item.get("sample"), item.get("name")): item.text for item in items}
    for number in (0, 1):
        values = pixels[number][pixels[number] != 0].astype("float64")
        assert float(told[str(number), "STATISTICS_MEAN"]) == pytest.approx(values.mean(), rel=1e-12)
        assert float(told[str(number), "STATISTICS_STDDEV"]) == pytest.approx(values.std(), rel=1e-9)
        assert float(told[str(number), "STATISTICS_MINIMUM"]) == values.min()
        assert float(told[str(number), "STATISTICS_MAXIMUM"]) == values.max()
        assert float(told[str(number), "STATISTICS_VALID_PERCENT"]) == pytest.approx(90)
        assert written.statistics[number].count == values.size
    assert told["0", "DESCRIPTION"] == "red"
    assert open_raster(tmp_path / "a.tif").bands == bands


@pytest.mark.parametrize(
    ("options", "pixels"),
    [
        (WriteOptions(side=64), noise((2, 130, 200))),
        (WriteOptions(side=64, compression="lzw", is_together=True), noise((3, 130, 200), "float32")),
        (WriteOptions(side=64, compression="lerc"), noise((1, 130, 200))),
        (WriteOptions(side=64, compression="webp", is_rgb=True), noise((3, 130, 200), "uint8", 1, 255)),
        (WriteOptions(side=64, compression="none", is_class=True), noise((1, 90, 200), "uint8", 1, 7)),
    ],
)
def test_the_histogram_inside_is_that_of_the_smallest_overview(tmp_path, options, pixels):
    pixels[:, :70, :90] = 0
    written = write_geotiff(Memory(pixels, grid(*pixels.shape[:0:-1]), 0), tmp_path / "a.tif", options)
    with tifffile.TiffFile(tmp_path / "a.tif") as tiff:
        items = ET.fromstring(tiff.pages[0].tags[42112].value)
    told = {(item.get("sample"), item.get("name")): item.text for item in items}
    raster = open_raster(tmp_path / "a.tif")
    small = raster.read(raster.levels[-1].window, None, len(raster.levels) - 1)
    there = (small != raster.nodata) if raster.nodata is not None else small > 0
    for number, band in enumerate(small):
        low, high = (float(told[str(number), f"STATISTICS_HISTO{end}"]) for end in ("MIN", "MAX"))
        counts = [int(text) for text in told[str(number), "STATISTICS_HISTOBINVALUES"].split("|")[:-1]]
        assert len(counts) == int(told[str(number), "STATISTICS_HISTONUMBINS"]) >= 5
        np.testing.assert_array_equal(counts, np.histogram(band[there[number]], len(counts), (low, high))[0])
        assert sum(counts) > 0.9 * there[number].sum() > 0
        statistics = written.statistics[number]
        assert low <= statistics.minimum and statistics.maximum <= high
    assert written.histograms[0].counts == tuple(
        int(text) for text in told["0", "STATISTICS_HISTOBINVALUES"].split("|")[:-1]
    )


def test_nan_and_all_missing(tmp_path):
    pixels = np.full((1, 70, 70), np.nan, "float32")
    written = write_geotiff(Memory(pixels, grid(70, 70), float("nan")), tmp_path / "a.tif", WriteOptions(side=64))
    raster = open_raster(tmp_path / "a.tif")
    assert np.isnan(raster.nodata)
    assert np.isnan(raster.read(raster.levels[1].window, None, 1)).all()
    assert (written.statistics[0].count, written.statistics[0].total) == (0, 4900)


def test_digest_and_size_are_those_of_the_file_and_bytes_do_not_depend_on_threads(tmp_path):
    raster = Memory(noise((3, 300, 300)), grid(300, 300), 0)
    written = [
        write_geotiff(raster, tmp_path / f"{workers}.tif", WriteOptions(side=64, workers=workers))
        for workers in (1, 4)
    ]
    for entry in written:
        data = entry.path.read_bytes()
        assert (entry.size, entry.multihash) == (len(data), "1e20" + blake3.blake3(data).hexdigest())
        assert files.multihash_of(entry.path, "1220") == "1220" + hashlib.sha256(data).hexdigest()
    assert written[0].multihash == written[1].multihash
    with pytest.raises(DataError, match="not known here"):
        files.multihash_of(written[0].path, "1114")


class Weighed(ProcessPoolExecutor):
    """Processes; weighs what goes to them and what comes back, and counts what is under way."""

    def __init__(self, workers):
        super().__init__(workers, mp_context=multiprocessing.get_context("spawn"))
        self.sent, self.largest, self.most, self._now = 0, 0, 0, set()

    def submit(self, *call):
        self.sent += len(pickle.dumps(call))
        future = super().submit(*call)
        self._now = {one for one in self._now if not one.done()} | {future}
        self.most = max(self.most, len(self._now))
        future.add_done_callback(lambda one: self._weigh(one))
        return future

    def _weigh(self, future):
        self.largest = max(self.largest, len(pickle.dumps(future.result())))


KINDS = {
    "bands apart": (noise((5, 700, 1100)), {}, (64, 64)),
    "colours": (noise((3, 600, 900), "uint8"), {"is_rgb": True}, (64, 64)),
    "classes": (noise((1, 700, 1100), "uint8", 0, 6), {"is_class": True}, (64, 64)),
    "floats in strips": (noise((2, 600, 900), "float32"), {}, (16, 900)),
}


def test_processes_make_the_same_bytes_and_little_travels(tmp_path):
    with Weighed(2) as crew:
        for name, (pixels, options, block) in KINDS.items():
            place = grid(pixels.shape[2], pixels.shape[1])
            np.putmask(pixels, noise(pixels.shape, "uint8", 0, 9, seed=1) == 0, 0)
            source, size = tmp_path / f"{name}.tif", pixels.nbytes
            if block[1] == 64:
                write_geotiff(Memory(pixels, place, 0), source, WriteOptions(side=64))
            else:
                foreign_tiff(source, pixels, place, nodata="0", rowsperstrip=16)
            how = WriteOptions(side=64, **options)
            crew.sent, crew.largest, crew.most = 0, 0, 0
            here = [
                write_geotiff(open_raster(source), tmp_path / f"{workers}.tif", replace(how, workers=workers))
                for workers in (1, 5)
            ]
            far = write_geotiff(open_raster(source), tmp_path / "far.tif", how, executor=crew)
            assert {far.multihash} == {one.multihash for one in here}, name
            assert far.statistics == here[0].statistics
            assert crew.sent < 0.02 * far.size, name
            assert crew.most <= 4, name
            assert crew.largest < min(16 << 20, size), name


def test_what_a_worker_elsewhere_meets_is_told_here(tmp_path):
    source = tmp_path / "a.tif"
    write_geotiff(Memory(noise((1, 300, 300)), grid(300, 300)), source, WriteOptions(side=64))
    raster = open_raster(source)
    data = bytearray(source.read_bytes())
    data[-200:] = bytes(200)
    source.write_bytes(data)
    with Weighed(1) as crew, pytest.raises(DataError, match="changed while it was read"):
        write_geotiff(raster, tmp_path / "b.tif", WriteOptions(side=64), executor=crew)
    assert not (tmp_path / "b.tif").exists()


def test_big_files_get_eight_byte_offsets():
    counts = np.full(4, 2_000_000_000, np.int64)
    form = cog.ImageForm(np.dtype("uint8"), 1, False, 64, "none", 1, False, None, "<x/>")
    plan = cog.layout(form, [cog.LevelTiles(grid(128, 128), counts)])
    assert plan.is_big
    assert struct.unpack_from("<2sH", plan.head) == (b"II", 43)
    first = len(plan.head)
    assert plan.offsets[0][0].tolist() == [first + n * 2_000_000_000 for n in range(4)]
    assert np.array(plan.offsets[0]).astype("<u8").tobytes() in plan.head


def test_progress_counts_every_tile(tmp_path):
    events = []
    write_geotiff(
        Memory(noise((2, 130, 70)), grid(70, 130)), tmp_path / "a.tif", WriteOptions(side=64), events.append
    )
    total = next(event.total for event in events if isinstance(event, Started))
    assert total == sum(event.amount for event in events if isinstance(event, Advanced)) == 2 * 2 * 3


@pytest.mark.parametrize("options", [WriteOptions(compression="arj"), WriteOptions(side=100)])
def test_impossible_options(tmp_path, options):
    with pytest.raises(UsageError):
        write_geotiff(Memory(noise((1, 8, 8)), grid(8, 8)), tmp_path / "a.tif", options)


class Failing(Memory):
    """A raster whose last block does not decode."""

    def read(self, window, bands=None, level=0):
        if window.stop_row == self.grid.height and window.stop_col == self.grid.width:
            raise DataError("broken block")
        return super().read(window, bands, level)


def test_a_failure_half_way_leaves_nothing_and_keeps_the_old_file(tmp_path):
    target = tmp_path / "a.tif"
    target.write_bytes(b"old")
    with pytest.raises(DataError, match="broken block"):
        write_geotiff(Failing(noise((1, 400, 400)), grid(400, 400)), target, WriteOptions(side=64))
    assert [path.name for path in tmp_path.iterdir()] == ["a.tif"]
    assert target.read_bytes() == b"old"


def test_a_place_that_cannot_be_written(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(DiskError):
        write_geotiff(Memory(noise((1, 8, 8)), grid(8, 8)), tmp_path / "file" / "a.tif")


SLOPE = (np.indices((200, 200)).sum(axis=0) // 3).astype("uint16") + noise((1, 200, 200), high=9)
"""Ground that is worth pressing."""


def pressed_tiff(path, pixels, level, after=b""):
    """A tiled file whose blocks another library pressed, with the horizontal predictor (TIFF 6.0, section 14)."""
    padded = np.zeros((1, 256, 256), pixels.dtype)
    padded[:, :200, :200] = pixels
    tiles = (padded[0, y : y + 64, x : x + 64] for y in range(0, 256, 64) for x in range(0, 256, 64))
    data = (zlib.compress(np.diff(tile, axis=1, prepend=tile[:, :1] * 0).tobytes(), level) + after for tile in tiles)
    tifffile.imwrite(
        path, data, shape=(200, 200), dtype=pixels.dtype, tile=(64, 64), compression="zlib", predictor=2,
        photometric="minisblack", extratags=[*geo_tags(grid(200, 200)), (42113, "s", 2, "0", True)], metadata=None,
    )  # fmt: skip
    return path


def blocks(path):
    """Stored bytes of every block of the full resolution."""
    data = path.read_bytes()
    with tifffile.TiffFile(path) as tiff:
        page = tiff.pages[0]
        return [data[at : at + count] for at, count in zip(page.dataoffsets, page.databytecounts, strict=True)]


@pytest.mark.parametrize("dtype", ["uint8", "uint16"])
@pytest.mark.parametrize(
    ("level", "options", "is_passed"),
    [
        (6, {}, True),
        (9, {}, True),
        (1, {}, True),
        (1, {"effort": 6}, False),
        (6, {"effort": 9}, False),
        (6, {"side": 32}, False),
        (6, {"side": 128}, False),
        (6, {"compression": "lzw"}, False),
        (6, {"compression": "zstd"}, False),
    ],
)
def test_blocks_that_nothing_changes_are_passed_on(tmp_path, level, options, is_passed, dtype):
    """Only whole ones of the same coding, pressed at least as hard; the rest of the file is what it always is."""
    pixels = SLOPE.astype(dtype)
    source = open_raster(pressed_tiff(tmp_path / "in.tif", pixels, level))
    options = WriteOptions(**{"side": 64} | options)
    written = write_geotiff(source, tmp_path / "out.tif", options)
    plain = write_geotiff(Memory(pixels, source.grid, 0), tmp_path / "plain.tif", options)
    before, after, anew = (blocks(tmp_path / name) for name in ("in.tif", "out.tif", "plain.tif"))
    inner = [0, 1, 2, 4, 5, 6, 8, 9, 10] if is_passed else []
    assert [n for n, block in enumerate(after) if block in before] == inner
    assert [n for n, block in enumerate(after) if block != anew[n]] == inner
    assert written.statistics == plain.statistics
    for level_grid in range(len(open_raster(plain.path).levels)):
        found, expected = (tifffile.imread(path, level=level_grid) for path in (written.path, plain.path))
        np.testing.assert_array_equal(found, expected)


@pytest.mark.parametrize(("byteorder", "predictor"), [(">", 2), ("<", None)])
def test_blocks_of_another_form_are_made_anew(tmp_path, byteorder, predictor):
    options = {"tile": (64, 64), "compression": "zlib", "predictor": predictor, "byteorder": byteorder}
    source = foreign_tiff(tmp_path / "in.tif", SLOPE, grid(200, 200), nodata="0", **options)
    written = write_geotiff(open_raster(source), tmp_path / "out.tif", WriteOptions(side=64))
    np.testing.assert_array_equal(tifffile.imread(written.path), SLOPE[0])
    assert not set(blocks(written.path)) & set(blocks(source))


def test_what_hides_behind_a_block_is_not_spread(tmp_path):
    hidden = b"\xde\xad" * 5000
    source = pressed_tiff(tmp_path / "in.tif", SLOPE, 6, hidden)
    written = write_geotiff(open_raster(source), tmp_path / "out.tif", WriteOptions(side=64))
    np.testing.assert_array_equal(tifffile.imread(written.path), SLOPE[0])
    assert hidden in source.read_bytes() and hidden not in written.path.read_bytes()


def test_a_damaged_block_is_never_passed_on(tmp_path):
    source = pressed_tiff(tmp_path / "in.tif", SLOPE, 6)
    data, block = source.read_bytes(), blocks(source)[5]
    source.write_bytes(data.replace(block, block[:20] + bytes([block[20] ^ 64]) + block[21:]))
    with pytest.raises(DataError, match="row 1, column 1 does not decode"):
        write_geotiff(open_raster(source), tmp_path / "out.tif", WriteOptions(side=64))


@pytest.mark.parametrize(("workers", "side"), [(1, 256), (3, 256), (3, 96)])
def test_several_files_in_one_pass_read_each_block_once(tmp_path, workers, side):
    asked = []

    class Counting(Memory):
        def read(self, window, bands=None, level=0):
            asked.append((window, tuple(bands)))
            return super().read(window, bands, level)

    source = Counting(noise((3, 700, 900)), grid(900, 700), None, tuple(map(Band, ("blue", "red", "nir"))))
    formulas = [Formula.parse(text) for text in ("(nir - red) / (nir + red)", "nir + blue", "red > blue")]
    shared = Shared(source)
    jobs = [
        Job(Index(shared, f"i{n}", formula, "x"), tmp_path / f"{n}.tif", WriteOptions(side=side, workers=workers))
        for n, formula in enumerate(formulas)
    ]
    written = write_together(jobs)
    assert len(asked) == len(set(asked)) == 3 * -(-700 // side) * -(-900 // side), "three bands of all tiles"
    for job, one in zip(jobs, written, strict=True):
        alone = write_geotiff(replace_source(job.raster, source), tmp_path / "alone.tif", job.options)
        assert alone.multihash == one.multihash
        assert (tmp_path / "alone.tif").read_bytes() == job.path.read_bytes()


def replace_source(index, source):
    return Index(source, index.bands[0].name, index.formula, "x")


def test_of_several_files_none_is_left_when_one_fails(tmp_path):
    class Broken(Memory):
        def read(self, window, bands=None, level=0):
            if window.row > 300:
                raise DataError("This block is broken.", "")
            return super().read(window, bands, level)

    good, bad = Memory(noise((1, 700, 700)), grid(700, 700)), Broken(noise((1, 700, 700)), grid(700, 700))
    with pytest.raises(DataError, match="broken"):
        write_together([Job(good, tmp_path / "a.tif"), Job(Shared(bad), tmp_path / "b.tif")])
    assert not list(tmp_path.iterdir())
