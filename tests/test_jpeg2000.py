"""JPEG 2000: tiles and levels bit for bit as another program decodes them, georeference of all kinds, damage."""

from __future__ import annotations

import hashlib
import json
import struct
from pathlib import Path

import imagecodecs
import numpy as np
import pytest
import tifffile

from badserver import Handler, serving
from helpers import geo_tags, grid, noise
from zoompick.errors import DataError, FormatError, ZoomPickError
from zoompick.geo.crs import Crs, transform
from zoompick.raster import codestream
from zoompick.raster.grid import Window
from zoompick.raster.jp2write import _box
from zoompick.raster.opening import open_raster
from zoompick.raster.source import LocalFile
from zoompick.standin.jp2file import write_jp2

MADE = Path(__file__).parent / "data" / "jp2"
DECODED = json.loads((MADE / "decoded.json").read_text())
"""Digests of the pixels as another encoder's own decoder gives them, at full, half and quarter resolution."""


def beside(folder, stem, numbers="10 0 0 -10 300005 5700005"):
    """A codestream of another encoder with a world file and a .prj beside."""
    path = folder / f"{stem}.j2k"
    path.write_bytes((MADE / f"{stem}.j2k").read_bytes())
    path.with_suffix(".j2w").write_text(numbers)
    path.with_suffix(".prj").write_text(Crs(32729).prj)
    return path


@pytest.mark.parametrize("name", sorted(DECODED))
def test_windows_and_levels_are_what_another_decoder_gives(tmp_path, name):
    raster = open_raster(beside(tmp_path, name))
    hindered = name in ("layers", "cprl", "offset")
    assert len(raster.levels) == (1 if hindered else 3)
    assert bool([note for note in raster.notes if "overviews" in note]) == hindered
    whole = [raster.read(grid.window, None, number) for number, grid in enumerate(raster.levels)]
    for number, pixels in enumerate(whole):
        assert (
            hashlib.sha256(pixels.astype(pixels.dtype.newbyteorder("<")).tobytes()).hexdigest()
            == (DECODED[name][str(number)])
        )
        for window in (Window(3, 5, 40, 30), Window(-4, 100, 60, 9), Window(60, 30, 90, 60)):
            padded = np.pad(pixels, ((0, 0), (0, 99), (9, 99)))
            part = padded[:, window.row : window.stop_row, window.col + 9 : window.stop_col + 9]
            np.testing.assert_array_equal(raster.read(window, None, number), part)


def test_a_low_pass_pixel_stands_on_the_first_of_two(tmp_path):
    """A ramp over the ground has the same value at the same place in every level, to a hundredth of a pixel."""
    columns = np.tile(np.arange(512, dtype=np.uint16) * 16 + 100, (512, 1))
    write_jp2(columns, grid(512, 512), tmp_path / "a.jp2")
    raster = open_raster(tmp_path / "a.jp2")
    for number, level in enumerate(raster.levels[:3]):
        values = raster.read(Window(20, 20, 40, 1), None, number)[0, 0]
        x = level.west + (np.arange(20, 60) + 0.5) * level.pixel_x
        expected = ((x - raster.grid.west) / raster.grid.pixel_x - 0.5) * 16 + 100
        assert np.abs(values - expected).max() <= 1


class Counted(LocalFile):
    """A file that is far away: what is read of it is counted."""

    def __init__(self, path):
        super().__init__(path)
        self.spans = []

    def read(self, offset, length):
        self.spans.append(length)
        return super().read(offset, length)


def far(path):
    """The same bytes from a source that is no local file, so that levels are read in part."""
    file = Counted(path)

    class Far:
        address, size, identity = file.address, file.size, file.identity

        def read(self, offset, length):
            return file.read(offset, length)

    return Far(), file


def test_of_a_far_file_only_the_tiles_and_the_leading_bytes_come(tmp_path):
    pixels = noise((1, 1024, 1024), np.uint16)[0] // 16
    write_jp2(pixels, grid(1024, 1024), tmp_path / "a.jp2")
    source, file = far(tmp_path / "a.jp2")
    raster = open_raster(source)
    head = sum(file.spans)
    assert head < 9000
    np.testing.assert_array_equal(raster.read(Window(600, 20, 99, 50))[0], pixels[20:70, 600:699])
    ((_, length),) = raster.stretches(Window(600, 20, 99, 50))
    assert sum(file.spans) - head == length
    near = open_raster(tmp_path / "a.jp2")
    for level, share in ((1, 0.75), (2, 0.3), (3, 0.12)):
        file.spans.clear()
        seen = raster.read(raster.levels[level].window, None, level)
        np.testing.assert_array_equal(seen, near.read(near.levels[level].window, None, level))
        assert sum(file.spans) < share * file.size, level


