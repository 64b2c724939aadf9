"""Fetch picture tiles, politely and in parallel, into a store."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from zoompick.errors import CancelledError, FormatError, SourceError, ZoomPickError
from zoompick.events import Advanced, Finished, Report, Started, ignore
from zoompick.geo.tilegrid import Matrix, TileKey
from zoompick.net import contents as kinds
from zoompick.net.client import Client
from zoompick.net.refusals import AnsweredError
from zoompick.tiles.tilestore import TileStore

TASK = "tiles"
_AT_ONCE, _KEPT_EVERY_S = 64, 1.0
"""Tiles are put into the store when so many are here, or so long after the last: a killed run loses no more."""
_ABSENT = (204, 404, 410)
"""Answers by which a service says that it has no such tile."""
_MOST_FAILURES = 20
_HEADS = {"image/png": b"\x89PNG", "image/jpeg": b"\xff\xd8\xff", "image/webp": b"RIFF"}


@dataclass(frozen=True)
class TilePlan:
    """The decision.

    Attributes
    ----------
    level : int
        Place of the matrix among all levels of its grid, by which the store counts.
    fetch : tuple of TileKey
        Still to be fetched.
    here, absent : int
        Tiles that are in the store, and that the service does not have.
    counted : int
        Tiles under the area where they are too many to be listed; 0 else.
    """

    matrix: Matrix
    level: int
    fetch: tuple[TileKey, ...]
    here: int
    absent: int
    counted: int = 0

    @property
    def missing(self) -> int:
        """Tiles still to be fetched."""
        return self.counted - self.here - self.absent if self.counted else len(self.fetch)

    @property
    def total(self) -> int:
        """Tiles under the area."""
        return self.counted or len(self.fetch) + self.here + self.absent


def plan_tiles(
    matrix: Matrix, level: int, wanted: Sequence[TileKey], known: tuple[set[TileKey], set[TileKey]]
) -> TilePlan:
    """Decide which tiles to fetch: a pure decision."""
    here, absent = known
    fetch = tuple(key for key in wanted if key not in here and key not in absent)
    held = sum(key in here for key in wanted)
    return TilePlan(matrix, level, fetch, held, len(wanted) - len(fetch) - held)


@dataclass(frozen=True)
class TileOutcome:
    """What came.

    Attributes
    ----------
    failed : tuple of (TileKey, error)
        Tiles that may come another time.
    """

    done: int
    received: int
    absent: int
    failed: tuple[tuple[TileKey, ZoomPickError], ...]


def fetch_tiles(
    plan: TilePlan,
    address: Callable[[TileKey], str],
    form: str,
    store: TileStore,
    client: Client,
    parallel: int,
    report: Report = ignore,
    anew: Collection[TileKey] = (),
) -> TileOutcome:
    """Fetch tiles into the store; what came is kept whatever happens to the rest.

    A service that refuses many tiles on end is not asked for the others.

    Parameters
    ----------
    anew : collection of TileKey
        Those that are in the store and do not decode.

    Raises
    ------
    DiskError
        No room.
    CancelledError
    """
    report(Started(TASK, len(plan.fetch), "tiles"))
    waiting: queue.SimpleQueue[TileKey] = queue.SimpleQueue()
    for key in plan.fetch:
        waiting.put(key)
    came: queue.Queue[tuple[TileKey, bytes | ZoomPickError] | None] = queue.Queue(4 * _AT_ONCE)
    give_up = threading.Event()

    def work() -> None:
        try:
            while not give_up.is_set():
                try:
                    key = waiting.get_nowait()
                except queue.Empty:
                    return
                # Another run may have fetched it meanwhile.
                held = store.tile(plan.level, plan.matrix.rows, key) if key not in anew else None
                came.put((key, held or _one(address(key), form, client)))
        finally:
            came.put(None)

    with ThreadPoolExecutor(parallel, "zoompick-tiles") as pool:
        for _ in range(parallel):
            pool.submit(work)
        try:
            outcome = _kept(plan, came, parallel, store, give_up, report)
        except BaseException:
            give_up.set()
            client.stop.set()
            _drain(came)
            raise
    report(Finished(TASK))
    return outcome


def _one(url: str, form: str, client: Client) -> bytes | ZoomPickError:
    """A tile, or why it did not come."""
    try:
        data, kind = client.document(url)
    except ZoomPickError as error:
        return error
    if not data:
        return AnsweredError("The tile is empty.", "", 204)
    head = _HEADS.get(form, b"")
    if not data.startswith(head) and not data.startswith(tuple(_HEADS.values())):
        what = "a web page" if kinds.is_page(kind, "tile.png") else kinds.shown(data[: kinds.HEAD_BYTES])
        return FormatError(f"The service sent {what} in place of a tile.", "It may want a log-in: 'source login'.")
    return data


def _kept(
    plan: TilePlan,
    came: queue.Queue[tuple[TileKey, bytes | ZoomPickError] | None],
    parallel: int,
    store: TileStore,
    give_up: threading.Event,
    report: Report,
) -> TileOutcome:
    """Put what comes into the store, many tiles at a time; only this thread writes."""
    rows, held, absent = plan.matrix.rows, list[tuple[TileKey, bytes]](), list[tuple[TileKey, int]]()
    failed, running, kept_at = list[tuple[TileKey, ZoomPickError]](), parallel, time.monotonic()
    done = received = in_a_row = 0
    try:
        while running:
            if (entry := came.get()) is None:
                running -= 1
                continue
            key, found = entry
            in_a_row = in_a_row + 1 if isinstance(found, ZoomPickError) else 0
            if isinstance(found, bytes):
                held.append((key, found))
                done, received = done + 1, received + len(found)
            elif isinstance(found, AnsweredError) and found.status in _ABSENT:
                absent.append((key, found.status))
                in_a_row = 0
            elif isinstance(found, CancelledError):
                raise found
            else:
                failed.append((key, found))
            if in_a_row >= _MOST_FAILURES:
                give_up.set()
            if len(held) >= _AT_ONCE or (held and time.monotonic() - kept_at > _KEPT_EVERY_S):
                store.put(plan.level, rows, held)
                held.clear()
                kept_at = time.monotonic()
            report(Advanced(TASK, 1))
    finally:
        store.put(plan.level, rows, held)
        store.mark_absent(plan.level, rows, absent)
    return TileOutcome(done, received, len(absent), tuple(failed))


def _drain(came: queue.Queue[tuple[TileKey, bytes | ZoomPickError] | None]) -> None:
    """Let workers that wait to put something end."""
    try:
        while True:
            came.get_nowait()
    except queue.Empty:
        return


def failure_of(outcome: TileOutcome, plan: TilePlan) -> SourceError | None:
    """The error for tiles that may come another time, or None."""
    if not outcome.failed:
        if plan.fetch and not plan.here and outcome.absent == len(plan.fetch):
            return SourceError(
                f"The service has none of the {len(plan.fetch)} tiles of level {plan.matrix.name} over this area.",
                "Choose a coarser level: 'zoompick tiles plan' lists them.",
            )
        return None
    _, error = outcome.failed[0]
    missing = len(plan.fetch) - outcome.done - outcome.absent
    return SourceError(f"{missing} of {len(plan.fetch)} tiles did not come: {error.what}", error.todo)
