"""What a scene costs: the area's part of it, by the square kilometre."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.errors import SourceError
from zoompick.files import human_km2
from zoompick.geo.shapes import Shape, intersection
from zoompick.geo.sizes import area_km2
from zoompick.money import Money
from zoompick.scenes.scene import Scene


@dataclass(frozen=True, slots=True)
class Price:
    """Money for so many square kilometres."""

    money: Money
    km2: float

    @property
    def text(self) -> str:
        """For people."""
        return f"{self.money} for {human_km2(self.km2)}"


def km2_price(scene: Scene) -> Money | None:
    """Price of a square kilometre of a scene; None for one that is not sold.

    Raises
    ------
    SourceError
        The source tells a price that is none, or sells the scene and tells no price.
    """
    raw = scene.price_told
    if raw is None and scene.access == "priced":
        raise SourceError(
            f"{scene.id} is sold, and its source tells no price: nothing is planned or bought.",
            "Leave the scene out ('zoompick pick drop'), or ask the people who run the source.",
        )
    return None if raw is None or scene.access == "open" else Money.told(raw, scene.currency, scene.id)


def price_of(scene: Scene, area: Shape | None) -> Price | None:
    """Price of the part of a scene inside the area, both in longitude/latitude; of all of it without one.

    None for a scene that is not sold, or without a footprint to measure.

    Raises
    ------
    SourceError
        As :func:`km2_price`.
    """
    price = km2_price(scene)
    if price is None or not scene.has_footprint():
        return None
    km2 = area_km2(scene.footprint if area is None else intersection(area, scene.footprint))
    return Price(price.of_km2(km2), km2)
