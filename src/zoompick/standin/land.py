"""Where the islands are, coarsely: known without making the world, so that a catalogue can tell cloud over land."""

from __future__ import annotations

from functools import cache
from importlib import resources
from typing import Any

import imagecodecs
import numpy as np
import scipy.ndimage

from zoompick.standin import world
from zoompick.standin.noise import Field

STEP = 16
"""World pixels to one of the mask."""


@cache
def mask() -> Field:
    """Share of land, 0 to 1, on every 16th pixel of the world: ``data/land.png``, written by scripts/land.py."""
    data = resources.files("zoompick.standin").joinpath("data/land.png").read_bytes()
    return np.asarray(imagecodecs.png_decode(data) / np.float32(255), np.float32)


@cache
def share(shape: tuple[int, int]) -> Field:
    """The mask enlarged to the world in ``shape`` pixels and softened, as weather feels it."""
    rows, cols = (
        np.linspace(-0.5 + 0.5 / f, n - 0.5 - 0.5 / f, n * f)
        for n, f in zip(mask().shape, _factors(shape), strict=True)
    )
    place = np.meshgrid(rows, cols, indexing="ij")
    large = scipy.ndimage.map_coordinates(mask(), place, order=1, mode="nearest")
    return np.asarray(scipy.ndimage.gaussian_filter(large, 3), np.float32)


def _factors(shape: tuple[int, int]) -> tuple[int, int]:
    return shape[0] * STEP // world.HEIGHT, shape[1] * STEP // world.WIDTH


def share_at(cols: Any, rows: Any) -> Field:
    """Share of land at positions in pixels of the world; beyond its edge there is none."""
    place = [(rows + 0.5) / STEP - 0.5, (cols + 0.5) / STEP - 0.5]
    return np.asarray(scipy.ndimage.map_coordinates(mask(), place, order=1, mode="constant"), np.float32)
