"""Of reprocessed twins the newest."""

from __future__ import annotations

from collections.abc import Iterable

from zoompick.catalog.scene import Scene


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
