"""The only door to Dask distributed: its workers as an executor for the block engine.

Workers open rasters by their address, compute, halve and encode; what comes back are encoded blocks and the topmost
overview tiles at half their resolution. Work goes out and results come back as bytes that are counted.
"""

from __future__ import annotations

import logging
import pickle
import re
import socket
import threading
import weakref
from collections.abc import Callable, Iterator
from concurrent.futures import CancelledError, Executor, Future
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from zoompick.errors import ClusterError, MissingFileError, UsageError, ZoomPickError
from zoompick.later import later
from zoompick.versions import differing, version_here, versions

if TYPE_CHECKING:
    import distributed
else:
    distributed = later("distributed")

_PATIENCE_S, _RETRIES = 10, 3
_LOCAL = re.compile(r"local(?::(\d+))?")
_SHARED = "Workers need the same path: put files where all of them reach them, or give an address."


@dataclass
class Traffic:
    """Bytes between the coordinator and its workers.

    Attributes
    ----------
    jobs : int
    sent, received : int
        Bytes of work that went out, and of results that came back.
    """

    jobs: int = 0
    sent: int = 0
    received: int = 0


@dataclass(frozen=True)
class _Answer:
    """What came of a job: a value, or one of our errors and where it was met."""

    value: Any = None
    error: ZoomPickError | None = None
    host: str = ""


def _run(payload: bytes) -> _Answer:
    """On a worker: unpack a job and do it."""
    version, work, args = pickle.loads(payload)
    if version != version_here():
        told = f"A worker has Zoom Pick {version_here()}, here is {version}."
        other = ClusterError(told, "Install the same on all.")
        return _Answer(error=other, host=socket.gethostname())
    try:
        return _Answer(work(*args))
    except ZoomPickError as error:
        return _Answer(error=error, host=socket.gethostname())


def _size(value: object) -> int:
    """Bytes of a value as it travels: those of arrays beside those of what holds them (PEP 574)."""
    arrays: list[int] = []
    head = pickle.dumps(value, pickle.HIGHEST_PROTOCOL, buffer_callback=lambda one: arrays.append(one.raw().nbytes))
    return len(head) + sum(arrays)


class Cluster(Executor):
    """Workers of a Dask cluster as an executor after :mod:`concurrent.futures`.

    A job whose worker is lost is done by another.

    Attributes
    ----------
    address : str
        As it was asked for.
    workers : int
        Of the cluster.
    traffic : Traffic
    """

    def __init__(self, client: Any, address: str) -> None:
        self.address = address
        self.traffic = Traffic()
        threads = client.nthreads()
        self.workers = len(threads)
        self._max_workers = sum(threads.values())
        self._inner = client.get_executor(pure=False, retries=_RETRIES)
        self._lock = threading.Lock()

    def submit(self, work: Callable[..., Any], /, *args: Any, **named: Any) -> Future[Any]:
        """Hand a job over; its future raises our errors."""
        if named:
            raise TypeError("jobs are called by place")
        payload = pickle.dumps((version_here(), work, args), pickle.HIGHEST_PROTOCOL)
        outer: Future[Any] = Future()
        try:
            inner = self._inner.submit(_run, payload)
        except (RuntimeError, OSError, ValueError) as error:
            raise self._lost(error) from error
        with self._lock:
            self.traffic.jobs += 1
            self.traffic.sent += len(payload)
        # Weakly, for each would keep the other, and with it a result of megabytes, until somebody looks for circles.
        waiting = weakref.ref(outer)
        inner.add_done_callback(lambda done: self._pass_on(done, waiting()))
        outer.add_done_callback(lambda ours: inner.cancel() if ours.cancelled() else None)
        return outer

    def _pass_on(self, inner: Future[_Answer], outer: Future[Any] | None) -> None:
        if outer is None or not outer.set_running_or_notify_cancel():
            return
        try:
            answer = inner.result()
        except (Exception, CancelledError) as error:  # noqa: BLE001
            is_theirs = isinstance(error, CancelledError) or type(error).__module__.startswith("distributed")
            outer.set_exception(self._lost(error) if is_theirs else error)
            return
        with self._lock:
            self.traffic.received += _size(answer.value)
        if answer.error is None:
            outer.set_result(answer.value)
            return
        told = answer.error
        told.what = f"On the worker {answer.host}: {told.what}"
        told.todo = _SHARED if isinstance(told, MissingFileError) else told.todo
        outer.set_exception(told)

    def _lost(self, error: BaseException) -> ClusterError:
        name = type(error).__name__
        if name == "KilledWorker":
            return ClusterError(
                f"Workers of {self.address} were lost {_RETRIES + 1} times over one piece of work.",
                "Mostly they lack memory: give them more, or fewer threads. The same command goes on from here.",
            )
        why = "" if isinstance(error, CancelledError) else f" ({name})"
        return ClusterError(
            f"The cluster at {self.address} does not answer any more{why}.",
            "What was made stays; start it again, and the same command goes on from here.",
        )


@contextmanager
def on_cluster(address: str) -> Iterator[Cluster]:
    """Connect to a cluster; ``local:2`` starts one of two workers on this machine for as long as the block lasts.

    Raises
    ------
    UsageError
        Dask is not installed, or the address cannot be used.
    ClusterError
        Nobody answers, no worker is there, or one has other versions.
    """
    try:
        distributed.Client  # noqa: B018
    except ImportError as error:
        raise UsageError(
            f"Clusters need Dask, which is not here: {error}.", "pip install 'zoompick[cluster]'."
        ) from error
    for name in ("", ".client", ".nanny", ".scheduler", ".worker", ".core"):
        logging.getLogger(f"distributed{name}").setLevel(logging.CRITICAL)
    with _client(address) as client:
        _refuse_others(client, address)
        yield Cluster(client, address)


@contextmanager
def _client(address: str) -> Iterator[Any]:
    found = _LOCAL.fullmatch(address.strip())
    if found:
        count = int(found[1] or 0) or None
        with (
            distributed.LocalCluster(
                n_workers=count, threads_per_worker=1, processes=True, dashboard_address=None,
                silence_logs=logging.CRITICAL,
            ) as cluster,
            distributed.Client(
                cluster, timeout=_PATIENCE_S, set_as_default=False, direct_to_workers=True
            ) as client,
        ):  # fmt: skip
            yield client
        return
    if not re.fullmatch(r"(?:(?:tcp|tls|ws|wss)://)?[\w.\-\[\]:]+:\d+", address.strip()):
        raise UsageError(f"'{address}' is no address of a cluster.", "As tcp://HOST:8786, or local:2.")
    try:
        client = distributed.Client(
            address.strip(), timeout=_PATIENCE_S, set_as_default=False, direct_to_workers=True
        )
    except (OSError, ValueError) as error:
        raise ClusterError(
            f"No cluster answers at {address}: {error}.", "Check that its scheduler runs, and the address."
        ) from error
    with client:
        yield client


def _refuse_others(client: Any, address: str) -> None:
    """No workers, or workers whose products could have other bytes."""
    if not client.nthreads():
        raise ClusterError(f"The cluster at {address} has no worker.", "Start workers: 'dask worker ADDRESS'.")
    try:
        told: dict[str, dict[str, str]] = client.run(versions)
    except (ImportError, AttributeError) as error:
        raise ClusterError(
            f"A worker of {address} does not know this program: {error}.",
            "Install the same Zoom Pick on all of them.",
        ) from error
    for worker, known in told.items():
        others = differing(known)
        if others:
            raise ClusterError(
                f"The worker {worker} has other versions: {', '.join(others)}.",
                "Products would not be the same, byte for byte: install the same on all workers.",
            )
