"""Fetch files in parallel, as many at a time as each collection allows; one failure does not stop the others."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from pathlib import Path

from zoompick.errors import DiskError, ZoomPickError
from zoompick.events import Advanced, Event, Finished, Report, Started, ignore
from zoompick.files import human_bytes
from zoompick.net.client import Client
from zoompick.scenes.fetchplan import DownloadPlan, Fetch

TASK, FILES = "download", "files"
_PATIENCE_S = 2.0

One = Callable[[Fetch, Client, Report], int]
"""Fetches one file and gives the bytes that came."""


@dataclass(frozen=True)
class Outcome:
    """What came and what did not, with the reason."""

    done: tuple[Fetch, ...]
    failed: tuple[tuple[Fetch, ZoomPickError], ...]
    received_bytes: int


@dataclass(frozen=True, slots=True)
class Limits:
    """Files at a time: what the collections ask for by name, and what is done where they ask nothing."""

    parallel: int
    by_collection: Mapping[str, int]

    def of(self, collection: str) -> int:
        """Files at a time from one collection."""
        return max(1, min(self.parallel, self.by_collection.get(collection, self.parallel)))


def download(
    plan: DownloadPlan,
    client: Client,
    one: One,
    limits: Limits,
    report: Report = ignore,
) -> Outcome:
    """Fetch everything in ``plan.fetch``.

    The session is stopped at the end, however that comes.

    Raises
    ------
    DiskError
        Not enough room for what is announced; nothing is fetched.
    """
    check_room(plan)
    report(Started(FILES, len(plan.fetch), "files"))
    report(Started(TASK, plan.known_bytes if not plan.unknown else 0, "B"))
    told = _summed(report)
    pools = {name: _pool(limits.of(name)) for name in {entry.collection for entry in plan.fetch}}
    flying: dict[Future[int], Fetch] = {}
    try:
        flying = {pools[entry.collection].submit(one, entry, client, told): entry for entry in plan.fetch}
        outcome = _gathered(flying, report)
    finally:
        client.stop.set()
        for pool in pools.values():
            pool.shutdown(wait=False, cancel_futures=True)
        # A thread that waits for a silent source cannot be woken: leave it after a while, its file has no name yet.
        wait(flying, timeout=_PATIENCE_S)
    report(Finished(FILES))
    report(Finished(TASK))
    return outcome


def _pool(threads: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max_workers=threads, thread_name_prefix="zoompick-download")


def _gathered(flying: Mapping[Future[int], Fetch], report: Report) -> Outcome:
    done: list[Fetch] = []
    failed: list[tuple[Fetch, ZoomPickError]] = []
    received = 0
    waiting = set(flying)
    while waiting:
        ready, waiting = wait(waiting, return_when=FIRST_COMPLETED)
        for future in ready:
            try:
                received += future.result()
                done.append(flying[future])
            except DiskError:
                raise
            except ZoomPickError as error:
                failed.append((flying[future], error))
            report(Advanced(FILES, 1))
    return Outcome(tuple(done), tuple(failed), received)


def _summed(report: Report) -> Report:
    """Events of single files, their bytes added to those of the whole download."""

    def told(event: Event) -> None:
        report(event)
        if isinstance(event, Advanced):
            report(event._replace(task=TASK))

    return told


def room_for(plan: DownloadPlan) -> tuple[int, Path] | None:
    """Free bytes where the files go, and that folder; None when nothing is to be fetched."""
    if not plan.fetch:
        return None
    folder = plan.fetch[0].path.parent
    while not folder.exists():
        folder = folder.parent
    return shutil.disk_usage(folder).free, folder


def check_room(plan: DownloadPlan) -> None:
    """Refuse a download that cannot end well.

    Raises
    ------
    DiskError
        With the figures.
    """
    room, needed = room_for(plan), plan.known_bytes - plan.under_way_bytes
    if room is not None and needed > room[0]:
        raise DiskError(
            f"The download needs {human_bytes(needed)}, but only {human_bytes(room[0])} are free in {room[1]}.",
            "Free some space, or choose fewer scenes or bands, or `window`. Nothing was fetched.",
        )
