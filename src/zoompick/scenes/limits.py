"""What sources limit: files at a time, and orders of what is not open, told before anything is planned."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from zoompick.addresses import is_remote
from zoompick.errors import SourceError
from zoompick.net.authority import Purpose
from zoompick.net.client import Client
from zoompick.net.links import address_of
from zoompick.scenes import offer
from zoompick.scenes.scene import Scene

_WORDS = {
    "scenes_an_order": "{:g} scene{} an order", "grid_cells_an_order": "{:g} tile{} or sheets an order",
    "largest_area_km2": "{:g} km2 of a scene an order", "km2_an_order": "{:g} km2 an order",
    "pending_orders": "{:g} order{} under way",
}  # fmt: skip


@dataclass(frozen=True)
class Told:
    """What the collections of some scenes limit.

    Attributes
    ----------
    parallel_downloads : mapping
        Files at a time, by collection.
    orders : tuple of str
        A sentence for each collection with scenes that are not open.
    """

    parallel_downloads: Mapping[str, int]
    orders: tuple[str, ...]


def ask(scenes: Iterable[Scene], client: Client) -> Told:
    """Ask each collection of some scenes once; one that does not answer limits nothing, and that is told."""
    firsts: dict[tuple[str, str], Scene] = {}
    for scene in scenes:
        place = scene.source, scene.collection
        # One that has to be ordered tells most.
        if place not in firsts or (firsts[place].access == "open" and scene.access != "open"):
            firsts[place] = scene
    parallel: dict[str, int] = {}
    sentences = []
    for (source, collection), scene in firsts.items():
        address, why = address_of(scene.item, "collection"), ""
        limits: dict[str, float] = {}
        if is_remote(address):
            try:
                told = client.on_behalf(source, Purpose.SEARCH).json(address)
                limits = offer.limits(told if isinstance(told, dict) else {})
            except SourceError as error:
                why = error.what
        if limits.get("parallel_downloads"):
            parallel[collection] = max(1, int(limits["parallel_downloads"]))
        if scene.access != "open":
            sentences.append(_sentence(scene, limits, why))
    return Told(parallel, tuple(sentences))


def of_orders(scenes: Sequence[Scene], client: Client) -> tuple[str, ...]:
    """Limits of the collections whose scenes have to be ordered, a sentence each."""
    closed = [scene for scene in scenes if scene.access != "open"]
    return ask(closed, client).orders if closed else ()


def _sentence(scene: Scene, limits: Mapping[str, float], why: str) -> str:
    what = f"{scene.collection or scene.source} is {'sold' if scene.access == 'priced' else 'given on request'}"
    if why:
        return f"{what}; its limits are not known: {why}"
    found = [
        words.format(limits[name], "" if limits[name] == 1 else "s")
        for name, words in _WORDS.items()
        if name in limits
    ]
    return f"{what}: at most {', '.join(found)}." if found else f"{what}; it tells no limits."
