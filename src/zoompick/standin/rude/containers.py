"""netCDF files of the rude archive: swaths with packed places, and a grid whose rows are not even."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zoompick.standin.rude import truth
from zoompick.standin.rude.files import Layer, write_netcdf

_ROWS, _COLS, _STEP_KM = 240, 200, 2.2
_EARTH_KM = 6371.0
_PLACE_SCALE = 0.0005
_FILL, _MISSING = -32768, -9999


def swath_places(middle: tuple[float, float]) -> tuple[Any, Any]:
    """Longitude and latitude of a swath's pixels, each (rows, cols): a tilted plane net laid on the sphere.

    Source: azimuthal equidistant projection, J. P. Snyder, Map projections: a working manual (1987), section 25.
    """
    down, across = np.meshgrid(np.arange(_ROWS) - _ROWS / 2, np.arange(_COLS) - _COLS / 2, indexing="ij")
    x = (across * 0.96 - down * 0.28) * _STEP_KM / _EARTH_KM
    y = (-down * 0.96 - across * 0.28) * _STEP_KM / _EARTH_KM
    lon0, lat0 = np.radians(middle)
    c = np.hypot(x, y)
    spread = np.where(c > 0, np.sin(c) / np.where(c > 0, c, 1), 1.0)
    lat = np.arcsin(np.cos(c) * np.sin(lat0) + y * spread * np.cos(lat0))
    lon = lon0 + np.arctan2(x * spread, np.cos(c) * np.cos(lat0) - y * spread * np.sin(lat0))
    return (np.degrees(lon) + 180) % 360 - 180, np.degrees(lat)


def ocean_swath(path: Path, middle: tuple[float, float]) -> None:
    """Temperature of the sea on a swath; one corner is missing."""
    lon, lat = swath_places(middle)
    stored = np.rint((truth.warmth(lon, lat) - 290) * 100).astype(np.int16)
    stored[:20, :30] = _FILL
    net = ("along", "across")
    packed = {"scale_factor": _PLACE_SCALE, "add_offset": 0.0, "_FillValue": np.int32(-(1 << 31))}
    write_netcdf(path, {
        "geolocation/latitude": Layer(np.rint(lat / _PLACE_SCALE).astype(np.int32), net, {
            **packed, "units": "degrees_north", "standard_name": "latitude"}),
        "geolocation/longitude": Layer(np.rint(lon / _PLACE_SCALE).astype(np.int32), net, {
            **packed, "units": "degrees_east", "standard_name": "longitude"}),
        "science/sst": Layer(stored, net, {
            "scale_factor": np.array([0.01]), "add_offset": np.array([290.0]), "_FillValue": np.int16(_FILL),
            "units": "kelvin", "coordinates": "/geolocation/longitude /geolocation/latitude"}),
    }, {"Conventions": "CF-1.8"})  # fmt: skip


def grid_axes() -> tuple[Any, Any]:
    """Latitudes, uneven and northward, and longitudes from 0 to 360 of the grid's cells."""
    part = np.linspace(0, 1, 101)
    return -41 + 5 * (part + 0.05 * np.sin(np.pi * part)), 346 + np.arange(81) * 0.05


def weather_grid(path: Path) -> None:
    """Rain in a group, temperature beside it: packed, with a fill value, another for missing, and a valid range."""
    lat, lon = grid_axes()
    places = np.meshgrid(np.where(lon > 180, lon - 360, lon), lat)
    rain = np.rint(truth.rain(*places) / 0.01).astype(np.int16)
    rain[:3], rain[-2:], rain[50:52, 40:42] = _FILL, _MISSING, 30_000
    warm = truth.warmth(*places).astype(np.float32)
    net = ("lat", "lon")
    write_netcdf(path, {
        "lat": Layer(lat.astype(np.float32), ("lat",), {"units": "degrees_north", "standard_name": "latitude"}),
        "lon": Layer(np.rint((lon - 300) / 0.05).astype(np.int16), ("lon",), {
            "units": "degrees_east", "standard_name": "longitude", "scale_factor": 0.05, "add_offset": 300.0}),
        "surface/rain": Layer(rain, net, {
            "scale_factor": 0.01, "_FillValue": np.int16(_FILL), "missing_value": np.int16(_MISSING),
            "valid_range": np.array([0, 25_000], np.int16), "units": "mm"}),
        "surface/warmth": Layer(warm, net, {"units": "K"}),
    }, {"Conventions": "CF-1.8"})  # fmt: skip
