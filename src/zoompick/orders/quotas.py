"""How a shortlist is split into orders under a source's quotas: pure decisions."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from typing import Protocol

from zoompick.errors import UsageError
from zoompick.geo.cuts import equal_pieces
from zoompick.geo.shapes import Shape, as_text, intersection
from zoompick.geo.sizes import area_km2
from zoompick.money import Money
from zoompick.orders.queue import PLANNED, UNSURE, Order

_UNBOUNDED = float("inf")
_SLACK = 0.995
"""Pieces stay this far below a limit: sources measure areas in ways of their own."""
_MOST_PIECES = 500
"""Of one scene: more is no order that a person means."""


class Orderable(Protocol):
    """A scene that has to be ordered."""

    @property
    def id(self) -> str:
        """Its id."""

    @property
    def source(self) -> str:
        """Its source."""

    @property
    def collection(self) -> str:
        """Its collection."""

    @property
    def tile(self) -> str:
        """Its cell of the collection's grid; empty where there is none."""

    @property
    def footprint(self) -> Shape:
        """Ground polygon in longitude/latitude."""


Place = tuple[str, str]
"""A source and one of its collections: what limits orders."""


@dataclass(frozen=True, slots=True)
class Share:
    """What is wanted of a scene.

    Attributes
    ----------
    ground : polygon
        The part of it, longitude/latitude.
    price : Money or None
        Of a square kilometre; None for a scene that is not sold.
    is_cut : bool
        The ground is less than the area's part of the scene: others of its overpass give the rest.
    """

    scene: Orderable
    ground: Shape
    price: Money | None = None
    is_cut: bool = False

    @classmethod
    def of(cls, scene: Orderable, area: Shape | None, price: Money | None = None) -> Share:
        """The area's part of a scene; all of it without one."""
        return cls(scene, scene.footprint if area is None else intersection(area, scene.footprint), price)

    @property
    def place(self) -> Place:
        """Its source and collection."""
        return self.scene.source, self.scene.collection


@dataclass(frozen=True, slots=True)
class Quota:
    """What a collection allows; a limit that it does not tell is none.

    Attributes
    ----------
    scenes_an_order, pending_orders : float
    largest_area_km2 : float
        Of the area's part of one scene.
    km2_an_order : float
        Of all its scenes together.
    grid_cells_an_order : float
        Different tiles, sheets or frames.
    """

    scenes_an_order: float = _UNBOUNDED
    pending_orders: float = _UNBOUNDED
    largest_area_km2: float = _UNBOUNDED
    km2_an_order: float = _UNBOUNDED
    grid_cells_an_order: float = _UNBOUNDED

    @classmethod
    def of(cls, limits: Mapping[str, float]) -> Quota:
        """Take what is known here out of a collection's limits."""
        known = {entry.name for entry in fields(cls)}
        return cls(**{name: value for name, value in limits.items() if name in known})


@dataclass(frozen=True, slots=True)
class _Wish:
    """A share, or a piece of it, with its size and its cell of the grid."""

    share: Share
    km2: float
    piece: str = ""
    part: int = 0
    parts: int = 0

    @property
    def scene(self) -> Orderable:
        return self.share.scene

    @property
    def cell(self) -> str:
        return self.scene.tile or self.scene.id

    @property
    def currency(self) -> str:
        return self.share.price.currency if self.share.price is not None else ""

    @property
    def cost(self) -> float:
        return self.share.price.of_km2(self.km2).amount if self.share.price is not None else 0.0


@dataclass(eq=False)
class _Bin:
    """An order that is being filled."""

    wishes: list[_Wish] = field(default_factory=list)
    cells: set[str] = field(default_factory=set)
    km2: float = 0.0

    def has_room(self, wish: _Wish, quota: Quota) -> bool:
        return (
            self.wishes[0].piece == wish.piece
            and self.wishes[0].currency == wish.currency
            and len(self.wishes) < quota.scenes_an_order
            and self.km2 + wish.km2 <= quota.km2_an_order
            and len(self.cells | {wish.cell}) <= quota.grid_cells_an_order
        )

    def put(self, wish: _Wish) -> None:
        self.wishes.append(wish)
        self.cells.add(wish.cell)
        self.km2 += wish.km2


