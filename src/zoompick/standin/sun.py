"""Where the sun stands."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Sun:
    """Direction to the sun: azimuth clockwise from north and elevation above the horizon, in degrees."""

    azimuth_deg: float
    elevation_deg: float

    @classmethod
    def at(cls, when: datetime, lon: float, lat: float) -> Sun:
        """Sun over a place at a UTC time, to about half a degree.

        Source: J. W. Spencer, Fourier series representation of the position of the sun, Search 2 (1971).
        """
        day = when.timetuple().tm_yday - 1
        hours = when.hour + when.minute / 60 + when.second / 3600
        g = 2 * math.pi * (day + hours / 24) / 365
        declination = (
            0.006918 - 0.399912 * math.cos(g) + 0.070257 * math.sin(g) - 0.006758 * math.cos(2 * g)
            + 0.000907 * math.sin(2 * g) - 0.002697 * math.cos(3 * g) + 0.00148 * math.sin(3 * g)
        )  # fmt: skip
        equation_min = 229.18 * (
            0.000075 + 0.001868 * math.cos(g) - 0.032077 * math.sin(g)
            - 0.014615 * math.cos(2 * g) - 0.040849 * math.sin(2 * g)
        )  # fmt: skip
        hour_angle = math.radians((hours * 60 + equation_min + 4 * lon) / 4 - 180)
        latitude = math.radians(lat)
        up = math.sin(latitude) * math.sin(declination) + math.cos(latitude) * math.cos(declination) * math.cos(
            hour_angle
        )
        east = -math.cos(declination) * math.sin(hour_angle)
        north = math.cos(latitude) * math.sin(declination) - math.sin(latitude) * math.cos(declination) * math.cos(
            hour_angle
        )
        return cls(math.degrees(math.atan2(east, north)) % 360, math.degrees(math.asin(up)))

    @property
    def vector(self) -> tuple[float, float, float]:
        """Unit vector east, north, up."""
        azimuth, elevation = math.radians(self.azimuth_deg), math.radians(self.elevation_deg)
        flat = math.cos(elevation)
        return flat * math.sin(azimuth), flat * math.cos(azimuth), math.sin(elevation)
