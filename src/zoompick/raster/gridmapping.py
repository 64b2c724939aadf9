"""The reference system of a variable's grid mapping, and units of its coordinates.

Source: CF conventions 1.11, section 5.6 and appendix F (grid mappings).
"""

from __future__ import annotations

import math

from zoompick.errors import FormatError, UsageError
from zoompick.geo.crs import Crs
from zoompick.raster.attributes import Dataset, Group, number_of, plain, text_of

_LENGTHS = {
    "m": 1.0, "meter": 1.0, "meters": 1.0, "metre": 1.0, "metres": 1.0, "km": 1000.0, "kilometer": 1000.0,
    "kilometers": 1000.0, "kilometre": 1000.0, "kilometres": 1000.0, "ft": 0.3048, "foot": 0.3048, "feet": 0.3048,
    "us_survey_foot": 1200 / 3937, "us-ft": 1200 / 3937, "cm": 0.01, "mm": 0.001,
}  # fmt: skip
_ANGLES = {"rad": 1.0, "radian": 1.0, "radians": 1.0, "microradian": 1e-6, "microradians": 1e-6, "urad": 1e-6}


def found_near(file: Group, entry: Dataset, name: str) -> Dataset | None:
    """What a variable calls by a name: in its group, else in those above it; None for nothing (CF section 2.7)."""
    if name.startswith("/"):
        return file.get(name)
    group = entry.parent
    for _ in range(_DEEPEST):
        found = group.get(name)
        if found is not None:
            return found
        above = getattr(group, "parent", group)
        if above == group:
            return None
        group = above
    return None


_DEEPEST = 64


def system_of(file: Group, entry: Dataset) -> tuple[Crs, float] | None:
    """Reference system of a variable's grid mapping, and what its angular coordinates are multiplied by.

    Returns
    -------
    (Crs, float) or None
        The height in metres for the view of a geostationary satellite (CF appendix F), else 0; None for no mapping.

    Raises
    ------
    FormatError
        It cannot be used.
    """
    told = text_of(entry, "grid_mapping")
    # The long form "crs: x y": one system for these coordinates.
    name = told.split(":")[0].strip().split(" ")[0]
    holder = found_near(file, entry, name) if name else None
    if holder is None:
        return None
    attrs = {key: plain(value) for key, value in holder.attrs.items()}
    wkt, code = text_of(holder, "crs_wkt") or text_of(holder, "spatial_ref"), text_of(holder, "epsg_code")
    try:
        crs = Crs.parse(code) if code else Crs.from_wkt(wkt) if wkt else Crs.from_cf(attrs)
    except UsageError as error:
        raise FormatError(f"The grid mapping {name} of {entry.name} cannot be used: {error.what}") from error
    height = number_of(holder, "perspective_point_height")
    return crs, float(height or 0) if attrs.get("grid_mapping_name") == "geostationary" else 0.0


def factor_of(unit: str, crs: Crs, height_m: float) -> float:
    """What a coordinate in a unit is multiplied by, to be one of a system; 1 for a unit that is not known.

    Parameters
    ----------
    height_m : float
        Of the satellite for which coordinates in radians are angles; 0 for none.
    """
    if unit in _ANGLES and height_m:
        return _ANGLES[unit] * height_m / crs.metres_per_unit
    if unit in _ANGLES:
        return math.degrees(_ANGLES[unit])
    if unit in _LENGTHS and not crs.is_geographic:
        return _LENGTHS[unit] / crs.metres_per_unit
    return 1.0
