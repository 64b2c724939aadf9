"""What is asked of sources on behalf of one study: terms, prices, a queue that survives restarts."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Protocol

from zoompick import money
from zoompick.addresses import is_remote, public
from zoompick.errors import DataError, NothingFoundError, SourceError, UsageError
from zoompick.files import read_json, write_json
from zoompick.geo.shapes import Shape
from zoompick.journal import act
from zoompick.jsontypes import JsonMap
from zoompick.money import Money
from zoompick.net.authority import Authority, Purpose
from zoompick.net.client import Client
from zoompick.net.links import address_of, joined, links_of
from zoompick.net.refusals import is_refused
from zoompick.orders import jobs as orders
from zoompick.orders.queue import FETCHED, PLANNED, READY, UNSURE, Order, Queue, cost_of
from zoompick.orders.quotas import Place, Quota, Share, next_to_submit, split
from zoompick.orders.shares import shares_of
from zoompick.records import of_row
from zoompick.scenes import offer
from zoompick.scenes.fetchplan import ITEM
from zoompick.scenes.prices import km2_price
from zoompick.scenes.scene import Key, Scene
from zoompick.scenes.source import Source
from zoompick.scenes.sources import named

Limit = str | float | Money
"""What a person allows: an amount with its currency, or a bare number."""


@dataclass(frozen=True)
class Terms:
    """The terms of a collection.

    Attributes
    ----------
    text : str
        Empty for a document that is no text.
    sha256 : str
        Of the document, hexadecimal: by it the terms are accepted.
    accepted : str
        When they were accepted in this study; empty while they were not.
    """

    collection: str
    url: str
    text: str
    sha256: str
    accepted: str


@dataclass(frozen=True)
class _Accepted:
    """A row of the study's record of terms, by collection."""

    url: str
    sha256: str
    accepted: str


class Books(Protocol):
    """Where a study keeps what concerns orders."""

    @property
    def orders_file(self) -> Path:
        """Its orders."""

    @property
    def terms_file(self) -> Path:
        """The terms that were accepted."""

    @property
    def journal_file(self) -> Path:
        """What was done, when."""

    def scene_folder(self, key: Key) -> Path:
        """Where the files of a scene lie."""


