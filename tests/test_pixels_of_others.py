"""Files and values as others make them: masks, opacity, odd bits, no-data of every kind, scenes over one another."""

from __future__ import annotations

import imagecodecs
import numpy as np
import pytest
import scipy.ndimage
import tifffile
from pyproj import Transformer

from helpers import Memory, foreign_tiff, geo_tags, grid, noise
from zoompick.errors import FormatError
from zoompick.geo.crs import Crs
from zoompick.products.stack import Stack, build_stack
from zoompick.products.stretch import quantiles
from zoompick.raster import resample, tiffmeta
from zoompick.raster.grid import Grid, Window
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band, valid_mask
from zoompick.raster.warp import Warped
from zoompick.raster.ways import Ways
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.scenes.deliveries import open_layers
from zoompick.study.verbs import grid_around

PLACE = grid(90, 70)
SHAPE = (70, 90)


def written(path, pixels, **options):
    """A TIFF by tifffile with our tags; ``pixels`` as it takes them."""
    options = {"photometric": "minisblack", "metadata": None, "extratags": geo_tags(PLACE)} | options
    tifffile.imwrite(path, pixels, **options)
    return open_raster(path)


def with_pages(path, *pages):
    """A file of several directories: (pixels, options) each, the first georeferenced."""
    with tifffile.TiffWriter(path) as tiff:
        for number, (pixels, options) in enumerate(pages):
            tags = {"extratags": geo_tags(PLACE)} if number == 0 else {}
            tiff.write(pixels, metadata=None, **({"photometric": "minisblack"} | tags | options))
    return open_raster(path)


# Masks and opacity


def test_a_mask_inside_the_file_tells_what_is_missing(tmp_path):
    pixels, mask = noise(SHAPE, "uint16", 0, 5), noise(SHAPE, "uint8", 0, 2).astype(bool)
    half, half_mask = pixels[::2, ::2], mask[::2, ::2]
    opened = with_pages(
        tmp_path / "m.tif", (pixels, {"tile": (32, 32)}), (mask, {"subfiletype": 4, "tile": (32, 32)}),
        (half, {"subfiletype": 1}), (half_mask, {"subfiletype": 5}),
    )  # fmt: skip
    assert opened.dtype == np.int32 and len(opened.levels) == 2
    for level, (values, valid) in enumerate([(pixels, mask), (half, half_mask)]):
        found = opened.read(opened.levels[level].window, None, level)[0]
        np.testing.assert_array_equal(valid_mask(found, opened.nodata), valid)
        np.testing.assert_array_equal(found[valid], values[valid])
    window = Window(-5, 33, 40, 60)
    rows, cols = window.intersect(PLACE.window).slices_in(window)
    part = valid_mask(opened.read(window), opened.nodata)[0]
    assert part.sum() == mask[33:70, :35].sum() and not part[:, :5].any() and part[rows, cols].any()


@pytest.mark.parametrize(("bands", "dtype"), [(4, "uint8"), (4, "uint16"), (2, "float32")])
def test_opacity_tells_what_is_missing(tmp_path, bands, dtype):
    pixels = noise((*SHAPE, bands), dtype, 0, 200)
    pixels[..., -1] = noise(SHAPE, "uint8", 0, 2) * 200
    kind = {"photometric": "rgb"} if bands == 4 else {}
    opened = written(tmp_path / "a.tif", pixels, extrasamples=["unassalpha"], planarconfig="contig", **kind)
    assert len(opened.bands) == bands - 1
    found, valid = opened.read(PLACE.window), pixels[..., -1] > 0
    np.testing.assert_array_equal(valid_mask(found, opened.nodata).all(axis=0), valid)
    expected = np.moveaxis(pixels[..., :-1], 2, 0)[:, valid]
    np.testing.assert_array_equal(found[:, valid], np.maximum(expected, 1) if dtype == "uint8" else expected)


def test_pages_are_overviews_only_if_they_are(tmp_path):
    """A smaller picture of another kind, or reduced otherwise across than down, is none; a second image is told."""
    full = noise(SHAPE)
    opened = with_pages(
        tmp_path / "p.tif", (full, {}), (full[::2, ::2], {"subfiletype": 1}), (full[::3, ::2], {"subfiletype": 1}),
        (full[::4, ::4].astype("uint8"), {"subfiletype": 1}), (full[::2, ::2], {}),
        (np.dstack([full[::2, ::2]] * 3), {"subfiletype": 1, "planarconfig": "contig", "photometric": "rgb"}),
    )  # fmt: skip
    assert [(level.width, level.height) for level in opened.levels] == [(90, 70), (45, 35)]
    assert opened.notes == ("p.tif holds 2 images: the first is read.",)


