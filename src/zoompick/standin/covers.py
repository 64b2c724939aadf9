"""Land covers of the invented world: codes, and spectra read from ``data/spectra.toml``."""

from __future__ import annotations

import tomllib
from enum import IntEnum
from functools import cache
from importlib import resources

import numpy as np

from zoompick.standin.noise import Field

BANDS = ("coastal", "blue", "green", "red", "rededge", "nir", "swir16", "swir22")


class Cover(IntEnum):
    """What the ground is made of."""

    SEA = 0
    LAKE = 1
    RIVER = 2
    SAND = 3
    GRAVEL = 4
    PASTURE = 5
    FIELD = 6
    HEDGE = 7
    BROADLEAF = 8
    CONIFER = 9
    HEATH = 10
    UPLAND = 11
    ROCK = 12
    FEN = 13
    DITCH = 14
    ROOF = 15
    GARDEN = 16
    ROAD = 17
    SALTMARSH = 18


WATERS = (Cover.SEA, Cover.LAKE, Cover.RIVER, Cover.DITCH)


@cache
def spectra() -> dict[str, Field]:
    """Reflectance by material, each an array over :data:`BANDS`."""
    text = resources.files("zoompick.standin").joinpath("data/spectra.toml").read_text(encoding="utf-8")
    table = tomllib.loads(text)["material"]
    return {name: np.array(values, np.float32) for name, values in table.items()}
