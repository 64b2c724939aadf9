"""The jobs at a source that carry out orders.

Source: OGC 18-062r2 (OGC API - Processes, part 1: core), sections 7.11 (execute), 7.12 (status), 7.13 (results),
7.14 (dismiss).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from zoompick.errors import SourceError
from zoompick.files import sha256_of_multihash
from zoompick.geo.shapes import Shape, geojson_of
from zoompick.net.client import Client
from zoompick.net.refusals import GONE, NOT_FOUND, AnsweredError
from zoompick.transfer.queue import LOST, Order

_EXECUTE, _RESULTS = "/rel/ogc/1.0/execute", "/rel/ogc/1.0/results"


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
        ground = order.ground(area)
        if ground is not None:
            inputs["area"] = geojson_of(ground)
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


def _link(value: object, ending: str) -> str:
    links = value.get("links") if isinstance(value, dict) else None
    for link in links if isinstance(links, list) else ():
        if isinstance(link, dict) and str(link.get("rel", "")).endswith(ending):
            return str(link.get("href") or "")
    return ""