@pytest.mark.parametrize(
    ("full", "small", "pixel"), [(100, 50, 16), (101, 51, 16), (101, 50, 8 * 101 / 50), (100, 40, 20), (99, 25, 32)]
)
def test_pixel_sizes_of_overviews(tmp_path, full, small, pixel):
    data = noise((1, full, full))[0]
    path = tmp_path / "o.tif"
    with tifffile.TiffWriter(path) as tiff:
        tiff.write(data, metadata=None, extratags=geo_tags(grid(full, full)), photometric="minisblack")
        tiff.write(data[:small, :small], metadata=None, subfiletype=1, photometric="minisblack")
    level = open_raster(path).levels[1]
    assert (level.pixel_x, level.pixel_y) == pytest.approx((pixel, pixel))


# Kinds of blocks


def _jpeg_with_tables(path, pixels):
    """Tiles that share their tables, as TIFF Technical Note 2 describes: cut out of whole streams by hand."""
    tiles, tables = [], b""
    for row in range(0, 64, 32):
        for col in range(0, 64, 32):
            stream = imagecodecs.jpeg8_encode(np.ascontiguousarray(pixels[row : row + 32, col : col + 32]), 90)
            at, kept, shared = 2, b"\xff\xd8", b"\xff\xd8"
            while stream[at + 1] != 0xDA:
                length = int.from_bytes(stream[at + 2 : at + 4], "big") + 2
                if stream[at + 1] in (0xDB, 0xC4):
                    shared += stream[at : at + length]
                else:
                    kept += stream[at : at + length]
                at += length
            tiles.append(kept + stream[at:])
            tables = shared + b"\xff\xd9"
    place = grid(64, 64)
    tags = [*geo_tags(place), (347, "B", len(tables), tables, True)]
    tifffile.imwrite(path, iter(tiles), shape=(64, 64), dtype="uint8", tile=(32, 32), compression="jpeg",
                     photometric="minisblack", metadata=None, extratags=tags)  # fmt: skip
    return place


def test_jpeg_with_shared_tables(tmp_path):
    smooth = scipy.ndimage.gaussian_filter(noise((64, 64), "float64", 0, 255), 3)
    pixels = np.clip(smooth, 0, 255).astype("uint8")
    place = _jpeg_with_tables(tmp_path / "j.tif", pixels)
    found = open_raster(tmp_path / "j.tif").read(place.window)[0]
    assert np.abs(found.astype(int) - pixels).max() <= 6


@pytest.mark.parametrize(
    ("shape", "options", "most"),
    [
        (SHAPE, {"compression": "jpeg", "tile": (32, 32)}, 60),
        ((*SHAPE, 4), {"compression": "jpeg", "planarconfig": "contig", "extrasamples": ["unspecified"] * 3}, 90),
        ((*SHAPE, 3), {"compression": "jpeg", "photometric": "rgb", "tile": (48, 48)}, 120),
        ((*SHAPE, 3), {"compression": "webp", "photometric": "rgb", "compressionargs": {"lossless": True}}, 0),
        (SHAPE, {"compression": "lerc"}, 0), (SHAPE, {"compression": "lzma"}, 0), (SHAPE, {"compression": "png"}, 0),
        ((*SHAPE, 3), {"compression": "jpeg2000", "photometric": "rgb"}, 0),
    ],
    ids=["grey-jpeg", "4-band-jpeg", "rgb-jpeg", "webp", "lerc", "lzma", "png", "jpeg2000"],
)  # fmt: skip
def test_codecs_of_others(tmp_path, shape, options, most):
    smooth = scipy.ndimage.gaussian_filter(noise(shape, "float64", 1, 255), 2 if len(shape) == 2 else (2, 2, 0))
    pixels = smooth.astype("uint8")
    opened = written(tmp_path / "c.tif", pixels, **options)
    found = opened.read(PLACE.window)
    expected = pixels[np.newaxis] if pixels.ndim == 2 else np.moveaxis(pixels, 2, 0)
    assert np.abs(found.astype(int) - expected).max() <= most
    np.testing.assert_array_equal(opened.read(Window(20, 30, 40, 35)), found[:, 30:65, 20:60])


