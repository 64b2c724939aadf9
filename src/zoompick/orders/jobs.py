"""The jobs at a source that carry out orders.

Source: OGC 18-062r2 (OGC API - Processes, part 1: core), sections 7.11 (execute), 7.12 (status), 7.13 (results),
11 (job list), 13 (dismiss).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from urllib.parse import quote, urlsplit

from zoompick import foreign
from zoompick.addresses import host_of
from zoompick.errors import SourceError
from zoompick.files import sha256_of_multihash
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.net.authority import Authority, Purpose
from zoompick.net.client import Client
from zoompick.net.links import joined, objects_in
from zoompick.net.refusals import GONE, NOT_FOUND, AnsweredError
from zoompick.orders.queue import LOST, PLANNED, Order

_EXECUTE, _RESULTS, JOBS = "/rel/ogc/1.0/execute", "/rel/ogc/1.0/results", "/rel/ogc/1.0/job-list"
_PROCESSES = "/processes"
_DECIDE = ": whether it took the order only its people can say"
_MOST_PAGES = 100
_SURE_S = 60
"""So long after an order was handed in a source's list of jobs may still lack it."""


@dataclass(frozen=True, slots=True)
class Result:
    """A file that an order gave."""

    scene: str
    url: str
    size: int | None
    sha256: str | None


class OrderDesk:
    """The processes and jobs of one source, all at its own origin.

    Parameters
    ----------
    source : str
        Its name.
    url : str
        Its landing page.
    links : sequence of mapping
        Links of that.

    Raises
    ------
    SourceError
        It takes no orders, or its desk lies at another host.
    """

    def __init__(self, source: str, url: str, links: Sequence[JsonMap], client: Client) -> None:
        authority = Authority(source, url, Purpose.ORDER)
        told = {ending: _href(links, ending, url) for ending in (_PROCESSES, JOBS)}
        self._processes, self._listed = told[_PROCESSES], told[JOBS]
        if not self._processes:
            raise SourceError(
                f"{url} takes no orders: its landing page names no processes.", "Ask the people who run it."
            )
        for address in filter(None, told.values()):
            _refuse_stranger(authority, address, "names an order desk")
        jobs = self._listed or f"{self._processes.partition('?')[0].rpartition('/')[0]}/jobs"
        self._authority = authority.at(self._processes.partition("?")[0], jobs.partition("?")[0])
        self._client = client.acting(self._authority)

    def submit(self, order: Order, area: Shape | None, terms: str, price_max: float, address: str = "") -> Order:
        """Hand an order in; what it may cost and the terms that were accepted go with it.

        Raises
        ------
        SourceError
            Refused; the message holds why. It is never handed in twice: after a broken connection nobody knows.
        """
        inputs: JsonObject = {"collection": order.collection, "items": list(order.scenes), "price_max": price_max}
        ground = order.ground(area)
        if ground is not None:
            inputs["area"] = geojson_of(ground)
        if terms:
            inputs["terms"] = terms
        if order.reference:
            inputs["reference"] = order.reference
        address = address or self.address()
        answer = self._acting(address).post_once(address, {"inputs": inputs, "response": "document"})
        return _told(replace(order, job=self._job(answer)), answer)

    def _job(self, answer: object) -> str:
        """The address of a job, as the source tells it.

        Raises
        ------
        SourceError
            It tells none, or one that is not its own: that is never asked, nor dismissed.
        """
        address = joined(self._authority.address, _link(answer, "self")) if _link(answer, "self") else ""
        if not address and isinstance(answer, dict):
            address = str(answer.get("jobID") or "")
        if not address:
            raise SourceError("The source took the order but named no job.", "Ask the people who run it.")
        return self.job_of(address)

    def job_of(self, told: str) -> str:
        """The address of a job by its id or its address; SourceError for another source's."""
        is_address = told.startswith(("http://", "https://"))
        address = told if is_address else f"{self._authority.places[-1].rstrip('/')}/{quote(told, safe='')}"
        self.refuse_other(address)
        return address

    def refuse_other(self, address: str) -> None:
        """Raise :class:`SourceError` for the address of a job that cannot be one of this source's own."""
        _refuse_stranger(self._authority, address, "names a job")
        path = urlsplit(address).path.rstrip("/")
        known = (self._authority.address, *self._authority.places)
        if path in {urlsplit(place).path.rstrip("/") for place in known} or "/../" in f"{path}/":
            raise SourceError(
                f"{self._authority.name} names a job at {address}, which is none: it is not asked.",
                "Ask the people who run the source.",
            )

    def _acting(self, address: str) -> Client:
        """The session that may write to an address which the source named for just that."""
        return self._client.acting(self._authority.to(address))

    def find(self, order: Order, now: datetime) -> Order:
        """An order whose fate is unknown, as the source's list of jobs tells it.

        The job that bears the order's reference is the order. Until the source's own list, read whole, proves
        otherwise, the order counts as handed in: a list does so that comes a minute later, of a source that is known
        to tell references, and holds none like it. Times prove nothing: they are dates, local, or of another clock.
        """
        if not self._listed:
            return replace(order, message=f"the source keeps no list of orders to look it up in{_DECIDE}")
        jobs, is_whole = self._jobs()
        for job in jobs:
            if order.reference and job.get("reference") == order.reference:
                return _told(replace(order, job=self._job(job)), job)
        handed_in = datetime.fromisoformat(order.submitted) if order.submitted else now
        if (now - handed_in).total_seconds() < _SURE_S:
            return replace(order, message="not in the source's list yet: ask again in a minute")
        tells = any(job.get("reference") for job in jobs) or self._takes_references()
        if not is_whole or not order.reference or not tells:
            why = "could not be read whole" if not is_whole else "tells no references to know it by"
            return replace(order, message=f"the source's list of orders {why}{_DECIDE}")
        return replace(order, state=PLANNED, submitted="", reference="", message="the source did not take it")

    def _jobs(self) -> tuple[list[JsonObject], bool]:
        """Jobs of the source's list, and whether it was read to its end."""
        found: list[JsonObject] = []
        address, seen = self._listed, set[str]()
        for _ in range(_MOST_PAGES):
            answer = self._client.json(address)
            jobs = answer.get("jobs") if isinstance(answer, dict) else None
            if not isinstance(jobs, list) or not all(isinstance(job, dict) for job in jobs):
                return found, False
            found += jobs
            seen.add(address)
            following = _link(answer, "next")
            if not following:
                return found, True
            address = joined(address, following)
            if address in seen or not self._authority.is_own(address):
                return found, False
        return found, False

    def _takes_references(self) -> bool:
        """Whether the process that takes orders tells that it knows references (OGC 18-062r2, section 7.10)."""
        try:
            told = self._client.json(self.address().rpartition("/execution")[0])
        except SourceError:
            return False
        inputs = told.get("inputs") if isinstance(told, dict) else None
        return isinstance(inputs, dict) and "reference" in inputs

    def address(self) -> str:
        """Where orders are handed in.

        Raises
        ------
        SourceError
            No process of the source can be executed.
        """
        for process in objects_in(self._client.json(self._processes), "processes"):
            if _link(process, _EXECUTE):
                address = joined(self._processes, _link(process, _EXECUTE))
                _refuse_stranger(self._authority, address, "takes orders")
                return address
        raise SourceError(f"{self._processes} offers no process that can be executed.", "Ask the people who run it.")

    def status(self, order: Order) -> Order:
        """An order as its source sees it now; ``lost`` when it knows it no more."""
        self.refuse_other(order.job)
        try:
            return _told(order, self._client.json(order.job))
        except AnsweredError as error:
            if error.status in (NOT_FOUND, GONE):
                return replace(order, state=LOST, message="the source knows this order no more")
            raise

    def cancel(self, order: Order) -> Order:
        """Dismiss an order at its source."""
        self.refuse_other(order.job)
        return _told(order, self._acting(order.job).json(order.job, method="DELETE"))

    def results(self, order: Order) -> list[Result]:
        """Files of an order that is ready."""
        self.refuse_other(order.job)
        told = _link(self._client.json(order.job), _RESULTS)
        address = joined(order.job, told) if told else f"{order.job}/results"
        _refuse_stranger(self._authority, address, "keeps results")
        return _results(order, self._client.json(address))

    @property
    def client(self) -> Client:
        """The session that asks on behalf of its orders."""
        return self._client


