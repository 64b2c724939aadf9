"""Grids in systems that are not metres north of the equator's zones."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import pyproj

FEET = (
    'PROJCRS["Ostrell grid in feet",BASEGEOGCRS["WGS 84",DATUM["World Geodetic System 1984",'
    'ELLIPSOID["WGS 84",6378137,298.257223563,LENGTHUNIT["metre",1]]],PRIMEM["Greenwich",0,'
    'ANGLEUNIT["degree",0.0174532925199433]],ID["EPSG",4326]],CONVERSION["Ostrell grid",'
    'METHOD["Transverse Mercator",ID["EPSG",9807]],'
    'PARAMETER["Latitude of natural origin",-38.5,ANGLEUNIT["degree",0.0174532925199433]],'
    'PARAMETER["Longitude of natural origin",-12,ANGLEUNIT["degree",0.0174532925199433]],'
    'PARAMETER["Scale factor at natural origin",0.9999,SCALEUNIT["unity",1]],'
    'PARAMETER["False easting",500000,LENGTHUNIT["foot",0.3048]],'
    'PARAMETER["False northing",1000000,LENGTHUNIT["foot",0.3048]]],CS[Cartesian,2],'
    'AXIS["(E)",east,ORDER[1],LENGTHUNIT["foot",0.3048]],AXIS["(N)",north,ORDER[2],LENGTHUNIT["foot",0.3048]]]'
)


@dataclass(frozen=True)
class Place:
    """A north-up grid; edges and pixel sizes in the unit of its system.

    Attributes
    ----------
    system : int or str
        EPSG code, or WKT2.
    """

    system: int | str
    west: float
    north: float
    pixel_x: float
    pixel_y: float
    width: int
    height: int

    @classmethod
    def around(cls, system: int | str, box: tuple[float, float, float, float], pixel: tuple[float, float],
               shift: float = 0.0) -> Place:  # fmt: skip
        """Over a box in degrees (west, south, east, north), begun ``shift`` pixels beside whole multiples."""
        lon = np.array([box[0], box[2], box[0], box[2]])
        lat = np.array([box[1], box[1], box[3], box[3]])
        xs, ys = pyproj.Transformer.from_crs(4326, system, always_xy=True).transform(lon, lat)
        west = (np.floor(min(xs) / pixel[0]) + shift) * pixel[0]
        north = (np.ceil(max(ys) / pixel[1]) + shift) * pixel[1]
        return cls(system, float(west), float(north), *pixel, int((max(xs) - west) / pixel[0]) + 1,
                   int((north - min(ys)) / pixel[1]) + 1)  # fmt: skip

    @cached_property
    def lonlat(self) -> tuple[Any, Any]:
        """Longitude and latitude of pixel centres, each (rows, cols)."""
        xs = self.west + (np.arange(self.width) + 0.5) * self.pixel_x
        ys = self.north - (np.arange(self.height) + 0.5) * self.pixel_y
        back = pyproj.Transformer.from_crs(self.system, 4326, always_xy=True)
        return back.transform(*np.meshgrid(xs, ys))

    @property
    def ring(self) -> list[list[float]]:
        """Its edge in longitude and latitude, closed."""
        east, south = self.west + self.width * self.pixel_x, self.north - self.height * self.pixel_y
        steps = np.linspace(0, 1, 9)[:-1]
        along = steps * (east - self.west)
        xs = np.concatenate([self.west + along, np.full(8, east), east - along, np.full(9, self.west)])
        ys = np.concatenate([np.full(8, south), south + steps * (self.north - south), np.full(8, self.north),
                             self.north + np.linspace(0, 1, 9) * (south - self.north)])  # fmt: skip
        lon, lat = pyproj.Transformer.from_crs(self.system, 4326, always_xy=True).transform(xs, ys)
        return [[round(float(x), 6), round(float(y), 6)] for x, y in zip(lon, lat, strict=True)]