@pytest.mark.parametrize("bits", [1, 2, 4, 10, 12, 14])
def test_samples_of_a_few_bits(tmp_path, bits):
    dtype = "uint8" if bits <= 8 else "uint16"
    pixels = noise(SHAPE, dtype, 0, 2**bits)
    opened = _packed(tmp_path / "b.tif", pixels, bits)
    np.testing.assert_array_equal(opened.read(PLACE.window)[0], pixels)


def _packed(path, pixels, bits, fill_order=1):
    """One strip of samples of a few bits, most significant bit first, rows begin at bytes (TIFF 6.0, section 3)."""
    rows = [
        np.packbits(((row[:, None] >> np.arange(bits - 1, -1, -1)) & 1).astype("uint8").ravel()) for row in pixels
    ]
    data = b"".join(row.tobytes() for row in rows)
    if fill_order == 2:
        data = bytes(int(f"{byte:08b}"[::-1], 2) for byte in data)
    directory = [(256, 4, pixels.shape[1]), (257, 4, pixels.shape[0]), (258, 3, bits), (259, 3, 1), (262, 3, 1),
                 (266, 3, fill_order), (273, 4, 8), (277, 3, 1), (278, 4, pixels.shape[0]),
                 (279, 4, len(data))]  # fmt: skip
    body, extra = data + b"\0" * (-len(data) % 8), b""
    entries = [(tag, kind, 1, value.to_bytes(4, "little")) for tag, kind, value in directory]
    at = 8 + len(body) + 2 + 12 * (len(directory) + 3) + 4
    for tag, code, count, values, _ in geo_tags(PLACE):
        packed = np.asarray(values, "<u2" if code == "H" else "<f8").tobytes()
        entries.append((tag, 3 if code == "H" else 12, count, (at + len(extra)).to_bytes(4, "little")))
        extra += packed
    entries.sort()
    head = b"II*\0" + (8 + len(body)).to_bytes(4, "little")
    ifd = len(entries).to_bytes(2, "little") + b"".join(
        tag.to_bytes(2, "little") + kind.to_bytes(2, "little") + count.to_bytes(4, "little") + value
        for tag, kind, count, value in entries
    ) + bytes(4)  # fmt: skip
    path.write_bytes(head + body + ifd + extra)
    return open_raster(path)


def test_bits_in_the_other_order(tmp_path):
    pixels = noise(SHAPE, "uint8", 0, 200)
    np.testing.assert_array_equal(_packed(tmp_path / "f.tif", pixels, 8, 2).read(PLACE.window)[0], pixels)


def test_a_last_strip_as_long_as_the_others(tmp_path):
    pixels = noise(SHAPE)
    padded = np.vstack([pixels, np.zeros((26, 90), "uint16")])
    strips = [imagecodecs.deflate_encode(np.ascontiguousarray(padded[row : row + 32])) for row in (0, 32, 64)]
    tifffile.imwrite(tmp_path / "s.tif", iter(strips), shape=SHAPE, dtype="uint16", rowsperstrip=32,
                     compression="deflate", photometric="minisblack", extratags=geo_tags(PLACE))  # fmt: skip
    np.testing.assert_array_equal(open_raster(tmp_path / "s.tif").read(PLACE.window)[0], pixels)


def test_what_is_not_read_is_refused_by_what_it_is(tmp_path):
    pixels = noise(SHAPE)
    tifffile.imwrite(tmp_path / "plain.tif", pixels, metadata=None, photometric="minisblack")
    with pytest.raises(FormatError, match="a TIFF without a georeference") as caught:
        open_raster(tmp_path / "plain.tif")
    assert "ownload" not in caught.value.todo
    with pytest.raises(FormatError, match="complex") as caught:
        written(tmp_path / "complex.tif", pixels.astype("complex64"))
    assert "ownload" not in str(caught.value)


# No-data


@pytest.mark.parametrize(
    ("text", "dtype", "expected"),
    [
        ("-9999", "uint16", None), ("nan", "uint16", None), ("1e20", "int16", None), ("0.5", "uint8", None),
        ("0", "uint16", 0), ("65535", "uint16", 65535), ("-3.40282e+38", "float32", np.finfo("float32").min),
        ("-3.4028234663852886e+38", "float32", np.finfo("float32").min), ("1e300", "float32", "nan"),
        ("inf", "float64", "nan"), ("-1.79769e+308", "float64", np.finfo("float64").min), ("-9999", "float32", -9999),
        ("1e20", "float32", float(np.float32(1e20))),
    ],
)  # fmt: skip
def test_no_data_as_others_write_it(text, dtype, expected):
    found = tiffmeta.fitting(float(text), np.dtype(dtype))
    assert np.isnan(found) if expected == "nan" else found == expected


