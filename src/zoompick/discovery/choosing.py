"""Choosing scenes by rule: the clearest of each month or year, and pairs before and after a day."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime

from zoompick.errors import UnknownNameError
from zoompick.geo.shapes import Shape, joined
from zoompick.geo.sizes import share
from zoompick.scenes.overpass import passes_of
from zoompick.scenes.scene import Scene

PER: dict[str, Callable[[Scene], str]] = {
    "day": lambda scene: scene.day,
    "month": lambda scene: scene.day[:7],
    "year": lambda scene: scene.day[:4],
    "tile": lambda scene: scene.tile or scene.id,
}


Figure = Callable[[Scene], float]
_WHOLE = 99.0
"""Percent of the area from which one scene is enough."""


@dataclass(frozen=True)
class Together:
    """Scenes of one overpass that are looked at as one; mostly one alone.

    Attributes
    ----------
    cover, cloud : float
        Percent of the area they cover together, and the greatest cloud among them.
    """

    scenes: tuple[Scene, ...]
    cover: float
    cloud: float

    @property
    def when(self) -> datetime:
        """Of the first of them."""
        return self.scenes[0].when

    @property
    def ground(self) -> str:
        """What is compared with what: one tile with itself, several together with several."""
        first = self.scenes[0]
        return first.tile or "" if len(self.scenes) == 1 else "several"

    @property
    def collection(self) -> str:
        """Of all of them."""
        return self.scenes[0].collection

    @property
    def sun_deg(self) -> float | None:
        """Elevation of the sun, where the first tells it."""
        return self.scenes[0].sun_elevation_deg


def together(scenes: Sequence[Scene], area: Shape, cloud: Figure, cover: Figure) -> list[Together]:
    """Scenes that cover the area alone, and overpasses whose scenes only do so together.

    A scene that is a part of an overpass stands alone as well where nothing covers more.
    """
    alone = [Together((scene,), cover(scene), cloud(scene)) for scene in scenes]
    parts = sorted((scene for scene in scenes if cover(scene) < _WHOLE), key=lambda scene: scene.when)
    groups: dict[int, list[Scene]] = {}
    for number, scene in zip(passes_of(parts), parts, strict=True):
        groups.setdefault(number, []).append(scene)
    found = []
    for some in (one for one in groups.values() if len(one) > 1):
        ground = joined([scene.footprint for scene in some if scene.has_footprint()])
        found.append(Together(tuple(some), 100 * share(area, ground), max(map(cloud, some))))
    return alone + found


def clearest_per(scenes: Sequence[Scene], per: str, area: Shape, cloud: Figure, cover: Figure) -> list[Scene]:
    """Of each month (day, year, tile) the scene, or the overpass, with the least cloud; the later one among equals.

    Those count that cover the most of the area that any does in that month, within five percent.

    Raises
    ------
    UnknownNameError
    """
    if per not in PER:
        raise UnknownNameError.of("group", per, PER)
    if per == "tile":
        sets = [Together((scene,), cover(scene), cloud(scene)) for scene in scenes]
    else:
        sets = together(scenes, area, cloud, cover)
    groups: dict[str, list[Together]] = {}
    for one in sets:
        groups.setdefault(PER[per](one.scenes[0]), []).append(one)
    chosen: list[Scene] = []
    for key in sorted(groups):
        most = max(one.cover for one in groups[key])
        wide = [one for one in groups[key] if one.cover >= most - 5]
        best = min(wide, key=lambda one: (one.cloud, len(one.scenes), -one.when.timestamp()))
        chosen += best.scenes
    return list(dict.fromkeys(chosen))


@dataclass(frozen=True)
class Pair:
    """Two scenes, or overpasses, of one ground before and after a day; the smaller ``unlike`` the better.

    Attributes
    ----------
    season_days : float
        Distance of their days of the year.
    sun_deg : float
        Difference of the sun's elevation; 0 where it is not told.
    """

    before: Together
    after: Together
    season_days: float
    sun_deg: float
    cloud: float

    @property
    def unlike(self) -> float:
        """Days of season, degrees of sun and percent of cloud, weighed against one another."""
        return self.season_days / 10 + self.sun_deg / 2 + self.cloud / 2


def pairs(scenes: Sequence[Scene], either_side: datetime, area: Shape, cloud: Figure, cover: Figure) -> list[Pair]:
    """Pairs of one ground and collection, best first: similar season and sun, little cloud in both.

    Only scenes and overpasses that cover the most of the area that any does (within a percent) are paired. Of equally
    good pairs those come first whose dates lie closest together.
    """
    sets = together(scenes, area, cloud, cover)
    most = max((one.cover for one in sets), default=0.0)
    wide = [one for one in sets if one.cover >= most - 1]
    before = [one for one in wide if one.when < either_side]
    after = [one for one in wide if one.when >= either_side]
    found = [
        Pair(first, second, _season_days(first, second), _sun(first, second), max(first.cloud, second.cloud))
        for first in before
        for second in after
        if first.collection == second.collection and first.ground == second.ground
    ]
    return sorted(found, key=lambda pair: (round(pair.unlike, 6), pair.after.when - pair.before.when))


def _season_days(first: Together, second: Together) -> float:
    apart = abs((second.when - first.when).total_seconds()) / 86400 % 365.25
    return min(apart, 365.25 - apart)


def _sun(first: Together, second: Together) -> float:
    if first.sun_deg is None or second.sun_deg is None:
        return 0.0
    return math.fabs(first.sun_deg - second.sun_deg)
