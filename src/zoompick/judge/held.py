"""What a band holds, as far as anything tells: reflectance, numbers without a scale, a measure, codes of classes."""

from __future__ import annotations

from typing import Literal

from zoompick.arrays import Floats, Pixels, PixelType
from zoompick.later import np
from zoompick.raster.raster import Band
from zoompick.sensors.classes import few_codes

Held = Literal["reflectance", "unscaled", "measure", "unknown", "codes"]

_REFLECT = ("coastal", "blue", "green", "yellow", "red", "rededge", "pan", "nir", "cirrus", "swir")
_EMIT = ("lwir", "mwir", "thermal", "temperature")
_LONGEST_UM = 3.0
_LIKELY, _LEAST = (-0.2, 1.6), -0.05


def _physical(band: Band, sampled: Pixels) -> Floats:
    return np.asarray(sampled.astype(np.float64) * band.scale + band.offset)


def held_by(band: Band, dtype: PixelType, sampled: Pixels) -> Held:
    """What a band holds.

    A unit makes it a measure, as does a wavelength beyond 3 micrometres, where the ground's own light prevails, or a
    name that says so. What has a scale, and fractions of a band that reflects, are reflectances; other numbers of
    such a band have no scale that anybody knows.

    Parameters
    ----------
    sampled : ndarray, shape (count,)
        Stored values, those that are missing left out.

    Notes
    -----
    Names: the common band names of the electro-optical extension to the SpatioTemporal Asset Catalog, version 2.
    """
    is_emitted = band.name.startswith(_EMIT) or (band.wavelength_um or 0) > _LONGEST_UM
    if band.is_class:
        return "codes"
    if band.unit or is_emitted:
        return "measure"
    is_named = band.name.startswith(_REFLECT) or band.wavelength_um is not None
    if (band.scale, band.offset) != (1.0, 0.0):
        # What nothing names may be reflectance, and is unless it has a sign, as indices have.
        is_so = is_named or not sampled.size or float(np.percentile(_physical(band, sampled), 1)) > _LEAST
        return "reflectance" if is_so else "unknown"
    if not is_named:
        return "codes" if few_codes(np.unique(sampled[: 1 << 16])) else "unknown"
    if dtype.kind == "f" and sampled.size and _LIKELY[0] <= float(np.median(sampled)) <= _LIKELY[1]:
        return "reflectance"
    return "unscaled"