def split(shares: Sequence[Share], quotas: Mapping[Place, Quota], first: int = 1) -> list[Order]:
    """Split shares of scenes, and each that is too large for one order, into few orders that the quotas allow.

    With a bound on the number of scenes, or of grid cells, alone the count is the fewest there can be, and the order
    given is kept where it may be. With a bound on the area of all together the largest go first, each into the first
    order with room (first fit decreasing: at most 11/9 of the fewest; Johnson, Near-optimal bin packing algorithms,
    1973). A scene whose part of the area is larger than an order may be is cut into as few pieces of equal size as
    will do; an order holds one piece, of as many scenes as have the same.
    """
    found: list[Order] = []
    groups: dict[Place, list[_Wish]] = {}
    for share in shares:
        groups.setdefault(share.place, []).extend(_wishes(share, quotas.get(share.place, Quota())))
    for (source, collection), wishes in groups.items():
        for bin_ in _packed(wishes, quotas.get((source, collection), Quota())):
            price = sum(wish.cost for wish in bin_)
            one = bin_[0]
            found.append(
                Order(
                    number=first + len(found), source=source, collection=collection,
                    scenes=tuple(wish.scene.id for wish in bin_), km2=round(sum(wish.km2 for wish in bin_), 4),
                    price=round(price, 2), currency=one.currency, piece=one.piece,
                    part=one.part, parts=one.parts,
                )
            )  # fmt: skip
    return found


def _wishes(share: Share, quota: Quota) -> list[_Wish]:
    """A share as it is, or in pieces."""
    scene, ground = share.scene, share.ground
    km2, most = area_km2(ground), min(quota.largest_area_km2, quota.km2_an_order)
    if km2 <= most:
        return [_Wish(share, km2, as_text(ground) if share.is_cut else "")]
    count = km2 / (_SLACK * most)
    if count > _MOST_PIECES:
        raise UsageError(
            f"Scene {scene.id} would have to be ordered in {count:,.0f} pieces, over the {_MOST_PIECES} that are "
            f"planned at most: {scene.collection} gives {most:g} km2 an order, and its part of the area has "
            f"{km2:,.4g} km2. Nothing was planned.",
            "Take a smaller study area, or leave the scene out: 'zoompick pick drop'.",
        )
    pieces = equal_pieces(ground, math.ceil(count))
    return [
        _Wish(share, area_km2(piece), as_text(piece), place, len(pieces)) for place, piece in enumerate(pieces, 1)
    ]


def _packed(wishes: Sequence[_Wish], quota: Quota) -> list[list[_Wish]]:
    bins: list[_Bin] = []
    open_bins: list[_Bin] = []
    if quota.km2_an_order != _UNBOUNDED:
        # Pieces of a scene are of one size but for rounding: they stay in their order.
        wishes = sorted(wishes, key=lambda wish: -round(wish.km2, 3))
    elif quota.grid_cells_an_order != _UNBOUNDED:
        cells = list(dict.fromkeys(wish.cell for wish in wishes))
        wishes = sorted(wishes, key=lambda wish: cells.index(wish.cell))
    for wish in wishes:
        fitting = next((bin_ for bin_ in open_bins if bin_.has_room(wish, quota)), None)
        if fitting is None:
            fitting = _Bin()
            bins.append(fitting)
            open_bins.append(fitting)
        fitting.put(wish)
        if len(fitting.wishes) >= quota.scenes_an_order or fitting.km2 >= _SLACK * quota.km2_an_order:
            open_bins.remove(fitting)
    return [bin_.wishes for bin_ in bins]


def next_to_submit(orders: Iterable[Order], quotas: Mapping[Place, Quota]) -> list[Order]:
    """Planned orders for which there are slots now, in the order of the queue.

    What may have been handed in holds a slot, too.
    """
    orders = list(orders)
    pending: dict[Place, int] = {}
    for order in orders:
        if order.is_pending or order.state == UNSURE:
            pending[order.place] = pending.get(order.place, 0) + 1
    chosen = []
    for order in orders:
        if order.state == PLANNED:
            count = pending.get(order.place, 0)
            if count < quotas.get(order.place, Quota()).pending_orders:
                pending[order.place] = count + 1
                chosen.append(order)
    return chosen
