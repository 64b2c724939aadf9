"""Input that was made to hurt, and terminals that are not ours: the worst that was found, each with its kind."""

from __future__ import annotations

import os
import signal
import sqlite3
import struct
import subprocess
import sys
import time
import zipfile
import zlib
from contextlib import closing

import numpy as np
import pytest
import shapely

from badserver import BODY, Handler, serving
from helpers import foreign_tiff, grid, noise
from zoompick.area.read import read_area
from zoompick.errors import DataError, SourceError, ZoomPickError
from zoompick.geo.antimeridian import cut
from zoompick.net.client import Client
from zoompick.net.ranges import RemoteFile
from zoompick.raster.pictures import colours_of, size_of
from zoompick.tiles.tilestore import TileStore

CALL = [sys.executable, "-m", "zoompick"]


def png(cols, rows):
    """A picture whose header is large and whose body is nothing."""
    head = b"IHDR" + struct.pack(">2I5B", cols, rows, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + struct.pack(">I", 13) + head + struct.pack(">I", zlib.crc32(head))


def kmz_with_a_member_without_a_name(path):
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("doc.kml", "<kml/>")
        archive.writestr("a", "")
    path.write_bytes(path.read_bytes().replace(b"\1\0\0\0a", b"\1\0\0\0\0"))


def geopackage_with_names_of_no_encoding(path):
    with closing(sqlite3.connect(path)) as database:
        database.execute("CREATE TABLE gpkg_geometry_columns (table_name, column_name, srs_id)")
        database.execute("INSERT INTO gpkg_geometry_columns VALUES ('t', 'geom', 4326)")
        database.execute("CREATE TABLE t (geom, qqqqqqqq)")
        database.execute("INSERT INTO t VALUES (NULL, 1)")
        database.commit()
    path.write_bytes(path.read_bytes().replace(b"qqqqqqqq", b"qqqq\xff\xf6qq"))


@pytest.mark.parametrize(
    ("name", "make"),
    [("a.kmz", kmz_with_a_member_without_a_name), ("a.gpkg", geopackage_with_names_of_no_encoding)],
)
def test_area_files_that_are_broken_end_in_a_sentence(tmp_path, name, make):
    make(tmp_path / name)
    with pytest.raises(ZoomPickError):
        read_area(tmp_path / name)


def test_a_ring_that_touches_the_antimeridian_is_only_ground():
    shape = cut([[170, 0], [180, 0], [180, 5], [181, 6], [180, 7], [175, 8], [170, 0]])
    assert {part.geom_type for part in shapely.get_parts(shape)} == {"Polygon"}


def test_pictures_are_refused_by_their_header(tmp_path):
    assert size_of(png(30_000, 20_000)) == (20_000, 30_000)
    with pytest.raises(DataError, match="30000 x 20000 pixels"):
        colours_of(png(30_000, 20_000))


def test_the_sizes_of_pictures_are_those_that_they_decode_to():
    from imagecodecs import jpeg8_encode, png_encode, webp_encode

    colours = np.random.default_rng(3).integers(0, 255, (37, 91, 3), dtype=np.uint8)
    clear = np.dstack([colours, colours[..., :1]])
    for data in (
        png_encode(colours), jpeg8_encode(colours), webp_encode(colours, lossless=True),
        webp_encode(colours, lossless=False, level=60), webp_encode(clear, lossless=False, level=60),
    ):  # fmt: skip
        assert size_of(data) == colours_of(data).shape[1:] == (37, 91)


def test_a_range_that_is_longer_than_asked_is_not_read_to_its_end():
    with serving() as url:
        file = RemoteFile(f"{url}/overlong", Client())
        with pytest.raises(SourceError, match="sent more of a stretch"):
            file.read(0, 100)
        assert file.cost.received < len(BODY) * 50


def test_a_store_with_places_that_are_no_numbers(tmp_path):
    path = tmp_path / "tiles.mbtiles"
    with closing(sqlite3.connect(path)) as database:
        database.execute("CREATE TABLE metadata (name, value)")
        database.execute("CREATE TABLE tiles (zoom_level, tile_column, tile_row, tile_data)")
        database.executemany("INSERT INTO tiles VALUES (3, ?, ?, x'00')", [(None, 1), ("a", 2), (1, 2)])
        database.commit()
    with TileStore(path, must_exist=True) as store:
        here, _ = store.known(3, 8)
    assert len(here) == 1


@pytest.mark.parametrize(("pixel", "said"), [(1e-4, "before they are packed, with"), (1e-300, "cannot be")])
def test_grids_beyond_any_disk_are_refused_before_the_first_byte(tmp_path, program, pixel, said):
    foreign_tiff(tmp_path / "red.tif", noise((1, 40, 40)), grid(40, 40), nodata="0")
    done = program("stack", "red.tif", "--pixel", pixel, "--out", "large.tif")
    assert done.code == 2 and said in " ".join(done.err.split())
    assert sorted(path.name for path in tmp_path.iterdir()) == ["red.tif"]


@pytest.mark.parametrize(
    ("settings", "said"),
    [("max_gap_kb = inf", "expected"), ("x = " + "9" * 5000, "cannot be read"), ("\ufeffretries = 2", "")],
)
def test_settings_of_any_kind(tmp_path, program, settings, said):
    (tmp_path / "settings.toml").write_text(settings, encoding="utf-8")
    done = program("source", "check", "gone", env={"ZOOMPICK_CONFIG": str(tmp_path)})
    assert done.code in (2, 4)
    assert "cannot be read" not in done.err or said == "cannot be read"


# Terminals


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_a_command_that_waits_on_a_silent_server_is_stopped(tmp_path, how):
    with serving() as url:
        process = subprocess.Popen(
            [*CALL, "source", "add", "mute", f"{url}/silent"], cwd=tmp_path, stderr=subprocess.PIPE, text=True,
            env=os.environ | {"ZOOMPICK_CONFIG": str(tmp_path)},
            # A shell's background jobs, and so all they start, ignore Ctrl-C.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )  # fmt: skip
        while not Handler.seen and process.poll() is None:
            time.sleep(0.02)
        process.send_signal(how)
        _, told = process.communicate(timeout=20)
    assert (process.returncode, "stopped" in told, "Traceback" in told) == (130, True, False)


def test_a_reader_that_has_enough_is_no_failure(tmp_path):
    line = f"'{sys.executable}' -m zoompick search --help | head -1; echo ${{PIPESTATUS[0]}}"
    done = subprocess.run(["bash", "-c", line], cwd=tmp_path, capture_output=True, text=True)
    assert done.stdout.splitlines()[-1] in ("0", "141")
    assert done.stderr == ""


@pytest.mark.parametrize("encoding", ["ascii", "latin-1"])
def test_output_that_the_terminal_lacks_is_replaced(tmp_path, encoding):
    done = subprocess.run(
        [*CALL, "area", "places"], cwd=tmp_path, capture_output=True, env=os.environ | {"PYTHONIOENCODING": encoding}
    )
    assert done.returncode == 0, done.stderr
    assert b"Ostrell" in done.stdout and b"Traceback" not in done.stderr
    done.stdout.decode(encoding)


def test_titles_never_reach_a_terminal_as_commands(tmp_path, program):
    title = "Fen\x1b]52;c;aGk=\x07\u202e\x00end"
    (tmp_path / "a.wkt").write_text("POLYGON((-12 -38, -12.1 -38, -12 -38.1, -12 -38))")
    done = program("area", "a.wkt", "--name", title.replace("\x00", ""))
    assert done.code in (0, 2)
    assert not {"\x1b", "\x07", "\u202e"} & set(done.out + done.err)


@pytest.mark.parametrize("dtype", ["int16", "int32", "float32", "uint8"])
def test_classes_of_any_value_are_counted(dtype):
    from zoompick.discovery.clouds import _codes

    given = {"int16": [-3, 4, 4], "int32": [2**31 - 1, 4, 4], "float32": [np.nan, 4, 4], "uint8": [255, 4, 4]}[dtype]
    counts = np.bincount(_codes(np.array(given, dtype)))
    assert counts[4] == 2 and counts.sum() == 3 and counts.size <= 65_536


def test_labels_of_a_map_neither_overlap_nor_leave_it():
    from matplotlib.figure import Figure

    from zoompick.figures.labels import Labels

    axes = Figure(figsize=(4, 3)).add_axes((0, 0, 1, 1))
    axes.set_xlim(0, 10)
    axes.set_ylim(0, 10)
    labels = Labels(axes, [(0, 0, 0.3, 0.2)])
    for spot in [(5, 5), (5.1, 5), (9.9, 9.9), (1, 1), (0.1, 6), (5, 5.2), (5, 4.9)]:
        labels.beside("A $place$ of some length", spot)
    for _ in range(3):
        labels.inside("1, 2", (3, 9, 5, 9.9), (0, 0, 1, 1))
    renderer = labels._renderer
    boxes = [text.get_window_extent(renderer) for text in axes.texts]
    assert len(boxes) >= 6
    assert not [1 for n, box in enumerate(boxes) for other in boxes[:n] if box.overlaps(other)]
    assert all(box.x0 >= 0 and box.y0 >= 0 and box.x1 <= 400 and box.y1 <= 300 for box in boxes)
    assert not [box for box in boxes if box.x0 < 120 and box.y0 < 60]