def with_boxes(path, *more):
    """A codestream in a JP2 whose other boxes are given."""
    stream = (MADE / "tiles-tlm.j2k").read_bytes()
    head = _box(b"jP  ", b"\r\n\x87\n") + _box(b"ftyp", b"jp2 \0\0\0\0jp2 ")
    path.write_bytes(head + b"".join(more) + _box(b"jp2c", stream))
    return path


def gml(limits, origin, first, second, name="urn:ogc:def:crs:EPSG::32729"):
    text = (
        f'<c><RectifiedGrid xmlns="http://www.opengis.net/gml" dimension="2" srsName="{name}"><limits><GridEnvelope>'
        f"<low>0 0</low><high>{limits}</high></GridEnvelope></limits><origin><Point><pos>{origin}</pos></Point>"
        f"</origin><offsetVector>{first}</offsetVector><offsetVector>{second}</offsetVector></RectifiedGrid></c>"
    )
    return _box(b"asoc", _box(b"lbl ", b"gml.data") + _box(b"asoc", _box(b"xml ", text.encode())))


def geotiff_box(path):
    place = grid(301, 259)
    tifffile.imwrite(path, np.zeros((1, 1), np.uint8), extratags=geo_tags(place), metadata=None)
    return place, _box(b"uuid", bytes.fromhex("b14bf8bd083d4b43a5ae8cd7d5a6ce03") + path.read_bytes())


def test_its_place_is_told_in_any_of_the_usual_ways(tmp_path):
    place, box = geotiff_box(tmp_path / "a.tif")
    assert open_raster(with_boxes(tmp_path / "a.jp2", box)).grid == place
    ways = (
        ("300 258", "300005 5699995", "10 0", "0 -10", "urn:ogc:def:crs:EPSG::32729"),
        ("300 258", "5699995 300005", "0 10", "-10 0", "http://www.opengis.net/def/crs/EPSG/0/32729"),
        ("258 300", "300005 5699995", "0 -10", "10 0", "EPSG:32729"),
    )
    for number, way in enumerate(ways):
        found = open_raster(with_boxes(tmp_path / f"{number}.jp2", gml(*way))).grid
        assert (found.west, found.north, found.pixel_x, found.crs.epsg) == (300000, 5700000, 10, 32729), way
    oblique = open_raster(with_boxes(tmp_path / "oblique.jp2", gml("300 258", "300005 5699995", "8 6", "6 -8")))
    assert "turned by 36.87 degrees" in oblique.notes[-1] and oblique.grid.pixel_x == 10
    # Outer corners of 301 x 259 pixels whose first centre is that point: 299998 west, 5699996 + 301 * 6 north.
    assert (oblique.grid.west, oblique.grid.north) == (299990, 5701810)
    assert oblique.grid.bounds.east == 303960 >= 299998 + 301 * 8 + 259 * 6
    for wrong in (gml("300 258", "1", "1 0", "0 -1"), b"",
                  gml("300 258", "1 2", "1 0", "0 -1", "here"), gml("300 258", "1 2", "x 0", "0 -1")):  # fmt: skip
        with pytest.raises(FormatError):
            open_raster(with_boxes(tmp_path / "wrong.jp2", wrong))


def test_opacity_is_no_data(tmp_path):
    pixels = np.dstack([noise((1, 64, 64), np.uint8)[0]] * 4)
    pixels[:20, :, 3], pixels[20:, :, 3] = 0, 255
    stream = imagecodecs.jpeg2k_encode(pixels, level=0, codecformat="J2K", reversible=True, mct=False)
    alpha = _box(
        b"cdef", struct.pack(">H", 4) + b"".join(struct.pack(">3H", n, n == 3, (n + 1) % 4) for n in range(4))
    )
    path = tmp_path / "a.jp2"
    path.write_bytes(_box(b"jP  ", b"\r\n\x87\n") + _box(b"jp2h", alpha) + geotiff_box(tmp_path / "a.tif")[1]
                     + _box(b"jp2c", stream))  # fmt: skip
    raster = open_raster(path)
    seen = raster.read(Window(0, 0, 64, 64))
    assert raster.nodata == 0 and len(raster.bands) == 3
    assert not seen[:, :20].any() and (seen[:, 20:] == np.maximum(pixels[20:, :, :3].transpose(2, 0, 1), 1)).all()


