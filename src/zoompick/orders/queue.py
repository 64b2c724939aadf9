"""The queue of a study: its orders as values, and their record on disk."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from zoompick import money
from zoompick.errors import DataError
from zoompick.files import read_json, write_json
from zoompick.geo.shapes import Shape, from_text
from zoompick.money import Money
from zoompick.net.vault import put_away
from zoompick.records import of_row

PLANNED, UNSURE, READY, FETCHED, LOST = "planned", "unsure", "successful", "fetched", "lost"
PENDING = ("accepted", "running")


@dataclass(frozen=True)
class Order:
    """One order, planned or under way.

    Attributes
    ----------
    number : int
        Its place in the study's queue, from 1.
    km2, price : float
        Of the area's part of its scenes.
    state : str
        ``planned``, then as the source tells it: ``accepted``, ``running``, ``successful``, ``failed``,
        ``dismissed``; ``lost`` when the source knows it no more; ``fetched`` when its files are here; ``unsure`` when
        the connection broke while it was handed in.
    job : str
        Address of the job.
    submitted, ended : str
        Times, ISO 8601.
    reference : str
        What this study calls the order at the source: by it an order whose fate is unknown is found again.
    piece : str
        What it is for where that is not the whole area, longitude/latitude as well-known text: a part of an area that
        was too large for one order, or what other scenes of the same overpass do not give.
    part, parts : int
        Which of how many parts; 0 where the area is not split.
    """

    number: int
    source: str
    collection: str
    scenes: tuple[str, ...]
    km2: float
    price: float
    currency: str = ""
    state: str = PLANNED
    job: str = ""
    progress: int = 0
    message: str = ""
    submitted: str = ""
    ended: str = ""
    reference: str = ""
    piece: str = ""
    part: int = 0
    parts: int = 0

    @property
    def place(self) -> tuple[str, str]:
        """Its source and collection: what limits it."""
        return self.source, self.collection

    @property
    def money(self) -> Money:
        """What it costs.

        Raises
        ------
        SourceError
            The queue's file tells a price that is none.
        """
        return Money.told(self.price, self.currency, f"Order {self.number}")

    @property
    def is_pending(self) -> bool:
        """True while the source works on it."""
        return self.state in PENDING

    @property
    def has_failed(self) -> bool:
        """True when nothing will come of it."""
        return self.state in ("failed", "dismissed", LOST)

    @property
    def keys(self) -> tuple[tuple[str, str, str], ...]:
        """What tells its scenes from all others: source, collection and id."""
        return tuple((self.source, self.collection, scene) for scene in self.scenes)

    def ground(self, area: Shape | None) -> Shape | None:
        """What it is for: its piece, else the whole area."""
        return from_text(self.piece) if self.piece else area

    def once_more(self, number: int) -> Order:
        """The same order, to be handed in anew under another number."""
        return replace(
            self, number=number, state=PLANNED, job="", progress=0, message="", submitted="", ended="", reference=""
        )


class Queue:
    """A study's orders on disk; every change is written at once, so that a restart loses none."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __iter__(self) -> Iterator[Order]:
        if not self.path.exists():
            return
        try:
            for row in read_json(self.path)["orders"]:
                order = of_row(Order, row)
                if not order.scenes:
                    raise TypeError("an order of no scene")
                yield order
        except (KeyError, TypeError, AttributeError) as error:
            raise DataError(f"{self.path} does not hold orders.", "Remove it and plan the orders again.") from error

    def by_scene(self) -> dict[tuple[str, str, str], Order]:
        """The order that tells most of each scene: a piece that is still to come, else the newest."""
        found: dict[tuple[str, str, str], Order] = {}
        for order in self:
            for scene in order.keys:
                before = found.get(scene)
                if before is None or not before.parts or before.has_failed or before.state == FETCHED:
                    found[scene] = order
        return found

    def left(self, with_planned: bool) -> list[Order]:
        """Orders that go on by themselves: under way, ready to be fetched, and planned ones where those are meant."""
        states = (READY, PLANNED) if with_planned else (READY,)
        return [order for order in self if order.is_pending or order.state in states]

    def owed(self) -> list[Order]:
        """Orders of which something is still to come or to be done.

        Planned ones, those under way or ready, those whose fate is unknown, and those that failed and were not
        handed in again; dismissed ones are not missed.
        """
        found: list[Order] = []
        settled: set[tuple[tuple[str, str, str], int]] = set()
        for order in reversed(list(self)):
            keys = {(key, order.part) for key in order.keys}
            if order.state in ("failed", LOST):
                found += [] if keys <= settled else [order]
            elif order.state not in (FETCHED, "dismissed"):
                found.append(order)
            settled |= keys
        return found[::-1]

    def replace(self, order: Order) -> None:
        """Write one order in the place of the one with its number."""
        self.write([order if known.number == order.number else known for known in self])

    def add(self, orders: Sequence[Order]) -> None:
        """Append orders."""
        self.write([*self, *orders])

    def write(self, orders: Sequence[Order]) -> None:
        """Write the whole queue."""
        rows = [asdict(order) | {"job": put_away(order.job, order.source)} for order in orders]
        write_json(self.path, {"orders": rows})


def on_order(scenes: Sequence[str], queue: Queue) -> list[str]:
    """Sentences on scenes that come by orders alone: how many are ready, under way, or still to be ordered."""
    states = {scene: order.state for (_, _, scene), order in queue.by_scene().items()}
    told = [states.get(scene, "") for scene in scenes]
    ready, going = told.count(READY), sum(state in (*PENDING, UNSURE) for state in told)
    found = [
        (ready, "ready: 'zoompick order wait' fetches", "is", "are"),
        (going, "ordered and under way: 'zoompick order wait' waits for", "is", "are"),
        (len(told) - ready - going, "to be ordered first: 'zoompick order plan' plans", "has", "have"),
    ]
    return [
        f"1 scene {one} {words} it." if count == 1 else f"{count} scenes {several} {words} them."
        for count, words, one, several in found
        if count
    ]


def cost_of(queue: Iterable[Order]) -> tuple[Money, ...]:
    """What some orders cost together, by currency."""
    return money.totals(order.money for order in queue)
