"""Why nothing was found, in counts: which filter emptied the list, and what would fill it."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.catalog.criteria import Criteria
from zoompick.catalog.scene import Scene
from zoompick.errors import NothingFoundError
from zoompick.geo.bounds import Bounds


def nothing_found(criteria: Criteria, touching: Sequence[Scene], extents: Sequence[Bounds]) -> NothingFoundError:
    """Build the error.

    Parameters
    ----------
    touching : sequence of Scene
        All scenes that touch the area, whatever their date and cloud.
    extents : sequence of Bounds
        Where the searched collections have scenes, in degrees; empty when the source does not tell.
    """
    if not touching:
        return _nowhere(criteria, extents)
    in_time = [scene for scene in touching if criteria.in_time(scene)]
    if not in_time:
        first, last = min(s.day for s in touching), max(s.day for s in touching)
        return NothingFoundError(
            f"{_count(len(touching))} the area, but none in the dates asked for.",
            f"They are from {first} to {last}: choose dates in there.",
        )
    clear = [scene for scene in in_time if criteria.clear_enough(scene)]
    if not clear:
        known = [scene.cloud_percent for scene in in_time if scene.cloud_percent is not None]
        best = f"the clearest has {min(known):.0f} %" if known else "none tells its cloud"
        return NothingFoundError(
            f"{_count(len(in_time))} the area in those dates, but 0 have at most {criteria.cloud_max:g} % cloud; "
            f"{best}.",
            "Raise the cloud limit (--cloud) or widen the dates (--dates).",
        )
    most = max(criteria.cover(scene) for scene in clear)
    return NothingFoundError(
        f"{_count(len(clear))} the area in those dates under that cloud, but none covers "
        f"{criteria.cover_min:g} % of it; the most is {most:.0f} %.",
        "Lower --cover, or choose several scenes that cover it together.",
    )


def _count(number: int) -> str:
    return f"{number} scene{'' if number == 1 else 's'} touch{'es' if number == 1 else ''}"


def _nowhere(criteria: Criteria, extents: Sequence[Bounds]) -> NothingFoundError:
    west, south, east, north = criteria.area.bounds
    here = Bounds(west, south, east, north)
    what = f"No scene touches the area ({west:.2f} to {east:.2f} E, {south:.2f} to {north:.2f} N)."
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
