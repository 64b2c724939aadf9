"""The jobs at a source that carry out orders.

Source: OGC 18-062r2 (OGC API - Processes, part 1: core), sections 7.11 (execute), 7.12 (status), 7.13 (results),
11 (job list), 13 (dismiss).
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from zoompick.errors import SourceError
from zoompick.files import sha256_of_multihash
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.net.client import Client
from zoompick.net.refusals import GONE, NOT_FOUND, AnsweredError
from zoompick.transfer.queue import LOST, PLANNED, Order

_EXECUTE, _RESULTS, JOBS = "/rel/ogc/1.0/execute", "/rel/ogc/1.0/results", "/rel/ogc/1.0/job-list"
_MOST_PAGES = 100
_CLOCKS_S = 300
"""How far the clocks of a source and of this machine may be apart."""
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
    """The processes of one source.

    Parameters
    ----------
    links : sequence of mapping
        Links of the source's landing page.
    """

    def __init__(self, url: str, links: Sequence[Mapping[str, Any]], client: Client) -> None:
        self._client, self._links = client, links
        found = next((link for link in links if str(link.get("rel", "")).endswith("/processes")), None)
        if found is None:
            raise SourceError(
                f"{url} takes no orders: its landing page names no processes.", "Ask the people who run it."
            )
        self._processes = str(found["href"])

    def submit(self, order: Order, area: Shape | None, terms: str, price_max: float, address: str = "") -> Order:
        """Hand an order in; what it may cost and the terms that were accepted go with it.

        Raises
        ------
        SourceError
            Refused; the message holds why. It is never handed in twice: after a broken connection nobody knows.
        """
        inputs: dict[str, Any] = {"collection": order.collection, "items": list(order.scenes), "price_max": price_max}
        ground = order.ground(area)
        if ground is not None:
            inputs["area"] = geojson_of(ground)
        if terms:
            inputs["terms"] = terms
        if order.reference:
            inputs["reference"] = order.reference
        answer = self._client.post_once(address or self.address(), {"inputs": inputs, "response": "document"})
        job = _link(answer, "self")
        if not job:
            raise SourceError("The source took the order but named no job.", "Ask the people who run it.")
        return _told(replace(order, job=job), answer)

    def find(self, order: Order, known: Collection[str], now: datetime) -> Order:
        """An order whose fate is unknown, as the source's list of jobs tells it.

        A job that bears the order's reference is the order. Where the source tells no references, a job that is as
        young and not one of ours may be it: nobody can know. Where a list holds nothing of the kind, the order was
        not taken, and is planned again.

        Parameters
        ----------
        known : collection of str
            Addresses of the jobs of other orders.
        """
        address = next((str(link["href"]) for link in self._links if str(link.get("rel", "")).endswith(JOBS)), "")
        if not address:
            return replace(order, message="the source keeps no list of orders to look it up in")
        jobs = self._jobs(address)
        for job in jobs:
            if order.reference and job.get("reference") == order.reference:
                return _told(replace(order, job=_link(job, "self") or f"{address}/{job.get('jobID')}"), job)
        handed_in = datetime.fromisoformat(order.submitted) if order.submitted else now
        strangers = [job for job in jobs if not job.get("reference") and _link(job, "self") not in known]
        if any(_began(job) >= handed_in - timedelta(seconds=_CLOCKS_S) for job in strangers):
            return replace(order, message="one of the orders that the source keeps may be it")
        if (now - handed_in).total_seconds() < _SURE_S:
            return replace(order, message="not in the source's list yet: ask again in a minute")
        return replace(order, state=PLANNED, submitted="", reference="", message="the source did not take it")

    def _jobs(self, address: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = []
        for _ in range(_MOST_PAGES):
            answer = self._client.json(address)
            jobs = answer.get("jobs") if isinstance(answer, dict) else None
            found += [job for job in jobs if isinstance(job, dict)] if isinstance(jobs, list) else []
            address = _link(answer, "next")
            if not address:
                return found
        raise SourceError(f"The list of orders has more than {_MOST_PAGES} pages.", "Tell those who run it.")

    def address(self) -> str:
        """Where orders are handed in.

        Raises
        ------
        SourceError
            No process of the source can be executed.
        """
        listed = self._client.json(self._processes)
        for process in listed.get("processes", ()):
            address = _link(process, _EXECUTE)
            if address:
                return address
        raise SourceError(f"{self._processes} offers no process that can be executed.", "Ask the people who run it.")


def status(order: Order, client: Client) -> Order:
    """An order as its source sees it now; ``lost`` when it knows it no more."""
    try:
        return _told(order, client.json(order.job))
    except AnsweredError as error:
        if error.status in (NOT_FOUND, GONE):
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


def _told(order: Order, answer: object) -> Order:
    if not isinstance(answer, dict) or not isinstance(answer.get("status"), str):
        raise SourceError("The source answered with no status of a job.", "Ask the people who run it.")
    progress = answer.get("progress")
    return replace(
        order,
        state=answer["status"],
        progress=int(progress) if isinstance(progress, int | float) else order.progress,
        message=str(answer.get("message") or ""),
    )


def _began(job: Mapping[str, Any]) -> datetime:
    """When a job was made; just now for one that does not tell."""
    try:
        moment = datetime.fromisoformat(str(job.get("created") or ""))
    except ValueError:
        return datetime.now(UTC)
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)


def _link(value: object, ending: str) -> str:
    links = value.get("links") if isinstance(value, dict) else None
    for link in links if isinstance(links, list) else ():
        if isinstance(link, dict) and str(link.get("rel", "")).endswith(ending):
            return str(link.get("href") or "")
    return ""
