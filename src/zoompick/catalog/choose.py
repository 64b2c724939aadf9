"""Choosing the scenes for a study: newest processing, one acquisition, fewest scenes that cover the area."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import groupby

import shapely

from zoompick.catalog.scene import Scene
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape, share


@dataclass(frozen=True)
class Choice:
    """The chosen scenes and how much of the area they cover.

    Attributes
    ----------
    scenes : tuple of Scene
        All of one acquisition, the one that covers most first; empty when nothing fits.
    cover_percent : float
    cloud_percent : float
        The highest of the scenes.
    """

    scenes: tuple[Scene, ...]
    cover_percent: float
    cloud_percent: float


def newest(scenes: Iterable[Scene]) -> list[Scene]:
    """Of each acquisition and tile the newest processing baseline."""
    best: dict[tuple[str, str, str], Scene] = {}
    for scene in scenes:
        held = best.get(scene.acquisition)
        if held is None or _processing(scene) > _processing(held):
            best[scene.acquisition] = scene
    return list(best.values())


def _processing(scene: Scene) -> tuple[str, str]:
    return scene.version, str((scene.item.get("properties") or {}).get("created") or "")


def choose(scenes: Sequence[Scene], area: Shape, crs: Crs, bands: Sequence[str]) -> Choice:
    """Pick the acquisition that covers the area best, the clearest among equals, with the fewest scenes.

    Parameters
    ----------
    crs : Crs
        Only scenes in this CRS count: they lie on the study grid without being bent.
    bands : sequence of str
        Only scenes that have all of these count.
    """
    usable = [scene for scene in newest(scenes) if scene.crs in (None, crs) and all(b in scene.bands for b in bands)]
    usable.sort(key=_overpass)
    choices = [_cover(list(group), area) for _, group in groupby(usable, key=_overpass)]
    return max(choices, key=_merit, default=Choice((), 0.0, 0.0))


def _overpass(scene: Scene) -> tuple[str, str]:
    return scene.platform, scene.when.isoformat()


def _merit(choice: Choice) -> tuple[float, float, int]:
    # Whole percents: a sliver more ground does not outweigh a clear sky.
    return round(choice.cover_percent), -choice.cloud_percent, -len(choice.scenes)


def _cover(scenes: list[Scene], area: Shape) -> Choice:
    """Take the scene that adds most ground until nothing is added (greedy set cover)."""
    left, taken = area, []
    while scenes:
        best = max(scenes, key=lambda scene: share(left, scene.footprint))
        if left.is_empty or share(area, shapely.intersection(left, best.footprint)) < 1e-4:
            break
        taken.append(best)
        scenes.remove(best)
        left = shapely.difference(left, best.footprint)
    cover = 100 * (1 - share(area, left)) if not left.is_empty else 100.0
    return Choice(tuple(taken), cover, max((scene.cloud_percent or 0.0 for scene in taken), default=0.0))
