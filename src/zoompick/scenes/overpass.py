"""Which scenes were taken in one overpass: of them no ground is needed twice."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Protocol

_APART = timedelta(hours=1)
"""A satellite passes a place at most once in so long: its period is about an hour and a half."""


class Taken(Protocol):
    """A scene with its moment."""

    @property
    def source(self) -> str:
        """Its source."""

    @property
    def collection(self) -> str:
        """Its collection."""

    @property
    def platform(self) -> str:
        """Its satellite; empty where that is not told."""

    @property
    def when(self) -> datetime:
        """Its moment."""


def passes_of(scenes: Sequence[Taken]) -> list[int]:
    """Number of the overpass of each scene: of one collection and satellite, and each within an hour of another."""
    order = sorted(range(len(scenes)), key=lambda n: (*_of(scenes[n]), scenes[n].when))
    found, number = [0] * len(scenes), -1
    for place, n in enumerate(order):
        before = scenes[order[place - 1]] if place else None
        if before is None or _of(before) != _of(scenes[n]) or scenes[n].when - before.when > _APART:
            number += 1
        found[n] = number
    return found


def _of(scene: Taken) -> tuple[str, str, str]:
    return scene.source, scene.collection, scene.platform