def test_no_data_outside_the_type_hides_nothing(tmp_path):
    pixels = noise((1, *SHAPE), low=0)
    foreign_tiff(tmp_path / "n.tif", pixels, PLACE, nodata="-9999")
    opened = open_raster(tmp_path / "n.tif")
    assert opened.nodata is None
    np.testing.assert_array_equal(opened.read(PLACE.window), pixels)
    least = np.finfo("float32").min
    values = noise((1, *SHAPE), "float32")
    values[0, :9] = least
    foreign_tiff(tmp_path / "f.tif", values, PLACE, nodata="-3.40282e+38")
    opened = open_raster(tmp_path / "f.tif")
    assert not valid_mask(opened.read(PLACE.window), opened.nodata)[0, :9].any()


def test_an_infinity_is_missing_by_itself(tmp_path):
    values = noise((1, 64, 64), "float32")
    values[0, 10, 10], values[0, 40, 3] = np.inf, -np.inf
    place = grid(64, 64)
    made = write_geotiff(Memory(values, place, float("nan")), tmp_path / "i.tif", WriteOptions(side=16))
    assert made.statistics[0].count == 64 * 64 - 2
    good = values[np.isfinite(values)]
    assert made.statistics[0].maximum == good.max() and np.isfinite(made.statistics[0].mean)
    small = open_raster(tmp_path / "i.tif").read(Window(0, 0, 32, 32), None, 1)[0]
    assert np.isfinite(small).all()
    group = values[0, 10:12, 10:12]
    assert small[5, 5] == pytest.approx(group[np.isfinite(group)].mean(), rel=1e-6)


@pytest.mark.parametrize("dtype", ["int16", "int8", "int32", "float32"])
def test_a_mean_that_is_no_data_by_chance_steps_aside(dtype):
    """All there, of -5 and +5, no-data 0: the mean is a value beside 0, never a gap."""
    source = np.full((1, 8, 8), 5, dtype)
    source[0, :, ::2] = -5
    for found in (
        resample.halve(source, 0.0),
        resample.area_average(source, resample.Axis(0, 2, 4), resample.Axis(0, 2, 4), 0.0),
        resample.bilinear(source, resample.Axis(0.5, 1, 7), resample.Axis(0.5, 1, 7), 0.0),
    ):
        assert valid_mask(found, 0.0).all() and np.abs(found.astype(float)).max() <= 1


@pytest.mark.parametrize(
    ("true", "nodata", "dtype", "expected"),
    [
        (65534.7, 65535, "uint16", 65534), (0.2, 0, "uint16", 1), (99.6, 100, "int16", 99),
        (100.4, 100, "int16", 101),
        (100.0, 100, "int16", 101), (-32768.0, -32768, "int16", -32767), (255.0, 255, "uint8", 254),
        (7.4, 0, "uint8", 7),
    ],
)  # fmt: skip
def test_steps_go_towards_the_true_value_inside_the_type(true, nodata, dtype, expected):
    assert resample.finish(np.array([true]), np.dtype(dtype), False, nodata)[0] == expected


def test_different_no_data_values_become_one_that_nobody_uses():
    one = Memory(np.array([[[0, 65535, 7]]], "uint16"), grid(3, 1), 0, (Band("red"),))
    other = Memory(np.array([[[0, 65535, 7]]], "uint16"), grid(3, 1), 65535, (Band("nir"),))
    none = Memory(np.array([[[0, 65535, 7]]], "uint16"), grid(3, 1), None, (Band("swir16"),))
    stack = Stack(one.grid, [[one], [other], [none]])
    found, gap = stack.read(one.grid.window)[:, 0].tolist(), stack.nodata
    assert found == [[gap, 65535, 7], [0, gap, 7], [0, 65535, 7]]
    assert stack.dtype == np.int32 and "different no-data values (0, 65535, none)" in stack.notes[0]
    assert Stack(one.grid, [[one], [one]]).dtype == np.uint16


# One pixel, one scene


def scene(values, place=None):
    return [Memory(np.array([[row]], "uint16"), place or grid(len(row), 1), 0, (Band("b"),)) for row in values]


