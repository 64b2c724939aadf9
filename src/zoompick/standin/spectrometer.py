"""An imaging spectrometer that flew with Curlew over the fen: a netCDF cube of many narrow bands."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zoompick.standin import ground, stac
from zoompick.standin.container import Variable, write_container
from zoompick.standin.covers import BANDS
from zoompick.standin.passes import Pass

NAME = "curlew-spectrometer-fen.nc"
PIXEL_M, COUNT = 20.0, 168
_FIRST_NM, _STEP_NM, _NOISE, _SEED = 445.0, 10.0, 0.0008, 4711
_FILL, _SCALE = -9999, 0.0001
_BLIND_NM = ((1340.0, 1450.0), (1790.0, 1970.0))
"""Where water vapour lets nothing through."""


def wavelengths_nm() -> Any:
    """Centres of the bands."""
    return _FIRST_NM + _STEP_NM * np.arange(COUNT)


def write_cube(seen: Pass, polygon: Any, folder: Path, cache: Path) -> None:
    """Reflectance over a polygon, in 168 bands from 445 to 2115 nm; blind bands hold nothing but fill."""
    grid = ground.grid_around(polygon, PIXEL_M)
    picture = ground.see(seen, grid, cache)
    known = [entry["center_um"] * 1000 for entry in stac.facts("lapwing")["band"] if entry["name"] in BANDS]
    nm = wavelengths_nm()
    # Each narrow band lies between two of the world's eight.
    weights = np.array([np.interp(nm, known, np.eye(len(known))[place]) for place in range(len(known))])
    cube = np.einsum("kn,kyx->nyx", weights, np.asarray(picture.reflectance, np.float64))
    cube += np.random.default_rng(_SEED).normal(0, _NOISE, cube.shape)
    stored = np.rint(cube / _SCALE).astype(np.int16)
    for low, high in _BLIND_NM:
        stored[(nm >= low) & (nm <= high)] = _FILL
    xs = grid.west + (np.arange(grid.width) + 0.5) * PIXEL_M
    ys = grid.north - (np.arange(grid.height) + 0.5) * PIXEL_M
    variables = {
        "wavelength": Variable(nm, ("wavelength",), {"units": "nm", "standard_name": "radiation_wavelength"}),
        "y": Variable(ys, ("y",), {"units": "m", "standard_name": "projection_y_coordinate"}),
        "x": Variable(xs, ("x",), {"units": "m", "standard_name": "projection_x_coordinate"}),
        "crs": Variable(np.zeros(2, np.int32), ("two",), {"crs_wkt": ground.UTM.wkt}),
        "reflectance": Variable(
            stored, ("wavelength", "y", "x"),
            {"scale_factor": _SCALE, "_FillValue": np.int16(_FILL), "units": "1", "grid_mapping": "crs"},
        ),
    }  # fmt: skip
    write_container(folder / NAME, variables, {"Conventions": "CF-1.11", "title": "The fen in many narrow bands"})
