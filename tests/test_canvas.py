"""Pages of pixels: pictures, lines and words land where they should."""

from __future__ import annotations

import os
import pty
import subprocess
import sys

import imagecodecs
import numpy as np
import pytest
import shapely

from zoompick.figures.canvas import Box, Canvas
from zoompick.figures.sheets import Cell, contact_sheet
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import project
from zoompick.raster import kernels


def saved(canvas, path):
    canvas.save(path)
    return imagecodecs.png_decode(path.read_bytes())


def test_a_picture_is_pasted_and_seen_through_where_it_is_empty(tmp_path):
    pixels = np.zeros((40, 20, 4), np.uint8)
    pixels[:20] = (200, 100, 50, 255)
    pixels[20:30] = (200, 100, 50, 128)
    canvas = Canvas(50, 60, "#102030")
    canvas.paste(pixels, Box(10, 5, 20, 40))
    page = saved(canvas, tmp_path / "a.png")
    assert page.shape == (60, 50, 3)
    assert tuple(page[10, 15]) == (200, 100, 50)
    assert tuple(page[40, 15]) == tuple(page[0, 0]) == (0x10, 0x20, 0x30)
    assert page[30, 15] == pytest.approx([108, 66, 49], abs=1.5)


@pytest.mark.parametrize(("rows", "cols"), [(20, 10), (30, 17), (80, 40)])
def test_pictures_keep_their_mean_when_they_are_resized(rows, cols):
    rng = np.random.default_rng(3)
    coarse = rng.integers(0, 255, (5, 5, 3), np.uint8)
    pixels = np.repeat(np.repeat(coarse, 8, 0), 8, 1)
    small = kernels.resized(pixels, rows, cols)
    assert small.shape == (rows, cols, 3)
    assert small.mean() == pytest.approx(pixels.mean(), abs=3)


def test_a_line_lies_where_it_was_drawn_and_stays_in_its_box(tmp_path):
    canvas = Canvas(60, 60, "#000000")
    canvas.line(np.array([[-500.0, 30.5], [900.0, 30.5]]), "#ffffff", 1, Box(10, 10, 30, 40))
    page = saved(canvas, tmp_path / "l.png").astype(int)[:, :, 0]
    assert set(np.flatnonzero(page.max(axis=1) > 100)) == {30}
    assert (page[30, 10:40] > 120).all()
    assert page[:, :10].max() == page[:, 40:].max() == 0


def test_words_stand_on_their_line(tmp_path):
    canvas = Canvas(120, 40, "#ffffff")
    canvas.text(10, 25, "HHH", 14, "#000000", bold=True)
    page = saved(canvas, tmp_path / "w.png")[:, :, 0]
    rows, cols = np.nonzero(page < 128)
    assert rows.max() == 24
    assert 8 <= rows.max() - rows.min() <= 12
    assert 9 <= cols.min() <= 13


def test_a_sheet_draws_footprints_in_their_places(tmp_path):
    crs, bounds = Crs(32729), Bounds(230_000, 5_720_000, 238_000, 5_728_000)
    left_half = project(shapely.box(230_000, 5_719_000, 234_000, 5_729_000), LONLAT, crs)
    grey = np.full((80, 80, 4), 255, np.uint8)
    grey[:, :, :3] = 128
    contact_sheet([Cell(grey, crs, bounds, "1", "x", left_half)], None, "One", tmp_path / "s.png")
    page = imagecodecs.png_decode((tmp_path / "s.png").read_bytes()).astype(int)
    # The light line in the middle of the only cell, which begins at (14, 46) and is 232 px wide.
    row = page[46 + 116, 14 : 14 + 232].sum(axis=1)
    assert abs(int(np.argmax(row)) - 116) <= 1
    assert np.median(row) == 3 * 128


@pytest.mark.skipif(sys.platform == "win32", reason="needs a pseudo terminal")
@pytest.mark.parametrize("wanted", ["1", "0"])
def test_a_long_list_is_paged_on_a_terminal_only(archive, program, tmp_path, wanted):
    assert program("source", "add", "paged", archive).code == 0
    words = [
        "search",
        "--source",
        "paged",
        "--box",
        "-12.1",
        "-38.65",
        "-12.05",
        "-38.6",
        "--collection",
        "lapwing-l2",
    ]
    plain = program(*words)
    pager = tmp_path / "pager"
    pager.write_text(f"#!/bin/sh\ntee {tmp_path}/seen > /dev/null\n")
    pager.chmod(0o755)
    ours, theirs = pty.openpty()
    environment = os.environ | {"PAGER": str(pager), "LINES": "20", "COLUMNS": "100", "TERM": "xterm",
                                "ZOOMPICK_PAGE_LISTS": wanted}  # fmt: skip
    done = subprocess.Popen(
        [sys.executable, "-m", "zoompick", *words],
        stdin=theirs, stdout=theirs, stderr=subprocess.DEVNULL, env=environment, cwd=tmp_path,
    )  # fmt: skip
    os.close(theirs)
    shown = b""
    while True:
        try:
            part = os.read(ours, 65536)
        except OSError:
            break
        if not part:
            break
        shown += part
    done.wait(60)
    last = plain.out.rstrip().splitlines()[-1].split()[:3]
    seen = (tmp_path / "seen").read_text() if wanted == "1" else shown.decode()
    assert seen.rstrip().splitlines()[-1].split()[:3] == last
    assert (tmp_path / "seen").exists() == (wanted == "1")