@dataclass(frozen=True)
class Desk:
    """What is asked of sources on behalf of one study.

    Attributes
    ----------
    books : Books
        Where the study keeps what concerns orders.
    area : polygon or None
        Longitude/latitude; scenes are ordered for this part of them.
    """

    books: Books
    sources: Mapping[str, Source]
    area: Shape | None
    client: Client

    @property
    def queue(self) -> Queue:
        """The study's orders."""
        return Queue(self.books.orders_file)

    # Terms

    def terms(self, scenes: Sequence[Scene]) -> list[Terms]:
        """Terms of the collections whose scenes are not open; none for one that tells none."""
        found = []
        for collection, scene in {scene.collection: scene for scene in to_order(scenes)}.items():
            about = self._about(scene)
            url = address_of(about, "license")
            if url:
                data, kind = self._asking(scene).document(joined(address_of(scene.item, "collection"), url))
                text = data.decode("utf-8", "replace") if kind.startswith("text/") else ""
                digest = hashlib.sha256(data).hexdigest()
                kept = self._accepted().get(collection)
                accepted = kept.accepted if kept and kept.sha256 == digest else ""
                found.append(Terms(collection, url, text, digest, accepted))
        return found

    def accept(self, scenes: Sequence[Scene], sha256: str) -> Terms:
        """Record that the terms with this digest are accepted.

        Raises
        ------
        UsageError
            No collection of the scenes has these terms now.
        """
        for terms in self.terms(scenes):
            if len(sha256) >= 8 and terms.sha256.startswith(sha256.lower()):
                now = _now()
                known = self._accepted() | {terms.collection: _Accepted(public(terms.url), terms.sha256, now)}
                write_json(self.books.terms_file, {name: asdict(entry) for name, entry in known.items()})
                return replace(terms, accepted=now)
        raise UsageError(f"No terms here have the digest {sha256}.", "'zoompick order ask' shows them.")

    def _accepted(self) -> dict[str, _Accepted]:
        path = self.books.terms_file
        try:
            rows = read_json(path).items() if path.exists() else ()
            return {name: of_row(_Accepted, row) for name, row in rows}
        except (AttributeError, TypeError) as error:
            raise DataError(f"{path} does not hold accepted terms.", "Remove it and accept them again.") from error

    # Planning and handing in

    def _about(self, scene: Scene) -> JsonMap:
        """The collection of a scene as its source tells it."""
        address = address_of(scene.item, "collection")
        told = self._asking(scene).json(address) if address else {}
        return told if isinstance(told, dict) else {}

    def _asking(self, scene: Scene) -> Client:
        """The session that reads on behalf of a scene's source."""
        return self.client.acting(named(scene.source, self.sources).authority(Purpose.SEARCH))

    def quotas(self, scenes: Sequence[Scene]) -> dict[Place, Quota]:
        """What the collections of scenes allow, by source and collection."""
        firsts = {(scene.source, scene.collection): scene for scene in scenes}
        return {place: Quota.of(offer.limits(self._about(scene))) for place, scene in firsts.items()}

    def plan(self, scenes: Sequence[Scene]) -> list[Order]:
        """Orders for the scenes that are neither here nor ordered, under the sources' quotas; nothing is kept.

        Raises
        ------
        NothingFoundError
            No scene has to be ordered, and no order waits to be handed in.
        """
        wanted, pieces = self._unordered(scenes), self._pieces_again(scenes)
        if not wanted and not pieces and not self.waiting():
            raise NothingFoundError(
                "No scene of the shortlist has still to be ordered.", "'zoompick order status' shows the queue."
            )
        first = max((order.number for order in self.queue), default=0) + 1
        again = [order.once_more(first + place) for place, order in enumerate(pieces)]
        found = again + split(self._shares(scenes, wanted), self.quotas(wanted), first + len(again))
        if not found and not self.waiting():
            raise NothingFoundError(
                f"Nothing has still to be ordered: {_listed([scene.id for scene in wanted])} would add no ground to "
                "what other scenes of the overpass give.",
                "Leave out what adds nothing: 'zoompick pick drop'.",
            )
        return found

    def _shares(self, scenes: Sequence[Scene], wanted: Sequence[Scene]) -> list[Share]:
        """What is wanted of scenes that are not ordered yet: of no overpass any ground that is bought already."""
        known, bought = {scene.key: scene for scene in scenes}, []
        for order in self.queue:
            if not order.has_failed:
                ordered = [known.get(key) or self._kept(key) for key in order.keys]
                bought += [Share.of(scene, order.ground(self.area)) for scene in ordered if scene is not None]
        return shares_of(wanted, bought, self.area)

    def waiting(self) -> list[Order]:
        """Orders of the queue that were not handed in: for want of a slot, or because the source refused."""
        return [order for order in self.queue if order.state == PLANNED]

    def has_new(self, scenes: Sequence[Scene]) -> bool:
        """True when a scene, or a piece of one, has still to be ordered."""
        return bool(self._unordered(scenes) or self._pieces_again(scenes))

    def _unordered(self, scenes: Sequence[Scene]) -> list[Scene]:
        settled = {key for order in self.queue if not order.has_failed for key in order.keys}
        return [scene for scene in to_order(scenes) if scene.key not in settled]

    def _pieces_again(self, scenes: Sequence[Scene]) -> list[Order]:
        """Orders of pieces that failed, of scenes whose other pieces are here or under way."""
        missing: dict[tuple[tuple[Key, ...], int], Order] = {}
        wanted = {scene.key for scene in to_order(scenes)}
        begun = {key for order in self.queue if not order.has_failed for key in order.keys}
        for order in self.queue:
            key = order.keys, order.part
            if not order.has_failed:
                missing.pop(key, None)
            elif order.parts and wanted & begun & set(order.keys):
                missing[key] = order
        return list(missing.values())

    def _kept(self, key: Key) -> Scene | None:
        """A scene that is ordered, and in the shortlist no more, by the item that lies with its files."""
        try:
            return Scene.from_item(read_json(self.books.scene_folder(key) / ITEM), key[0])
        except (DataError, SourceError, AttributeError):
            return None

    def submit(self, scenes: Sequence[Scene], planned: Sequence[Order], limits: Sequence[Limit] = ()) -> list[Order]:
        """Take planned orders into the queue and hand in as many as there are slots for.

        Parameters
        ----------
        limits : sequence
            What all may cost together, one amount for each currency: the planned ones, those that wait in the queue
            since an earlier attempt, and those of which nobody knows whether they were taken.

        Raises
        ------
        UsageError
            Terms that were not accepted, or a price above the limit; nothing is handed in.
        SourceError
            A price that is none, or that the source has changed since it was planned.
        """
        self.refresh()
        open_terms = [terms for terms in self.terms(scenes) if not terms.accepted]
        if open_terms:
            raise UsageError(
                f"The terms of {open_terms[0].collection} have not been accepted in this study.",
                "Read them with 'zoompick order ask'; it says how to accept them.",
            )
        self._within(limits, planned)
        self._refuse_changed_prices(scenes, planned)
        self.queue.add(planned)
        self.hand_in(scenes)
        return list(self.queue)

    def _within(self, limits: Sequence[Limit], planned: Sequence[Order]) -> None:
        waiting, unsure = self.waiting(), [order for order in self.queue if order.state == UNSURE]
        starting = [*waiting, *planned]
        if not starting:
            return
        sums, earlier, lost = cost_of([*starting, *unsure]), cost_of(waiting), cost_of(unsure)
        allowed = money.allowed(limits, sums)
        if money.too_dear(sums, allowed) is None:
            return
        of_them = f", {money.words(earlier)} of it for orders that wait since earlier" if earlier else ""
        of_them += f", {money.words(lost)} of it for orders that the source may have taken" if lost else ""
        told = f"you allow {money.words(allowed)}" if allowed else "no price was accepted"
        give = " ".join(f"`accept-price` '{one}'" for one in sums)
        raise UsageError(
            f"The orders cost {money.words(sums)}{of_them}; {told}. Nothing was ordered.",
            f"Give {give}, pick fewer scenes, or take orders out: 'zoompick order cancel'.",
        )

    def _refuse_changed_prices(self, scenes: Sequence[Scene], planned: Sequence[Order]) -> None:
        """Ask again what each scene costs that would be bought; one that its source tells no more is as it was."""
        starting = {key for order in (*self.waiting(), *planned) for key in order.keys}
        for scene in to_order(scenes):
            before = km2_price(scene) if scene.key in starting else None
            if before is None or not is_remote(scene.address):
                continue
            now = km2_price(Scene.from_item(self._asking(scene).json(scene.address), scene.source))
            if now != before:
                raise SourceError(
                    f"{scene.id} cost {before} a km2 when it was searched, and now {now or 'nothing'}: nothing was "
                    "ordered.",
                    "Search and pick again, then plan anew: 'zoompick order plan'.",
                )

    def refresh(self) -> list[Order]:
        """Ask how the orders are that are under way, or whose fate is unknown; nothing is handed in."""
        for order in list(self.queue):
            if order.is_pending:
                self.keep(self.desk_of(order.source).status(order))
            elif order.state == UNSURE:
                self._look_up(order)
        return list(self.queue)

    def _look_up(self, order: Order) -> Order:
        found = self.desk_of(order.source).find(order, datetime.now(UTC))
        self.keep(found)
        return found

    def hand_in(self, scenes: Sequence[Scene]) -> list[Order]:
        """Hand in as many of the waiting orders as there are slots for; :meth:`submit` has tested their price."""
        quotas = self.quotas(to_order(scenes))
        for order in next_to_submit(self.queue, quotas):
            self._hand_in(order)
        return list(self.queue)

    def _hand_in(self, order: Order) -> None:
        """Hand one order in; what is not known to have failed is never handed in again."""
        desk = self.desk_of(order.source)
        address = desk.address()
        kept = self._accepted().get(order.collection)
        terms = kept.sha256 if kept else ""
        facts = {"order": order.number, "source": order.source, "collection": order.collection,
                 "scenes": list(order.scenes), "price": order.price, "currency": order.currency}  # fmt: skip
        with act(self.books.journal_file, "order handed in", **facts) as doing:
            order = replace(order, submitted=_now(), reference=f"{secrets.token_hex(8)}-{order.number}")
            self.keep(replace(order, state=UNSURE, message="it was being handed in"))
            try:
                taken = desk.submit(order, self.area, terms, order.money.amount + 0.01, address)
            except SourceError as error:
                if is_refused(error):
                    self.keep(replace(order, submitted="", reference=""))
                    raise
                raise SourceError(
                    f"{error.what} Nobody knows whether order {order.number} was taken: it counts as bought.",
                    "'zoompick order status' asks how it stands; nothing of it is handed in again.",
                ) from error
            self.keep(taken)
            doing.note(job=taken.job, state=taken.state)

    def desk_of(self, source: str) -> orders.OrderDesk:
        """The order desk of a source, as its landing page tells it now."""
        url = named(source, self.sources).url
        asking = self.client.acting(Authority(source, url, Purpose.ORDER))
        return orders.OrderDesk(source, url, links_of(asking.json(url)), asking)

    def keep(self, order: Order) -> None:
        """Write down how an order stands; what has ended tells when."""
        has_ended = order.has_failed or order.state in (READY, FETCHED)
        self.queue.replace(replace(order, ended=order.ended or _now()) if has_ended else order)

    def cancel(self, numbers: Iterable[int], not_taken: bool = False) -> list[Order]:
        """Dismiss orders by number; one that was not handed in is taken out of the queue.

        Parameters
        ----------
        not_taken : bool
            A person knows that the source did not take the orders whose fate is unknown here.

        Raises
        ------
        UsageError
            No such number, or an order that the source may have taken and does not tell.
        """
        known = {order.number: order for order in self.queue}
        for number in numbers:
            if number not in known:
                raise UsageError(f"There is no order {number}.", "'zoompick order status' lists them.")
            order = known[number]
            if order.state == UNSURE and not not_taken:
                order = self._look_up(order)
            if order.is_pending:
                self.keep(self.desk_of(order.source).cancel(order))
            elif order.state == UNSURE and not not_taken:
                raise UsageError(
                    f"{order.source} may have taken order {number}: {order.message}. Cancelling it here alone would "
                    "offer its scenes for sale again.",
                    f"Ask the people who run {order.source} for the order of reference {order.reference or 'none'}: "
                    f"if they have none, give `not-taken`; if they do, 'zoompick order adopt {number} JOB'.",
                )
            elif order.state in (PLANNED, UNSURE):
                self.keep(replace(order, state="dismissed", message="taken out of the queue"))
        return list(self.queue)

    def adopt(self, number: int, job: str) -> list[Order]:
        """Take a job of the source, by its address or its id, for the order whose fate is unknown here.

        Raises
        ------
        UsageError
            No such order, or its fate is known.
        SourceError
            The job is not one of the order's source.
        """
        order = next((order for order in self.queue if order.number == number), None)
        if order is None or order.state != UNSURE:
            what = "There is no order" if order is None else "It is known how it stands with order"
            raise UsageError(f"{what} {number}.", "'zoompick order status' lists them.")
        if any(job in (other.job, other.job.rpartition("/")[2]) for other in self.queue if other.job):
            raise UsageError(f"The job {job} is another order of this study.", "'zoompick order status' lists them.")
        desk = self.desk_of(order.source)
        self.keep(desk.status(replace(order, job=desk.job_of(job))))
        return list(self.queue)


def to_order(scenes: Iterable[Scene]) -> list[Scene]:
    """Scenes that are given on request or for a price only."""
    return [scene for scene in scenes if scene.access != "open"]


def _listed(ids: Sequence[str]) -> str:
    return ids[0] if len(ids) == 1 else f"{ids[0]} and {len(ids) - 1} more"


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")
