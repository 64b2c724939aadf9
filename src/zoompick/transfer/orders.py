"""Orders: how a shortlist is split under a source's quotas, and the jobs that carry the parts out.

Source: OGC 18-062r2 (OGC API - Processes, part 1: core), sections 7.11 (execute), 7.12 (status), 7.13 (results),
7.14 (dismiss).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, fields, replace
from pathlib import Path
from typing import Any, Protocol

from zoompick.errors import DataError, SourceError, UsageError
from zoompick.files import read_json, sha256_of_multihash, write_json
from zoompick.geo.shapes import Shape, geojson_of, intersection
from zoompick.geo.sizes import area_km2
from zoompick.net.client import Client

PLANNED, UNSURE, READY, FETCHED, LOST = "planned", "unsure", "successful", "fetched", "lost"
PENDING = ("accepted", "running")
_EXECUTE, _RESULTS = "/rel/ogc/1.0/execute", "/rel/ogc/1.0/results"
_UNBOUNDED = float("inf")


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
    def price_km2(self) -> float | None:
        """Price of a square kilometre, where it is told."""

    @property
    def footprint(self) -> Shape:
        """Ground polygon in longitude/latitude."""


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
    """

    scenes_an_order: float = _UNBOUNDED
    pending_orders: float = _UNBOUNDED
    largest_area_km2: float = _UNBOUNDED
    km2_an_order: float = _UNBOUNDED

    @classmethod
    def of(cls, limits: Mapping[str, float]) -> Quota:
        """Take what is known here out of a collection's limits."""
        known = {entry.name for entry in fields(cls)}
        return cls(**{name: value for name, value in limits.items() if name in known})


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

    @property
    def is_pending(self) -> bool:
        """True while the source works on it."""
        return self.state in PENDING


@dataclass(frozen=True, slots=True)
class Result:
    """A file that an order gave."""

    scene: str
    url: str
    size: int | None
    sha256: str | None


def split(
    scenes: Sequence[Orderable], quotas: Mapping[str, Quota], area: Shape | None, first: int = 1
) -> list[Order]:
    """Split scenes into the fewest orders that the quotas allow, collection by collection, in the order given.

    With bounds on number and on area together the largest scenes go first, each into the first order with room
    (first fit decreasing: at most 11/9 of the fewest; Johnson, Near-optimal bin packing algorithms, 1973). With a
    bound on the number alone the count is the fewest there can be.

    Raises
    ------
    UsageError
        A scene whose part of the area is larger than an order may be; split the area first.
    """
    found: list[Order] = []
    groups: dict[tuple[str, str], list[tuple[Orderable, float]]] = {}
    for scene in scenes:
        km2 = area_km2(scene.footprint if area is None else intersection(area, scene.footprint))
        groups.setdefault((scene.source, scene.collection), []).append((scene, km2))
    for (source, collection), sized in groups.items():
        for bin_ in _packed(sized, quotas.get(collection, Quota())):
            price = sum((scene.price_km2 or 0.0) * km2 for scene, km2 in bin_)
            names = tuple(scene.id for scene, _ in bin_)
            currency = str(getattr(bin_[0][0], "currency", ""))
            km2 = sum(size for _, size in bin_)
            found.append(
                Order(first + len(found), source, collection, names, round(km2, 4), round(price, 2), currency)
            )
    return found


def _packed(sized: Sequence[tuple[Orderable, float]], quota: Quota) -> list[list[tuple[Orderable, float]]]:
    most_km2 = min(quota.largest_area_km2, quota.km2_an_order)
    for scene, km2 in sized:
        if km2 > most_km2:
            raise UsageError(
                f"{scene.id} would be ordered for {km2:.1f} km2, an order takes at most {most_km2:g} km2.",
                "Cut the area in pieces ('zoompick area change'), one study each.",
            )
    bins: list[list[tuple[Orderable, float]]] = []
    whole_first = sized if quota.km2_an_order == _UNBOUNDED else sorted(sized, key=lambda entry: -entry[1])
    for scene, km2 in whole_first:
        for bin_ in bins:
            filled = sum(size for _, size in bin_)
            if len(bin_) < quota.scenes_an_order and filled + km2 <= quota.km2_an_order:
                bin_.append((scene, km2))
                break
        else:
            bins.append([(scene, km2)])
    return bins


def next_to_submit(orders: Iterable[Order], quotas: Mapping[str, Quota]) -> list[Order]:
    """Planned orders for which there are slots now, in the order of the queue: a pure decision."""
    orders = list(orders)
    pending: dict[str, int] = {}
    for order in orders:
        if order.is_pending:
            pending[order.collection] = pending.get(order.collection, 0) + 1
    chosen = []
    for order in orders:
        if order.state == PLANNED:
            count = pending.get(order.collection, 0)
            if count < quotas.get(order.collection, Quota()).pending_orders:
                pending[order.collection] = count + 1
                chosen.append(order)
    return chosen


