"""The block engine: jobs run on an executor, a few ahead of the consumer, so memory stays bounded by blocks."""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager
from typing import TypeVar

from zoompick import pages, settings

Job = TypeVar("Job")
Result = TypeVar("Result")

AHEAD_PER_WORKER = 4
"""Jobs in flight for each worker: enough that none waits for the writer, few enough to stay small in memory."""


@contextmanager
def executor_of(workers: int = 0) -> Iterator[tuple[Executor, int]]:
    """Threads for blocks and how many jobs to keep in flight; what is queued is dropped when the block is left."""
    count = workers or settings.workers()
    pages.keep_freed()
    pool = ThreadPoolExecutor(max_workers=count, thread_name_prefix="zoompick-block")
    try:
        yield pool, AHEAD_PER_WORKER * count
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def drive(
    executor: Executor,
    jobs: Iterable[Job],
    work: Callable[[Job], Result],
    consume: Callable[[Result], Iterable[Job]],
    in_flight: int,
) -> None:
    """Run every job and all that follow from them.

    Parameters
    ----------
    work : callable
        Runs on the executor.
    consume : callable
        Runs here, in the order of submission; returns further jobs, which go first.
    in_flight : int
        Jobs submitted and not yet consumed, at most.
    """
    first: deque[Job] = deque()
    rest = iter(jobs)
    flying: deque[Future[Result]] = deque()
    try:
        while True:
            while len(flying) < in_flight:
                job = first.popleft() if first else next(rest, None)
                if job is None:
                    break
                flying.append(executor.submit(work, job))
            if not flying:
                return
            first.extend(consume(flying.popleft().result()))
    finally:
        for future in flying:
            future.cancel()


def each(executor: Executor, jobs: Iterable[Job], work: Callable[[Job], Result], in_flight: int) -> Iterator[Result]:
    """Results of independent jobs, in order, with bounded work ahead."""
    flying: deque[Future[Result]] = deque()
    rest = iter(jobs)
    try:
        flying.extend(executor.submit(work, job) for job in itertools.islice(rest, in_flight))
        while flying:
            result = flying.popleft().result()
            flying.extend(executor.submit(work, job) for job in itertools.islice(rest, 1))
            yield result
    finally:
        for future in flying:
            future.cancel()