def test_a_pixel_takes_all_its_bands_from_one_scene():
    first = scene([[1, 0, 1, 0, 0], [1, 1, 0, 0, 0]])
    second = scene([[2, 2, 2, 2, 0], [2, 2, 2, 0, 0]])
    parts = [[first[band], second[band]] for band in (0, 1)]
    window = first[0].grid.window
    owned = Stack(first[0].grid, parts, [[0, 1], [0, 1]])
    assert owned.read(window)[:, 0].tolist() == [[1, 2, 2, 2, 0], [1, 2, 2, 0, 0]]
    for band in (0, 1):
        np.testing.assert_array_equal(owned.read(window, [band])[0], owned.read(window)[band])
    mixed = Stack(first[0].grid, parts)
    assert mixed.read(window)[:, 0].tolist() == [[1, 2, 1, 2, 0], [1, 1, 2, 0, 0]]


def test_scenes_are_told_by_the_names_of_their_files(tmp_path):
    """Random gaps in two dates of two bands: no pixel mixes the dates, and none is lost that one date has whole."""
    for day, level in (("may", 1000), ("june", 2000)):
        for number, band in enumerate(("red", "nir")):
            pixels = noise((1, *SHAPE), "uint16", level, level + 500, seed=hash((level, number)) % 1000)
            pixels[noise((1, *SHAPE), "uint8", 0, 3, seed=level + number) == 0] = 0
            foreign_tiff(tmp_path / f"{day}-{band}.tif", pixels, PLACE, nodata="0")
    files = [tmp_path / f"{day}-{band}.tif" for band in ("red", "nir") for day in ("may", "june")]
    stack = build_stack(open_layers(files), ["red", "nir"])
    red, nir = stack.read(PLACE.window).astype(int)
    both = (red > 0) & (nir > 0)
    assert ((red // 1000) == (nir // 1000))[both].all()
    originals = {path.stem: open_raster(path).read(PLACE.window)[0] for path in files}
    whole = [(originals[f"{day}-red"] > 0) & (originals[f"{day}-nir"] > 0) for day in ("may", "june")]
    np.testing.assert_array_equal(both, whole[0] | whole[1])
    blended = build_stack(open_layers(files), ["red", "nir"], is_mixed=True).read(PLACE.window)
    assert (blended > 0).sum() > (red > 0).sum() + (nir > 0).sum()


# Lattices, classes, other reference systems


def test_a_stack_keeps_the_files_own_lattice():
    from zoompick.area.model import Area

    odd = grid(400, 300, west=752003.0, north=5720001.0)
    area = Area.from_box(-12.09, -38.64, -12.06, -38.62)
    for pixel in (None, 8.0):
        assert grid_around([odd], area, pixel).shares_lattice(odd)
    assert not grid_around([odd], area, 16.0).shares_lattice(odd)


def test_classes_in_a_mixed_stack_are_never_averaged(tmp_path):
    codes = noise((1, 128, 128), "uint16", 1, 6)
    codes[codes == 2] = 5
    place = grid(128, 128)
    foreign_tiff(tmp_path / "red.tif", noise((1, 128, 128)), place, nodata="0")
    foreign_tiff(tmp_path / "cover.tif", codes, place, nodata="0")
    measured = {"ways": Ways.parse("cover=bilinear")}
    for how, is_class in (({"classes": ("cover",)}, True), ({}, True), (measured, False)):
        stack = build_stack(open_layers([tmp_path / "red.tif", tmp_path / "cover.tif"]), [], **how)
        assert any("taken for classes" in note for note in stack.notes) is (how == {})
        write_geotiff(stack, tmp_path / "s.tif", WriteOptions(side=32))
        back = open_raster(tmp_path / "s.tif")
        small = back.read(back.levels[1].window, [1], 1)
        assert (set(np.unique(small)) <= {1, 3, 4, 5}) is is_class
        assert back.bands[1].is_class is is_class
    table = noise((1, 128, 128), "uint8", 0, 4)[0]
    tifffile.imwrite(tmp_path / "palette.tif", table, photometric="palette", metadata=None, extratags=geo_tags(place),
                     colormap=np.zeros((3, 256), "uint16"))  # fmt: skip
    assert open_raster(tmp_path / "palette.tif").bands[0].is_class


@pytest.mark.parametrize("dtype", ["uint16", "int32", "float32"])
@pytest.mark.parametrize("has_overviews", [True, False])
def test_coarser_pixels_in_another_system_are_means_over_the_ground(tmp_path, dtype, has_overviews):
    """48 m out of 8 m noise, against the mean of positions spread densely over each target pixel."""
    place = grid(480, 480)
    pixels = noise((1, 480, 480), dtype, 1, 60000 if dtype == "uint16" else 2_000_000_000)
    if has_overviews:
        write_geotiff(Memory(pixels, place, 0), tmp_path / "s.tif", WriteOptions(side=64))
        source = open_raster(tmp_path / "s.tif")
    else:
        source = Memory(pixels, place, 0)
    x, y = Transformer.from_crs(32728, 32729, always_xy=True).transform(place.west + 1900, place.north - 1900)
    target = Grid(Crs(32729), 48, 48, x - 600, y + 600, 25, 25)
    found = Warped(source, target).read(target.window)[0].astype(float)
    fine = (np.arange(25 * 24) + 0.5) * 2
    xs, ys = Transformer.from_crs(32729, 32728, always_xy=True).transform(
        *np.meshgrid(target.west + fine, target.north - fine)
    )
    cols, rows = ((xs - place.west) / 8).astype(int), ((place.north - ys) / 8).astype(int)
    expected = pixels[0][rows, cols].astype(float).reshape(25, 24, 25, 24).mean(axis=(1, 3))
    spread = pixels.astype(float).std() / 6
    assert np.sqrt(((found - expected) ** 2).mean()) < 0.45 * spread
    assert np.corrcoef(found.ravel(), expected.ravel())[0, 1] > 0.9


def test_wide_whole_numbers_are_carried_at_full_precision():
    place = grid(60, 60)
    pixels = np.full((1, 60, 60), 2_000_000_011, "int32")
    x, y = Transformer.from_crs(32728, 32729, always_xy=True).transform(place.west + 240, place.north - 240)
    target = Grid(Crs(32729), 8, 8, x - 100, y + 100, 20, 20)
    assert set(np.unique(Warped(Memory(pixels, place, 0), target).read(target.window))) == {2_000_000_011}


def test_a_stretch_with_outliers(tmp_path):
    """One wild value in floats does not flatten the picture: percentiles against NumPy's."""
    values = noise((1, 300, 300), "float32", 0.0, 1.0)
    values[0, 5, 5], values[0, 9, 9] = 1e30, -1e20
    [limits] = quantiles(Memory(values, grid(300, 300), float("nan")), [0], (2, 98))
    low, high = np.percentile(values, [2, 98])
    assert limits == pytest.approx((low, high), abs=2e-3)


@pytest.mark.parametrize("codec", ["jpeg", "webp"])
def test_pictures_that_lose_a_little_keep_their_gaps_and_can_be_clipped(tmp_path, codec):
    from zoompick.geo.shapes import outline_of
    from zoompick.raster.clip import Clip

    place = grid(200, 150)
    smooth = scipy.ndimage.gaussian_filter(noise((3, 150, 200), "float64", 1, 255), (0, 3, 3))
    pixels = np.clip(smooth, 1, 255).astype("uint8")
    pixels[:, 20:60, 30:90] = 0
    made = write_geotiff(
        Memory(pixels, place, 0), tmp_path / "p.tif", WriteOptions(side=64, compression=codec, is_rgb=True)
    )
    opened = open_raster(tmp_path / "p.tif")
    for level, lattice in enumerate(opened.levels):
        found = opened.read(lattice.window, None, level)
        missing = ~valid_mask(found, opened.nodata).all(axis=0)
        step = place.width / lattice.width
        assert missing.sum() == pytest.approx(40 * 60 / step**2, rel=0.1)
    found = opened.read(place.window)
    valid = (pixels > 0).all(axis=0)
    np.testing.assert_array_equal(valid_mask(found, opened.nodata).all(axis=0), valid)
    for band, stats in zip(found, made.statistics, strict=True):
        assert (stats.count, stats.minimum, stats.maximum) == (valid.sum(), band[valid].min(), band[valid].max())
        assert stats.mean == pytest.approx(band[valid].mean())
    with tifffile.TiffFile(tmp_path / "p.tif") as tiff:
        assert [page.subfiletype for page in tiff.pages] == [0, 4, 1, 5, 1, 5]
        np.testing.assert_array_equal(tiff.pages[1].asarray().astype(bool), valid)
    box = outline_of(place.bounds, place.crs, 100).buffer(-0.002)
    assert Clip(opened, box).read(Window(0, 0, 20, 20)).shape == (3, 20, 20)
