"""What a change of datum between two reference systems may cost (with :mod:`zoompick.geo.crs` the door to pyproj)."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from functools import lru_cache

from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs, definition, transform
from zoompick.later import np, pyproj

_UNKNOWN_M = 1000.0
"""So far two datums may lie apart between which nothing is known."""
_NO_DATUM = ("undefined", "unknown", "not specified", "not_specified")


@dataclass(frozen=True)
class DatumChange:
    """How positions come from one datum to another.

    Attributes
    ----------
    accuracy_m : float or None
        As the register tells; None where it does not know the way, so that coordinates are taken as they are.
    missing : tuple of str
        Files of corrections for a better way that are not on this machine.
    """

    source: str
    target: str
    accuracy_m: float | None
    missing: tuple[str, ...] = ()

    @property
    def bound_m(self) -> float:
        """How far a pixel may be off."""
        return _UNKNOWN_M if self.accuracy_m is None else self.accuracy_m

    @property
    def is_rough(self) -> bool:
        """True where the register does not know the way, or knows a better one than can be gone here."""
        return self.accuracy_m is None or bool(self.missing)

    @property
    def text(self) -> str:
        """For people."""
        way = f"{self.source} to {self.target}"
        if self.accuracy_m is None:
            return f"from {way} no change of datum is known: coordinates were taken as they are"
        lacking = f"; a better way needs {', '.join(self.missing)}, not on this machine" if self.missing else ""
        return f"the change of datum from {way} is accurate to {self.accuracy_m:g} m{lacking}"


def datum_change(source: Crs, target: Crs, box: Bounds) -> DatumChange | None:
    """What the way between two systems costs about a box in the target; None where both have one datum.

    A system that names no datum is taken for one of the other's.
    """
    if source == target:
        return None
    names = [_datum_of(one) for one in (source, target)]
    if names[0] == names[1] or any(name.lower().startswith(_NO_DATUM) for name in names):
        return None
    xs, ys = np.meshgrid(np.linspace(box.west, box.east, 3), np.linspace(box.south, box.north, 3))
    lons, lats = transform(xs.ravel(), ys.ravel(), target, LONLAT)
    seen = np.isfinite(lons) & np.isfinite(lats)
    if not seen.any():
        return None
    # Whole degrees, so that neighbouring grids are one question.
    west, south = np.floor(lons[seen].min()), np.floor(lats[seen].min())
    east, north = np.ceil(lons[seen].max()), np.ceil(lats[seen].max())
    return _way(source, target, (float(west), float(south), float(east), float(north)))


@lru_cache(maxsize=128)
def _datum_of(crs: Crs) -> str:
    base = definition(crs).geodetic_crs
    return str(base.datum.name) if base is not None and base.datum is not None else "unknown"


@lru_cache(maxsize=128)
def _way(source: Crs, target: Crs, area: tuple[float, float, float, float]) -> DatumChange:
    with warnings.catch_warnings():
        # That a better way is not here is told by the group itself.
        warnings.simplefilter("ignore", UserWarning)
        group = pyproj.transformer.TransformerGroup(
            definition(source),
            definition(target),
            always_xy=True,
            area_of_interest=pyproj.aoi.AreaOfInterest(*area),  # type: ignore[arg-type]
        )
    best = next(iter(group.transformers), None)
    accuracy = float(best.accuracy) if best is not None and best.accuracy is not None and best.accuracy >= 0 else None
    better = [one for one in group.unavailable_operations
              if one.accuracy >= 0 and (accuracy is None or one.accuracy < accuracy)]  # fmt: skip
    missing = tuple(grid.short_name for grid in better[0].grids if not grid.available) if better else ()
    return DatumChange(_datum_of(source), _datum_of(target), accuracy, missing)
