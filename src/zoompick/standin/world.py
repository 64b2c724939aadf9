"""The Ostrell islands: an invented landscape, the same on every run.

Layers lie on one 8 m grid in UTM zone 29S, which is carried on west of 12 W so that the world is one piece; scenes in
zone 28S are cut from it by transforming their pixels. They are made once and kept in the cache folder.
"""

from __future__ import annotations

import json
import shutil
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import numpy as np
import scipy.ndimage

from zoompick.geo.crs import LONLAT, Crs, transform
from zoompick.raster.grid import Grid, Window
from zoompick.standin import landscape
from zoompick.standin.covers import Cover
from zoompick.standin.noise import Between, Field

VERSION = 4
"""Raise it when the landscape changes, so that kept layers and scenes are made again."""
SEED = 386120
PIXEL_M = 8.0
WIDTH, HEIGHT = 3584, 2560
_OPEN_SEA_M = 30.0
CENTRE_LON, CENTRE_LAT = -12.0, -38.6


@dataclass(frozen=True)
class Layers:
    """What the ground is, pixel by pixel; each an array (rows, cols).

    Attributes
    ----------
    cover : uint8, see :class:`~zoompick.standin.covers.Cover`
    plot : uint16
        A number for each field, garden or roof, from which crops and shades follow.
    slope_x, slope_y : float16
        Rise per metre eastwards and southwards.
    texture : float16
        Fine grain of the surface, about -3 to 3.
    patch : float16
        Broad patches of dry and lush, about -3 to 3.
    depth : float16
        Metres of sea; 0 on land.
    silt : float16
        Mud in the water, 0 to 1.
    wet : float16
        In the fen how low the ground lies: above the day's threshold it is under water.
    """

    cover: Any
    plot: Any
    slope_x: Any
    slope_y: Any
    texture: Any
    patch: Any
    depth: Any
    silt: Any
    wet: Any

    def part(self, window: Window) -> Layers:
        """Layers of a window; beyond the world's edge the sea is mirrored."""
        inside = window.intersect(Window(0, 0, WIDTH, HEIGHT))
        rows, cols = inside.slices_in(Window(0, 0, WIDTH, HEIGHT))
        gaps = (
            (inside.row - window.row, window.stop_row - inside.stop_row),
            (inside.col - window.col, window.stop_col - inside.stop_col),
        )
        parts = {field.name: np.asarray(getattr(self, field.name)[rows, cols]) for field in fields(self)}
        if inside != window:
            parts = {name: np.pad(part, gaps, mode="reflect") for name, part in parts.items()}
        return Layers(**parts)

    @property
    def flat(self) -> Layers:
        """Each layer as one row of pixels."""
        return Layers(**{field.name: getattr(self, field.name).ravel() for field in fields(self)})

    def picked(self, rows: Any, cols: Any) -> Layers:
        """Layers at some of their own pixels."""
        return Layers(**{field.name: getattr(self, field.name)[rows, cols] for field in fields(self)})

    def at(self, cols: Any, rows: Any, only: tuple[str, ...] = ()) -> Layers:
        """Layers at any positions in pixels of the world: codes from the nearest pixel, the rest interpolated.

        Beyond the world's edge is open sea. With ``only`` all layers but these are None.
        """
        outside = (cols < 0) | (cols > WIDTH - 1) | (rows < 0) | (rows > HEIGHT - 1)
        cols, rows = _folded(cols, WIDTH), _folded(rows, HEIGHT)
        west, north = int(cols.min()), int(rows.min())
        near = self.part(Window(west, north, int(cols.max()) + 2 - west, int(rows.max()) + 2 - north))
        place = [rows - north, cols - west]
        nearest = np.rint(place[0]).astype(int), np.rint(place[1]).astype(int)
        between = Between.of(place[0], place[1], near.cover.shape)
        found: dict[str, Any] = dict.fromkeys(field.name for field in fields(self))
        for name in only or tuple(found):
            values = getattr(near, name)
            found[name] = values[nearest] if values.dtype.kind == "u" else between.blend(values)
        for name, value in (("cover", Cover.SEA), ("depth", _OPEN_SEA_M), ("silt", 0)):
            if found[name] is not None:
                found[name][outside] = value
        return Layers(**found)


def _folded(places: Any, count: int) -> Any:
    """Positions mirrored into 0 to ``count`` - 1."""
    period = 2.0 * (count - 1)
    places = np.mod(places, period)
    return np.minimum(places, period - places)


def grid() -> Grid:
    """Grid of the world, its corner on a multiple of 48 m."""
    x, y = transform(CENTRE_LON, CENTRE_LAT, LONLAT, Crs(32729))
    west = round((float(x) - WIDTH * PIXEL_M / 2) / 48) * 48.0
    north = round((float(y) + HEIGHT * PIXEL_M / 2) / 48) * 48.0
    return Grid(Crs(32729), PIXEL_M, PIXEL_M, west, north, WIDTH, HEIGHT)


_lock = threading.Lock()
_kept: dict[Path, Layers] = {}


def layers(cache: Path) -> Layers:
    """The world's layers, mapped from files under ``cache``; made there at the first call."""
    folder = cache / f"ostrell-{SEED}-v{VERSION}" / "world"
    with _lock:
        if folder not in _kept:
            if not (folder / "done.json").exists():
                _make(folder)
            _kept[folder] = Layers(
                **{field.name: np.load(folder / f"{field.name}.npy", mmap_mode="r") for field in fields(Layers)}
            )
        return _kept[folder]


def _make(folder: Path) -> None:
    """Make all layers in a temporary folder, then give it its name in one step."""
    folder.parent.mkdir(parents=True, exist_ok=True)
    part = Path(tempfile.mkdtemp(prefix=".world-", dir=folder.parent))
    try:
        for name, array in _layers().items():
            np.save(part / f"{name}.npy", array)
        (part / "done.json").write_text(json.dumps({"version": VERSION, "seed": SEED}))
        try:
            part.rename(folder)
        except OSError:
            if not (folder / "done.json").exists():
                raise
    finally:
        shutil.rmtree(part, ignore_errors=True)


def _layers() -> dict[str, Any]:
    land = landscape.make((HEIGHT, WIDTH), PIXEL_M, SEED)
    with ThreadPoolExecutor(1) as aside:
        slopes = aside.submit(_slopes, land.elevation)
        halves = {
            name: getattr(land, name).astype(np.float16) for name in ("texture", "patch", "depth", "silt", "wet")
        }
    slope_x, slope_y = slopes.result()
    return {"cover": land.cover, "plot": land.plot, "slope_x": slope_x, "slope_y": slope_y} | halves


def _slopes(elevation: Field) -> tuple[Any, Any]:
    smooth = scipy.ndimage.uniform_filter(elevation, 3)
    down, across = np.gradient(smooth, PIXEL_M)
    return across.astype(np.float16), down.astype(np.float16)
