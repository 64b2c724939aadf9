"""What is ordered of each scene: cut against the area and against its overpass, so that no ground is paid twice."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.geo.shapes import Shape, intersection, joined
from zoompick.geo.sizes import area_km2
from zoompick.later import shapely
from zoompick.orders.quotas import Share
from zoompick.scenes.overpass import passes_of
from zoompick.scenes.prices import km2_price
from zoompick.scenes.scene import Scene

_SLIVER_KM2, _SLIVER_SHARE = 1e-5, 1e-3
"""What is less, absolutely and of the scene's part of the area, comes of rounded corners: nobody sells it."""


def shares_of(scenes: Sequence[Scene], bought: Sequence[Share], area: Shape | None) -> list[Share]:
    """Shares of the scenes that have to be ordered, in their order; a scene that adds no ground has none.

    Of the scenes of one overpass that are sold the cheapest and largest gives all that it has, each other what those
    before it do not give. Scenes that are free on request are given as they are.

    Parameters
    ----------
    bought : sequence of Share
        What was ordered before.

    Raises
    ------
    SourceError
        A price that is none, or none where the scene is sold.
    """
    prices = [km2_price(scene) for scene in scenes]
    wholes = [Share.of(scene, area, price) for scene, price in zip(scenes, prices, strict=True)]
    sizes = [area_km2(share.ground) for share in wholes]
    taken: dict[int, list[Shape]] = {}
    overpasses = passes_of([*scenes, *(share.scene for share in bought)])  # type: ignore[list-item]
    for share, number in zip(bought, overpasses[len(scenes) :], strict=True):
        taken.setdefault(number, []).append(share.ground)
    found: dict[int, Share] = {}
    for n in sorted(range(len(scenes)), key=lambda n: (prices[n].amount if prices[n] else 0.0, -sizes[n], n)):  # type: ignore[union-attr]
        if prices[n] is None or not prices[n].amount:  # type: ignore[union-attr]
            found[n] = wholes[n]
            continue
        others = taken.setdefault(overpasses[n], [])
        rest = _without(wholes[n].ground, others)
        left = area_km2(rest)
        if left <= max(_SLIVER_KM2, _SLIVER_SHARE * sizes[n]):
            continue
        is_cut = left < (1 - _SLIVER_SHARE) * sizes[n]
        found[n] = Share(scenes[n], rest, prices[n], True) if is_cut else wholes[n]
        others.append(found[n].ground)
    return [found[n] for n in range(len(scenes)) if n in found]


def _without(ground: Shape, others: Sequence[Shape]) -> Shape:
    """Ground that lies under none of the others; slivers go."""
    if not others:
        return ground
    rest = shapely.difference(ground, joined(others))
    parts = [part for part in shapely.get_parts(rest) if part.geom_type == "Polygon" and area_km2(part) > _SLIVER_KM2]
    return joined(parts) if parts else intersection(ground, shapely.Polygon())
