"""The block engine: frozen work goes to a crew of workers, a few jobs ahead of the consumer, so memory stays bounded.

A crew is any executor after :mod:`concurrent.futures`: threads of this process by default, processes, or workers on
other machines. What goes to workers that do not share this process's memory is packed once; each of them unpacks it
once, however many jobs follow.
"""

from __future__ import annotations

import hashlib
import itertools
import pickle
import queue
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

from zoompick import pages, settings

Job = TypeVar("Job")
Result = TypeVar("Result")

AHEAD_PER_WORKER = 4
"""Jobs in flight for each thread: enough that none waits for the writer, few enough to stay small in memory."""
_AHEAD_FAR = 2
"""The same for workers elsewhere, whose jobs are larger."""
_KEPT_PARCELS = 8


@dataclass(frozen=True, slots=True)
class Crew:
    """Who computes blocks.

    Attributes
    ----------
    executor : Executor
    at_once : int
        Jobs in flight, at most.
    is_far : bool
        The workers do not share this process's memory: work and results travel.
    """

    executor: Executor
    at_once: int
    is_far: bool = False

    @classmethod
    def of(cls, executor: Executor, workers: int = 0) -> Crew:
        """A crew on any executor; ``workers`` says how many it has where it does not tell itself."""
        count = workers or getattr(executor, "_max_workers", 0) or settings.workers()
        if isinstance(executor, ThreadPoolExecutor):
            return cls(executor, AHEAD_PER_WORKER * count)
        return cls(executor, _AHEAD_FAR * count, True)

    @property
    def unrepeated(self) -> Crew:
        """The same workers, for jobs that must not be done twice at once, as no block minds."""
        return replace(self, executor=getattr(self.executor, "unrepeated", self.executor))

    def work(self, work: Callable[[Job], Result]) -> Callable[[Job], Result]:
        """``work`` in the form in which this crew takes it."""
        return Parcel.of(work) if self.is_far else work


_elsewhere: ContextVar[Callable[[], Executor] | None] = ContextVar("elsewhere", default=None)


@contextmanager
def computed_on(executor: Executor | Callable[[], Executor]) -> Iterator[None]:
    """All blocks are computed by an executor of :mod:`concurrent.futures`: threads, processes, a cluster.

    Parameters
    ----------
    executor : Executor or callable
        What gives one is asked when the first block is due.
    """
    token = _elsewhere.set((lambda: executor) if isinstance(executor, Executor) else executor)
    try:
        yield
    finally:
        _elsewhere.reset(token)


def elsewhere() -> Executor | None:
    """The executor of :func:`computed_on`; None where blocks are computed here."""
    told = _elsewhere.get()
    return told() if told else None


def refuse_missing(paths: Iterable[Path]) -> None:
    """Ask the workers of :func:`computed_on`, where there are some, for files on disk before the first block is due.

    Raises
    ------
    ClusterError
        Names the worker that lacks one.
    """
    executor = elsewhere()
    asks = getattr(executor, "refuse_missing", None)
    if asks is not None:
        asks({str(path.absolute()): path.stat().st_size for path in paths if path.is_file()})


@contextmanager
def crew_of(executor: Executor | None = None, workers: int = 0) -> Iterator[Crew]:
    """A crew on the caller's executor, or that of :func:`computed_on`; else on threads of our own."""
    chosen = executor or elsewhere()
    if chosen is None:
        with crew_here(workers) as crew:
            yield crew
        return
    pages.keep_freed()
    yield Crew.of(chosen, 0 if executor is None else workers)


@contextmanager
def crew_here(workers: int = 0) -> Iterator[Crew]:
    """A crew of threads of our own, whose queue is dropped when the block is left."""
    pages.keep_freed()
    pool = ThreadPoolExecutor(workers or settings.workers(), thread_name_prefix="zoompick-block")
    try:
        yield Crew.of(pool)
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


@dataclass(frozen=True, slots=True)
class Parcel:
    """A callable packed once, for all jobs that go to workers elsewhere."""

    digest: bytes
    data: bytes

    @classmethod
    def of(cls, work: Callable[..., Any]) -> Parcel:
        """Pack ``work``: an instance of a frozen class or a function of a module, no closure."""
        data = pickle.dumps(work, pickle.HIGHEST_PROTOCOL)
        return cls(hashlib.sha256(data).digest(), data)

    def __call__(self, job: Any) -> Any:
        """Run a job where this is."""
        return _unpacked(self)(job)


@lru_cache(maxsize=_KEPT_PARCELS)
def _unpacked(parcel: Parcel) -> Callable[[Any], Any]:
    pages.keep_freed()
    work: Callable[[Any], Any] = pickle.loads(parcel.data)
    return work


@dataclass(frozen=True, slots=True)
class Call:
    """A job, and by whom it is done."""

    executor: Executor
    work: Callable[[Any], Any]
    job: Any

    def submit(self) -> Future[Any]:
        """Hand it over."""
        return self.executor.submit(self.work, self.job)


def drive(calls: Iterable[Call], consume: Callable[[Any], Iterable[Call]], at_once: int) -> None:
    """Make every call and all that follow from them.

    Parameters
    ----------
    consume : callable
        Runs here, with each result as it comes; returns further calls, which go first.
    at_once : int
        Calls submitted and not yet consumed, at most.
    """
    first: deque[Call] = deque()
    rest = iter(calls)
    done: queue.SimpleQueue[Future[Any]] = queue.SimpleQueue()
    flying: set[Future[Any]] = set()
    try:
        while True:
            while len(flying) < at_once:
                call = first.popleft() if first else next(rest, None)
                if call is None:
                    break
                future = call.submit()
                flying.add(future)
                future.add_done_callback(done.put)
            if not flying:
                return
            came = done.get()
            flying.remove(came)
            first.extend(consume(came.result()))
    finally:
        for future in flying:
            future.cancel()


def each(crew: Crew, jobs: Iterable[Job], work: Callable[[Job], Result]) -> Iterator[Result]:
    """Results of independent jobs, in order, with bounded work ahead."""
    flying: deque[Future[Result]] = deque()
    rest, packed = iter(jobs), crew.work(work)
    try:
        flying.extend(crew.executor.submit(packed, job) for job in itertools.islice(rest, crew.at_once))
        while flying:
            result = flying.popleft().result()
            flying.extend(crew.executor.submit(packed, job) for job in itertools.islice(rest, 1))
            yield result
    finally:
        for future in flying:
            future.cancel()
