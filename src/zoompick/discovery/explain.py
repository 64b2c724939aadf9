"""Why nothing was found, in counts: which filter emptied the list, how near it came, and what would find some."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.discovery.criteria import Criteria
from zoompick.discovery.filters import UNTOLD, Filter
from zoompick.errors import NothingFoundError
from zoompick.geo.bounds import Bounds
from zoompick.scenes.scene import Scene


def nothing_found(
    criteria: Criteria, touching: Sequence[Scene], extents: Sequence[Bounds], is_all: bool = True
) -> NothingFoundError:
    """Build the error.

    Parameters
    ----------
    touching : sequence of Scene
        Scenes that touch the area, whatever else they are.
    extents : sequence of Bounds
        Where the searched collections have scenes, in degrees; empty when the source does not tell.
    is_all : bool
        ``touching`` are all there are; else those that were looked at.
    """
    if not touching:
        return _nowhere(criteria, extents, is_all)
    passed: list[str] = []
    left = list(touching)
    kind = "scene of this name" if criteria.ids and all(one.id in criteria.ids for one in touching) else "scene"
    for entry in criteria.filters():
        fitting = [scene for scene in left if entry.passes(scene)]
        if not fitting:
            return _emptied(entry, f"{_count(len(left), is_all, kind)} the area{_with(passed)}", left)
        left = fitting
        passed.append(entry.words)
    most = max((cover for cover in criteria.covers(left) if cover == cover), default=0.0)
    some = _count(len(left), is_all, kind)
    if most >= max(criteria.cover_min, _TOUCHES):
        return NothingFoundError(
            f"{some} the area{_with(passed)}, but the source did not send them when it was asked by its own filter.",
            "Its filter and its items do not agree: tell the people who run it. Leave limits out meanwhile.",
        )
    return NothingFoundError(
        f"{some} the area{_with(passed)}, but none covers {max(criteria.cover_min, _TOUCHES):g} % of it; "
        f"the most is {most:.3g} %.",
        "Lower `cover-min`, or choose several scenes that cover it together: 'zoompick pick' with `cover`.",
    )


_TOUCHES = 1e-6


def _emptied(entry: Filter, some: str, left: Sequence[Scene]) -> NothingFoundError:
    near = entry.best(left)
    what = f"{some}; 0 with {entry.words}{f'; {near}' if near else ''}."
    if near == UNTOLD:
        return NothingFoundError(what, f"Those scenes do not tell it: leave `{entry.name}` out to see them.")
    return NothingFoundError(what, entry.mend)


def cloudy_inside(limit: float, inside: Sequence[tuple[Scene, float | None]]) -> NothingFoundError:
    """The error when every candidate has too much cloud inside the area."""
    known = [(percent, scene) for scene, percent in inside if percent is not None]
    if not known:
        return NothingFoundError(
            f"None of the {len(inside)} scenes found has a class layer to tell the cloud inside the area.",
            "Leave `cloud-area` out and look at the pictures: 'zoompick look'.",
        )
    percent, scene = min(known, key=lambda entry: entry[0])
    return NothingFoundError(
        f"{len(known)} scenes were looked into; 0 have at most {limit:g} % cloud inside the area; "
        f"the clearest has {percent:.1f} %: {scene.id}.",
        "Raise `cloud-area` or widen the dates (`dates`).",
    )


def _with(passed: Sequence[str]) -> str:
    return f" with {', '.join(passed)}" if passed else ""


def _count(number: int, is_all: bool, kind: str) -> str:
    touch = "touches" if number == 1 else "touch"
    if is_all or kind != "scene":
        return f"{number} {kind if number == 1 else kind.replace('scene', 'scenes', 1)} {touch}"
    return f"Of the scenes that were looked at {number} {touch}"


def _nowhere(criteria: Criteria, extents: Sequence[Bounds], is_all: bool) -> NothingFoundError:
    west, south, east, north = criteria.ground.bounds
    here = Bounds(west, south, east, north)
    none = "No scene" if is_all else "None of the scenes that could be looked at"
    what = f"{none} touches the area ({west:.2f} to {east:.2f} E, {south:.2f} to {north:.2f} N)."
    if not extents or any(extent.intersects(here) for extent in extents):
        return NothingFoundError(what, "Look what the source has with 'zoompick source show'.")
    where = "; ".join(f"{e.west:.2f} to {e.east:.2f} E, {e.south:.2f} to {e.north:.2f} N" for e in extents[:3])
    swapped = Bounds(south, west, north, east)
    hint = (
        "With longitude and latitude swapped the area would lie inside: was latitude given first?"
        if any(extent.intersects(swapped) for extent in extents)
        else "Choose another area or source."
    )
    return NothingFoundError(f"{what} The source has scenes in {where}.", hint)