def test_damage_and_absurd_headers_end_in_a_sentence(tmp_path):
    whole = (MADE / "tiles-tlm.j2k").read_bytes()
    path = beside(tmp_path, "tiles-tlm")
    rng = np.random.default_rng(7)
    for number in range(200):
        data = bytearray(whole)
        for place in rng.integers(0, 300 if number % 2 else len(data), rng.integers(1, 6)):
            data[place] = rng.integers(0, 256)
        path.write_bytes(bytes(data[: rng.integers(1, len(data))] if number % 5 == 0 else data))
        try:
            raster = open_raster(path)
            if raster.grid.width < 5000:
                raster.read(Window(0, 0, 300, 200))
        except ZoomPickError as error:
            assert str(error)
    path.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(DataError, match="damaged"):
        open_raster(path).read(Window(0, 0, 301, 259))
    size = codestream.SIZ.to_bytes(2, "big")
    at = whole.index(size) + 6
    path.write_bytes(whole[:at] + struct.pack(">8I", 1 << 31, 1 << 31, 0, 0, 1, 1, 0, 0) + whole[at + 32 :])
    with pytest.raises(DataError, match="tiles"):
        open_raster(path)


@pytest.mark.parametrize("shape", [(2048, 2048), (500, 400)])
def test_a_window_of_a_far_file_is_fetched_as_a_file_of_its_kind(tmp_path, program, shape):
    """Of many tiles those under the window come, and are kept without loss; of one tile all, which is said."""
    pixels = noise((1, *shape), "uint16", 1, 4000)[0]
    place = grid(shape[1], shape[0])
    write_jp2(pixels, place, tmp_path / "a.jp2")
    west, north = place.west + 1200, place.north - 1000
    corners = [transform(x, y, place.crs, Crs(4326)) for x, y in ((west, north - 1600), (west + 1600, north))]
    box = [float(value) for corner in corners for value in corner]
    with serving() as url:
        Handler.files["/good/a.jp2"] = (tmp_path / "a.jp2").read_bytes()
        item = {
            "type": "Feature", "stac_version": "1.0.0", "id": "one", "collection": "c", "links": [],
            "geometry": {"type": "Polygon", "coordinates": [[[-13, -39], [-11, -39], [-11, -38], [-13, -39]]]},
            "bbox": [-13, -39, -11, -38], "properties": {"datetime": "2025-01-01T00:00:00Z"},
            "assets": {"red": {"href": f"{url}/good/a.jp2", "type": "image/jp2", "roles": ["data"],
                               "eo:bands": [{"name": "red", "common_name": "red"}]}},
        }  # fmt: skip
        found = json.dumps({"type": "FeatureCollection", "features": [item]})
        done = program("download", "-", "--bands", "red", "--window", "--box", *box, "--to", "here", stdin=found)
        assert done.code == 0, done.err
        asked = [held for path, held in Handler.seen if path == "/good/a.jp2" and held]
    [path] = (tmp_path / "here").glob("one/*.jp2")
    part = open_raster(path)
    col, row = (round(value) for value in part.grid.offset_in(place))
    there = part.read(part.grid.window)[0]
    np.testing.assert_array_equal(there, pixels[row : row + there.shape[0], col : col + there.shape[1]])
    if shape[0] > 512:
        assert part.grid.width < 250 and part.grid.shares_lattice(place)
        read = sum(int(b) - int(a) + 1 for a, b in (held.removeprefix("bytes=").split("-") for held in asked))
        assert read < 0.35 * (tmp_path / "a.jp2").stat().st_size
        whole = imagecodecs.jpeg2k_decode(path.read_bytes()[path.read_bytes().index(b"jp2c") + 4 :])
        np.testing.assert_array_equal(whole, there)
    else:
        assert part.grid == place and "is one tile: it is fetched whole" in " ".join(done.err.split())
    assert program("verify", path).code == 0
