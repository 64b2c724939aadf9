"""The verbs of orders: terms, plan, submit, status, wait, cancel, adopt; what is sold or prepared on request."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from zoompick import money
from zoompick.errors import IncompleteError
from zoompick.events import Report, ignore
from zoompick.geo.shapes import intersection
from zoompick.geo.shapes import joined as together
from zoompick.geo.sizes import area_km2
from zoompick.journal import act
from zoompick.money import Money
from zoompick.orders.desk import Desk, Limit, Terms, to_order
from zoompick.orders.queue import FETCHED, PLANNED, READY, Order, cost_of
from zoompick.scenes.scene import Scene
from zoompick.scenes.sources import known
from zoompick.study.folder import Study
from zoompick.study.ordered import fetch_ready
from zoompick.study.session import session_of
from zoompick.study.shortlist import shortlist


def desk_of(study: Study, report: Report = ignore) -> Desk:
    """The desk that asks on behalf of a study."""
    area = study.area().polygon if study.area_file.exists() else None
    return Desk(study, known(study.root), area, session_of(study, report))


def accept_terms(study: Study, sha256: str) -> Terms:
    """Record that the terms with this digest, or one that begins so, are accepted; see :meth:`Desk.accept`."""
    desk = desk_of(study)
    with study.locked(), act(study.journal_file, "order ask") as doing:
        accepted = desk.accept(picked(study), sha256)
        doing.note(collection=accepted.collection, terms=accepted.sha256)
    return accepted


@dataclass(frozen=True)
class OrderPlan:
    """What would be ordered.

    Attributes
    ----------
    new, waiting : tuple of Order
        Those made for scenes that are not ordered yet, and those that wait in the queue since earlier.
    km2 : float
        Area bought: the ground of all orders together, counted once for each overpass.
    needless : tuple of str
        Scenes whose part of the area others of their overpass give: they are not ordered.
    ground_km2, area_km2 : float
        How much of the study area lies under them, and the size of that; 0 without an area.
    ordered : int
        Scenes of the shortlist that were ordered before, or are here.
    """

    new: tuple[Order, ...]
    waiting: tuple[Order, ...]
    km2: float
    ground_km2: float
    area_km2: float
    ordered: int
    needless: tuple[str, ...] = ()

    @property
    def orders(self) -> tuple[Order, ...]:
        """All that would be handed in."""
        return self.waiting + self.new


def plan_orders(study: Study) -> OrderPlan:
    """What :func:`submit_orders` would hand in; see :meth:`Desk.plan`."""
    desk, scenes = desk_of(study), picked(study)
    new, waiting = tuple(desk.plan(scenes)), tuple(desk.waiting())
    known, pieces = {scene.key: scene for scene in scenes}, []
    for order in waiting + new:
        prints = [known[key].footprint for key in order.keys if key in known]
        ground = order.ground(desk.area)
        pieces += prints if ground is None else [intersection(ground, footprint) for footprint in prints]
    ground_km2 = area_km2(together(pieces)) if pieces else 0.0
    whole = 0.0 if desk.area is None else area_km2(desk.area)
    ordered = {key for order in desk.queue if not order.has_failed and order.state != PLANNED for key in order.keys}
    before = sum(scene.key in ordered for scene in to_order(scenes))
    held = {key for order in (*desk.queue, *new) for key in order.keys}
    needless = tuple(scene.id for scene in to_order(scenes) if scene.key not in held)
    return OrderPlan(new, waiting, sum(order.km2 for order in waiting + new), ground_km2, whole, before, needless)


def submit_orders(study: Study, price_max: Limit | Sequence[Limit] = ()) -> list[Order]:
    """Plan what has still to be ordered and hand in as many orders as there are slots for; see :meth:`Desk.submit`.

    Parameters
    ----------
    price_max : str, float or Money, or a sequence
        What all may cost together: ``"48.34 crowns"``, one for each currency; a bare number where there is only one.
        What is free needs none.
    """
    limits = [price_max] if isinstance(price_max, str | int | float | Money) else list(price_max)
    desk, scenes = desk_of(study), picked(study)
    with study.locked(), act(study.journal_file, "order submit") as doing:
        planned = desk.plan(scenes) if desk.has_new(scenes) or not list(desk.queue) else []
        doing.note(orders=len(planned), price=money.words(cost_of(planned)))
        return desk.submit(scenes, planned, limits)


def refresh_orders(study: Study) -> list[Order]:
    """Ask how the orders are; see :meth:`Desk.refresh`."""
    desk = desk_of(study)
    with study.locked():
        return desk.refresh()


def wait_for_orders(
    study: Study, every_s: float = 30, limit_s: float = 0, report: Report = ignore, hand_in: bool = False
) -> tuple[list[Order], int]:
    """Wait for the orders that are under way, and fetch what is ready.

    Parameters
    ----------
    every_s : float
        Ask so often.
    limit_s : float
        Wait no longer; 0 for ever.
    hand_in : bool
        Hand in what waits for a slot, as slots free up: only after :func:`submit_orders` tested the price of all.

    Returns
    -------
    list of Order, int
        The queue, and how many files came.

    Raises
    ------
    IncompleteError
        The time is over.
    """
    ends, count = time.monotonic() + limit_s, 0
    desk, scenes = desk_of(study, report), picked(study)
    with study.locked(), act(study.journal_file, "order wait") as doing:
        while True:
            desk.refresh()
            if hand_in:
                desk.hand_in(scenes)
            count += fetch_ready(desk, scenes, report)
            doing.note(files=count)
            left = desk.queue.left(with_planned=hand_in)
            if not left:
                return list(desk.queue), count
            if limit_s and time.monotonic() > ends:
                what = f"{len(left)} order{'' if len(left) == 1 else 's'}"
                raise IncompleteError(f"Not here yet: {what}.", "'zoompick order wait' goes on.")
            time.sleep(every_s)


def cancel_orders(study: Study, numbers: Sequence[int], not_taken: bool = False) -> list[Order]:
    """Dismiss orders by number; see :meth:`Desk.cancel`."""
    desk = desk_of(study)
    with study.locked(), act(study.journal_file, "order cancel", orders=list(numbers)):
        return desk.cancel(numbers, not_taken)


def adopt_order(study: Study, number: int, job: str) -> list[Order]:
    """Say which job of its source an order of unknown fate is; see :meth:`Desk.adopt`."""
    desk = desk_of(study)
    with study.locked(), act(study.journal_file, "order adopt", order=number, job=job):
        return desk.adopt(number, job)


def picked(study: Study) -> list[Scene]:
    """Scenes of the shortlist."""
    return [entry.scene for entry in shortlist(study)]


def expected_end(order: Order, known: Sequence[Order], now: datetime) -> float | None:
    """Seconds until an order is likely to be ready, by its progress, else by how long others took; None: no idea."""
    spent = (now - datetime.fromisoformat(order.submitted)).total_seconds() if order.submitted else 0.0
    if order.is_pending and 5 <= order.progress < 100:
        return spent * (100 - order.progress) / order.progress
    took = [
        (datetime.fromisoformat(other.ended) - datetime.fromisoformat(other.submitted)).total_seconds()
        for other in known
        if other.ended and other.submitted and other.state in (READY, FETCHED)
    ]
    if not took or not (order.is_pending or order.state == PLANNED):
        return None
    return max(0.0, sum(took) / len(took) - spent)


def order_terms(study: Study, report: Report = ignore) -> list[Terms]:
    """The terms of what the shortlist would buy; :func:`zoompick.accept_terms` accepts them by their digest."""
    return desk_of(study, report).terms(picked(study))
