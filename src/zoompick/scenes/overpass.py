"""Which scenes were taken in one overpass: of them no ground is needed twice, and they are of one day."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Protocol

_APART = timedelta(minutes=30)
"""Scenes of one overpass follow one another within so long: a satellite is back after about an hour and a half."""


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
    """Number of the overpass of each scene: of one collection and satellite, within half an hour of another."""
    order = sorted(range(len(scenes)), key=lambda n: (*_of(scenes[n]), scenes[n].when))
    found, number = [0] * len(scenes), -1
    for place, n in enumerate(order):
        before = scenes[order[place - 1]] if place else None
        if before is None or _of(before) != _of(scenes[n]) or scenes[n].when - before.when >= _APART:
            number += 1
        found[n] = number
    return found


def days_of(scenes: Sequence[Taken]) -> list[str]:
    """Day of each scene, ``2025-12-08``: the UTC date of the first scene of its overpass, also over midnight."""
    numbers = passes_of(scenes)
    first: dict[int, datetime] = {}
    for number, scene in zip(numbers, scenes, strict=True):
        first[number] = min(first.get(number, scene.when), scene.when)
    return [f"{first[number]:%Y-%m-%d}" for number in numbers]


def _of(scene: Taken) -> tuple[str, str, str]:
    return scene.source, scene.collection, scene.platform
