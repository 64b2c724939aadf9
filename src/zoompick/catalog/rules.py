"""Choosing scenes by rule: the clearest of each month or year, and pairs before and after a day."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime

from zoompick.catalog.scene import Scene
from zoompick.errors import UnknownNameError

PER: dict[str, Callable[[Scene], str]] = {
    "day": lambda scene: scene.day,
    "month": lambda scene: scene.day[:7],
    "year": lambda scene: scene.day[:4],
    "tile": lambda scene: scene.tile or scene.id,
}


def clearest_per(
    scenes: Sequence[Scene], per: str, cloud: Callable[[Scene], float], cover: Callable[[Scene], float]
) -> list[Scene]:
    """Of each month (day, year, tile) the scene with the least cloud, the later one among equals.

    Scenes count that cover the most of the area that any does in that month, within five percent.

    Raises
    ------
    UnknownNameError
    """
    if per not in PER:
        raise UnknownNameError.of("group", per, PER)
    groups: dict[str, list[Scene]] = {}
    for scene in scenes:
        groups.setdefault(PER[per](scene), []).append(scene)
    wide = {key: max(map(cover, group)) - 5 for key, group in groups.items()}
    scenes = [scene for scene in scenes if cover(scene) >= wide[PER[per](scene)]]
    best: dict[str, Scene] = {}
    for scene in sorted(scenes, key=lambda entry: entry.when):
        held = best.get(PER[per](scene))
        if held is None or cloud(scene) <= cloud(held):
            best[PER[per](scene)] = scene
    return [best[key] for key in sorted(best)]


@dataclass(frozen=True)
class Pair:
    """Two scenes of one tile on either side of a day; the smaller ``unlike`` the better they compare.

    Attributes
    ----------
    season_days : float
        Distance of their days of the year.
    sun_deg : float
        Difference of the sun's elevation; 0 where it is not told.
    """

    before: Scene
    after: Scene
    season_days: float
    sun_deg: float
    cloud: float

    @property
    def unlike(self) -> float:
        """Days of season, degrees of sun and percent of cloud, weighed against one another."""
        return self.season_days / 10 + self.sun_deg / 2 + self.cloud / 2


def pairs(
    scenes: Sequence[Scene], either_side: datetime, cloud: Callable[[Scene], float], cover: Callable[[Scene], float]
) -> list[Pair]:
    """Pairs of one tile and satellite family, best first: similar season and sun, little cloud in both.

    Only scenes that cover the most of the area that any does (within a percent) are paired.
    """
    most = max((cover(scene) for scene in scenes), default=0.0)
    wide = [scene for scene in scenes if cover(scene) >= most - 1]
    before = [scene for scene in wide if scene.when < either_side]
    after = [scene for scene in wide if scene.when >= either_side]
    found = [
        Pair(first, second, _season_days(first, second), _sun(first, second), max(cloud(first), cloud(second)))
        for first in before
        for second in after
        if first.collection == second.collection and (first.tile or first.id) == (second.tile or second.id)
    ]
    return sorted(found, key=lambda pair: (pair.unlike, pair.after.when - pair.before.when))


def _season_days(first: Scene, second: Scene) -> float:
    apart = abs((second.when - first.when).total_seconds()) / 86400 % 365.25
    return min(apart, 365.25 - apart)


def _sun(first: Scene, second: Scene) -> float:
    if first.sun_elevation_deg is None or second.sun_elevation_deg is None:
        return 0.0
    return math.fabs(first.sun_elevation_deg - second.sun_elevation_deg)