def _results(order: Order, answer: object) -> list[Result]:
    rows = answer.get("files") if isinstance(answer, dict) else None
    if not isinstance(rows, list):
        raise SourceError(f"The results of order {order.number} name no files.", "Ask the people who run the source.")
    return [
        Result(
            scene=str(row.get("title") or ""),
            url=str(row["href"]),
            size=foreign.whole(row.get("file:size")),
            sha256=sha256_of_multihash(str(row.get("file:checksum", ""))),
        )
        for row in rows
        if isinstance(row, dict) and isinstance(row.get("href"), str)
    ]


def _told(order: Order, answer: object) -> Order:
    if not isinstance(answer, dict) or not isinstance(answer.get("status"), str):
        raise SourceError("The source answered with no status of a job.", "Ask the people who run it.")
    progress = foreign.number(answer.get("progress"), 0, 100)
    return replace(
        order,
        state=answer["status"],
        progress=order.progress if progress is None else int(progress),
        message=foreign.text(answer.get("message") or "", 500),
    )


def _href(links: Sequence[JsonMap], ending: str, base: str) -> str:
    told = next((str(link["href"]) for link in links if str(link.get("rel", "")).endswith(ending)), "")
    return joined(base, told) if told else ""


def _refuse_stranger(authority: Authority, address: str, what: str) -> None:
    if not authority.is_own(address):
        raise SourceError(
            f"{authority.name} {what} at another host, {host_of(address)}: orders are handed in, looked at and "
            "dismissed at a source's own alone.", "Ask the people who run the source.",
        )  # fmt: skip


def _link(value: object, ending: str) -> str:
    links = value.get("links") if isinstance(value, dict) else None
    for link in links if isinstance(links, list) else ():
        if isinstance(link, dict) and str(link.get("rel", "")).endswith(ending):
            return str(link.get("href") or "")
    return ""
