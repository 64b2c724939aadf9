"""The registry of checks on products and plain rasters: what each judges, and when it has something to judge."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import Protocol

from zoompick.geo.shapes import Shape
from zoompick.raster.grid import Grid
from zoompick.raster.raster import Raster
from zoompick.sensors.classes import ClassTable
from zoompick.verification import bands, coverage
from zoompick.verification.finding import Finding


@dataclass(frozen=True)
class Expected:
    """What a raster should be; what is empty or None is not judged.

    Attributes
    ----------
    area : polygon or None
        Longitude/latitude.
    valid_percent, cloud_percent : float
        Valid pixels in the area at least, cloud at most.
    classes : ClassTable or None
        Of a class layer.
    """

    grid: Grid | None = None
    bands: Sequence[str] = ()
    area: Shape | None = None
    valid_percent: float = 0.0
    cloud_percent: float = 100.0
    classes: ClassTable | None = None
    executor: Executor | None = None


class Judge(Protocol):
    """A check: a raster, what it should be, and its name for people."""

    def __call__(self, raster: Raster, expected: Expected, subject: str) -> Finding: ...


@dataclass(frozen=True, slots=True)
class Check:
    """A check and when it can be made.

    Attributes
    ----------
    applies : callable
        Whether something was expected that it can judge.
    """

    judge: Judge
    applies: Callable[[Raster, Expected], bool]


def _grid(raster: Raster, expected: Expected, subject: str) -> Finding:
    assert expected.grid is not None
    return bands.on_grid(raster, expected.grid, subject)


def _order(raster: Raster, expected: Expected, subject: str) -> Finding:
    return bands.bands_in_order(raster, expected.bands, subject)


def _distinct(raster: Raster, expected: Expected, subject: str) -> Finding:
    return bands.bands_distinct(raster, subject, expected.executor)


def _valid(raster: Raster, expected: Expected, subject: str) -> Finding:
    assert expected.area is not None
    return coverage.valid_share(raster, expected.area, expected.valid_percent, subject, expected.executor)


def _cloud(raster: Raster, expected: Expected, subject: str) -> Finding:
    assert expected.classes is not None and expected.area is not None
    return coverage.cloud_share(
        [raster], expected.classes, expected.area, expected.cloud_percent, subject, expected.executor
    )


CHECKS: dict[str, Check] = {
    "grid": Check(_grid, lambda raster, expected: expected.grid is not None),
    "order": Check(_order, lambda raster, expected: bool(expected.bands)),
    "distinct": Check(_distinct, lambda raster, expected: len(raster.bands) > 1),
    "valid": Check(_valid, lambda raster, expected: expected.area is not None),
    "cloud": Check(_cloud, lambda raster, expected: expected.area is not None and expected.classes is not None),
}
"""By the names that steps use; in the order in which plain rasters are judged."""


def judge(raster: Raster, expected: Expected, subject: str, names: Sequence[str] = ()) -> list[Finding]:
    """Findings of the checks named; of all that have something to judge when none is."""
    chosen = [CHECKS[name] for name in names] or [one for one in CHECKS.values() if one.applies(raster, expected)]
    return [check.judge(raster, expected, subject) for check in chosen]
