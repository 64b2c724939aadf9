"""What a scene costs: the area's part of it, by the square kilometre."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.catalog.scene import Scene
from zoompick.files import human_km2
from zoompick.geo.shapes import Shape, intersection
from zoompick.geo.sizes import area_km2


@dataclass(frozen=True, slots=True)
class Price:
    """An amount of the archive's currency for so many square kilometres."""

    amount: float
    currency: str
    km2: float

    @property
    def text(self) -> str:
        """For people."""
        return f"{self.amount:.2f} {self.currency}".strip() + f" for {human_km2(self.km2)}"


def price_of(scene: Scene, area: Shape | None) -> Price | None:
    """Price of the part of a scene inside the area, both in longitude/latitude; of all of it without one.

    None for a scene without a price by area, or without a footprint to measure.
    """
    if scene.price_km2 is None or not scene.has_footprint():
        return None
    km2 = area_km2(scene.footprint if area is None else intersection(area, scene.footprint))
    return Price(scene.price_km2 * km2, scene.currency, km2)
