"""The picture that an item offers of its scene, and where on the ground it lies."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick import foreign
from zoompick.errors import SourceError
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import bounds_of, project
from zoompick.jsontypes import JsonMap
from zoompick.net.links import address_of, has_role, joined
from zoompick.scenes.scene import Scene

_ROLES = ("thumbnail", "overview", "visual")
_TYPES = ("image/png", "image/jpeg", "image/jpg")


@dataclass(frozen=True, slots=True)
class Quicklook:
    """A small picture: its address, and its edges in a CRS.

    Attributes
    ----------
    is_exact : bool
        False when the item does not tell where the picture lies and the footprint's box stands in.
    """

    href: str
    crs: Crs
    bounds: Bounds
    is_exact: bool


def quicklook_of(scene: Scene) -> Quicklook | None:
    """The scene's quicklook, or None when it offers none that is PNG or JPEG."""
    assets = scene.item.get("assets")
    if not isinstance(assets, dict):
        return None
    offered = [asset for asset in assets.values() if isinstance(asset, dict) and isinstance(asset.get("href"), str)]
    pictures = [asset for asset in offered if asset.get("type") in _TYPES]
    for role in _ROLES:
        for asset in pictures:
            if has_role(asset, role):
                return _placed(asset, scene)
    return None


def _placed(asset: JsonMap, scene: Scene) -> Quicklook | None:
    """Edges by ``proj:transform`` and ``proj:shape`` (STAC projection extension 2), else by the footprint's box."""
    try:
        href = joined(address_of(scene.item, "self"), str(asset["href"]))
    except SourceError:
        return None
    shape, step = _numbers(asset.get("proj:shape"), 2), _numbers(asset.get("proj:transform"), 6)
    if shape and step and scene.crs is not None and step[0] > 0 > step[4] and step[1] == step[3] == 0:
        west, north = step[2], step[5]
        box = Bounds(west, north + step[4] * shape[0], west + step[0] * shape[1], north)
        return Quicklook(href, scene.crs, box, True)
    if not scene.has_footprint():
        return None
    crs = scene.crs or LONLAT
    return Quicklook(href, crs, bounds_of(project(scene.footprint, crs)), False)


def _numbers(value: object, least: int) -> list[float]:
    """A list of at least so many numbers; empty for anything else."""
    found = [foreign.number(entry) for entry in value] if isinstance(value, list) else []
    numbers = [number for number in found if number is not None]
    return numbers if len(numbers) == len(found) >= least else []
