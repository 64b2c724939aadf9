"""Rasters as labelled arrays for xarray (its only door), with coordinates and reference system by the CF conventions.

Source: CF conventions 1.11, sections 4 (coordinates), 5.6 and appendix F (grid mappings, ``crs_wkt``).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from zoompick.errors import UsageError
from zoompick.jsontypes import JsonObject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, to_numpy

if TYPE_CHECKING:
    import xarray


def to_xarray(raster: Raster, level: int = 0, window: Window | None = None, scaled: bool = True) -> xarray.DataArray:
    """Pixels with names of bands, coordinates of pixel centres, and the reference system.

    Parameters
    ----------
    window : Window, optional
        In the coordinates of the level; all by default.
    scaled : bool
        Physical values with NaN for missing pixels; else stored values, with ``_FillValue``.

    Returns
    -------
    DataArray, dimensions (band, y, x)
        ``y`` and ``x`` are ``latitude`` and ``longitude`` in attributes where the system is one of degrees.

    Raises
    ------
    UsageError
        xarray is not installed, or the pixels are more than 4 GiB.
    """
    try:
        import xarray
    except ImportError as error:
        raise UsageError("xarray is not installed.", "pip install 'zoompick[xarray]'.") from error
    grid = raster.levels[level].part(window or raster.levels[level].window)
    xs = grid.west + (np.arange(grid.width) + 0.5) * grid.pixel_x
    ys = grid.north - (np.arange(grid.height) + 0.5) * grid.pixel_y
    kind = ("longitude", "latitude") if grid.crs.is_geographic else (
        "projection_x_coordinate", "projection_y_coordinate"
    )  # fmt: skip
    unit = ("degrees_east", "degrees_north") if grid.crs.is_geographic else ("m", "m")
    coords: JsonObject = {
        "band": ("band", [band.name for band in raster.bands]),
        "y": ("y", ys, {"standard_name": kind[1], "units": unit[1]}),
        "x": ("x", xs, {"standard_name": kind[0], "units": unit[0]}),
        "spatial_ref": ((), 0, {"crs_wkt": grid.crs.wkt2, "GeoTransform":
                                f"{grid.west} {grid.pixel_x} 0 {grid.north} 0 {-grid.pixel_y}"}),
    }  # fmt: skip
    told: JsonObject = {"grid_mapping": "spatial_ref"}
    if not scaled:
        told |= {} if raster.nodata is None else {"_FillValue": raster.nodata}
        told |= {"scale_factor": [band.scale for band in raster.bands],
                 "add_offset": [band.offset for band in raster.bands]}  # fmt: skip
    return xarray.DataArray(to_numpy(raster, level, window, scaled), coords, ("band", "y", "x"), attrs=told)