class Queue:
    """A study's orders on disk; every change is written at once, so that a restart loses none."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __iter__(self) -> Iterator[Order]:
        if not self.path.exists():
            return
        try:
            for row in read_json(self.path)["orders"]:
                yield Order(**(row | {"scenes": tuple(row["scenes"])}))
        except (KeyError, TypeError, AttributeError) as error:
            raise DataError(f"{self.path} does not hold orders.", "Remove it and plan the orders again.") from error

    def replace(self, order: Order) -> None:
        """Write one order in the place of the one with its number."""
        self.write([order if known.number == order.number else known for known in self])

    def add(self, orders: Sequence[Order]) -> None:
        """Append orders."""
        self.write([*self, *orders])

    def write(self, orders: Sequence[Order]) -> None:
        """Write the whole queue."""
        write_json(self.path, {"orders": [asdict(order) for order in orders]})


class OrderDesk:
    """The processes of one source.

    Parameters
    ----------
    links : sequence of mapping
        Links of the source's landing page.
    """

    def __init__(self, url: str, links: Sequence[Mapping[str, Any]], client: Client) -> None:
        self._client = client
        found = next((link for link in links if str(link.get("rel", "")).endswith("/processes")), None)
        if found is None:
            raise SourceError(
                f"{url} takes no orders: its landing page names no processes.", "Ask the people who run it."
            )
        self._processes = str(found["href"])

    def submit(self, order: Order, area: Shape | None, terms: str, price_max: float) -> Order:
        """Hand an order in; what it may cost and the terms that were accepted go with it.

        Raises
        ------
        SourceError
            Refused; the message holds why. It is never handed in twice: after a broken connection nobody knows.
        """
        inputs: dict[str, Any] = {"collection": order.collection, "items": list(order.scenes), "price_max": price_max}
        if area is not None:
            inputs["area"] = geojson_of(area)
        if terms:
            inputs["terms"] = terms
        answer = self._client.post_once(self._address(), {"inputs": inputs, "response": "document"})
        job = _link(answer, "self")
        if not job:
            raise SourceError("The source took the order but named no job.", "Ask the people who run it.")
        return _told(replace(order, job=job), answer)

    def _address(self) -> str:
        listed = self._client.json(self._processes)
        for process in listed.get("processes", ()):
            address = _link(process, _EXECUTE)
            if address:
                return address
        raise SourceError(f"{self._processes} offers no process that can be executed.", "Ask the people who run it.")


def status(order: Order, client: Client) -> Order:
    """An order as its source sees it now; ``lost`` when it knows it no more."""
    from zoompick.net.refusals import AnsweredError

    try:
        return _told(order, client.json(order.job))
    except AnsweredError as error:
        if error.status in (404, 410):
            return replace(order, state=LOST, message="the source knows this order no more")
        raise


def cancel(order: Order, client: Client) -> Order:
    """Dismiss an order at its source."""
    return _told(order, client.json(order.job, method="DELETE"))


def results(order: Order, client: Client) -> list[Result]:
    """Files of an order that is ready."""
    told = client.json(order.job)
    answer = client.json(_link(told, _RESULTS) or f"{order.job}/results")
    rows = answer.get("files") if isinstance(answer, dict) else None
    if not isinstance(rows, list):
        raise SourceError(f"The results of order {order.number} name no files.", "Ask the people who run the source.")
    return [
        Result(
            scene=str(row.get("title") or ""),
            url=str(row["href"]),
            size=row.get("file:size") if isinstance(row.get("file:size"), int) else None,
            sha256=sha256_of_multihash(str(row.get("file:checksum", ""))),
        )
        for row in rows
        if isinstance(row, dict) and isinstance(row.get("href"), str)
    ]


def _told(order: Order, answer: Any) -> Order:
    if not isinstance(answer, dict) or not isinstance(answer.get("status"), str):
        raise SourceError("The source answered with no status of a job.", "Ask the people who run it.")
    progress = answer.get("progress")
    return replace(
        order,
        state=answer["status"],
        progress=int(progress) if isinstance(progress, int | float) else order.progress,
        message=str(answer.get("message") or ""),
    )


def _link(value: Any, ending: str) -> str:
    links = value.get("links") if isinstance(value, dict) else None
    for link in links if isinstance(links, list) else ():
        if isinstance(link, dict) and str(link.get("rel", "")).endswith(ending):
            return str(link.get("href") or "")
    return ""
