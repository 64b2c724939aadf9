"""The picture that an item offers of its scene, and where on the ground it lies."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urljoin

from zoompick.catalog.scene import Scene
from zoompick.geo.bounds import Bounds
from zoompick.geo.crs import LONLAT, Crs
from zoompick.geo.shapes import bounds_of, project

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
            if role in (asset.get("roles") or ()):
                return _placed(asset, scene)
    return None


def _placed(asset: Mapping[str, Any], scene: Scene) -> Quicklook | None:
    """Edges by ``proj:transform`` and ``proj:shape`` (STAC projection extension 2), else by the footprint's box."""
    links = [link for link in scene.item.get("links") or () if isinstance(link, dict)]
    base = next((str(link.get("href")) for link in links if link.get("rel") == "self"), "")
    href = urljoin(base, str(asset["href"]))
    shape, step = asset.get("proj:shape"), asset.get("proj:transform")
    told = isinstance(shape, list) and len(shape) == 2 and isinstance(step, list) and len(step) >= 6
    if told and shape and step and scene.crs is not None and step[0] > 0 > step[4] and step[1] == step[3] == 0:
        west, north = float(step[2]), float(step[5])
        box = Bounds(west, north + step[4] * shape[0], west + step[0] * shape[1], north)
        return Quicklook(href, scene.crs, box, True)
    if not scene.has_footprint():
        return None
    crs = scene.crs or LONLAT
    return Quicklook(href, crs, bounds_of(project(scene.footprint, crs)), False)
