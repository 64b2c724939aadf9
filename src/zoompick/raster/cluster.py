"""The only door to Dask distributed: its workers as an executor for the block engine.

Workers open rasters by their address, compute, halve and encode; what comes back are encoded blocks and the topmost
overview tiles at half their resolution. Work goes out and results come back as bytes that are counted.
"""

from __future__ import annotations

import logging
import pickle
import re
import socket
import statistics
import threading
import time
import uuid
import weakref
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import CancelledError, Executor, Future
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zoompick import settings
from zoompick.errors import ClusterError, MissingFileError, UsageError, ZoomPickError
from zoompick.events import Noted, Report, ignore
from zoompick.files import human_time
from zoompick.later import distributed
from zoompick.versions import differing, version_here, versions

_PATIENCE_S, _RETRIES = 10, 3
_FIRST_TIMES = 4
"""So many times as long as for others a command waits for the first worker."""
_LOOK_S, _LEAST_SLOW_S, _SLOW_TIMES, _REMEMBERED = 2.0, 30.0, 10, 101
"""A job is slow that takes longer than half a minute and ten times the median of the last hundred."""
_TLS = ("ca_file", "cert", "key")
_LOCAL = re.compile(r"local(?::([1-9]\d*))?")
_ADDRESS = re.compile(r"(?:(?:tcp|tls|ws|wss)://)?[\w.\-\[\]:]+:\d+")
_SHARED = "Workers need the same path: put files where all of them reach them, or give an address."


@dataclass
class Traffic:
    """Bytes between the coordinator and its workers.

    Attributes
    ----------
    jobs : int
    sent, received : int
        Bytes of work that went out, and of results that came back.
    repeated : int
        Jobs that were given to another worker too.
    """

    jobs: int = 0
    repeated: int = 0
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


def _lacking(files: Mapping[str, int]) -> list[str]:
    """On a worker: files that are not there, or of another size."""
    found = []
    for name, size in files.items():
        path = Path(name)
        try:
            is_there = path.stat().st_size == size
        except OSError:
            is_there = False
        found += [] if is_there else [name]
    return found


def _deserted(address: str, waited_s: float) -> ClusterError:
    return ClusterError(
        f"No worker of {address} has been there for {human_time(waited_s)}.",
        "Start workers: 'dask worker ADDRESS'. What was made stays, and the same command goes on from here; the "
        "setting cluster_wait_s says how long is waited.",
    )


def _size(value: object) -> int:
    """Bytes of a value as it travels: those of arrays beside those of what holds them (PEP 574)."""
    arrays: list[int] = []
    head = pickle.dumps(value, pickle.HIGHEST_PROTOCOL, buffer_callback=lambda one: arrays.append(one.raw().nbytes))
    return len(head) + sum(arrays)


@dataclass(eq=False)
class _Flight:
    """A job on its way.

    Attributes
    ----------
    outer : weakref
        The future that was given out. Weakly, for each would keep the other, and with it a result of megabytes, until
        somebody looks for circles.
    copies : list of Future
        Its own and, where its worker is slow, that of another worker; emptied when one has answered.
    key : str
        By which the scheduler knows it.
    """

    payload: bytes
    key: str
    is_repeatable: bool
    outer: weakref.ref[Future[Any]]
    began: float = field(default_factory=time.monotonic)
    copies: list[Future[_Answer]] = field(default_factory=list)
    is_done: bool = False


class Cluster(Executor):
    """Workers of a Dask cluster as an executor after :mod:`concurrent.futures`.

    A job whose worker is lost is done by another. One that takes many times as long as most do is given to another
    worker too, and the first answer counts: jobs are pure, so that both would be the same.

    Attributes
    ----------
    address : str
        As it was asked for.
    workers : int
        Of the cluster.
    traffic : Traffic
    """

    def __init__(self, client: Any, address: str, report: Report = ignore) -> None:
        self.address = address
        self._report = report
        self._alone_since: float | None = None
        self.traffic = Traffic()
        threads = client.nthreads()
        self.workers = len(threads)
        self._max_workers = sum(threads.values())
        self._client = client
        self._inner = client.get_executor(pure=False, retries=_RETRIES)
        self._lock = threading.Lock()
        self._flights: set[_Flight] = set()
        self._took: deque[float] = deque(maxlen=_REMEMBERED)
        self._unwanted: deque[Future[_Answer]] = deque()
        self._ended = threading.Event()
        threading.Thread(target=self._watch, name="zoompick-slow", daemon=True).start()

    def close(self) -> None:
        """Watch no longer."""
        self._ended.set()

    @property
    def unrepeated(self) -> Executor:
        """The same workers, for jobs that must not be done twice at once."""
        return _Unrepeated(self)

    def submit(self, work: Callable[..., Any], /, *args: Any, **named: Any) -> Future[Any]:
        """Hand a job over; its future raises our errors."""
        if named:
            raise TypeError("jobs are called by place")
        return self.send(work, args, True)

    def send(self, work: Callable[..., Any], args: tuple[Any, ...], is_repeatable: bool) -> Future[Any]:
        """The same; only what is repeatable is given to another worker when its own is slow."""
        payload = pickle.dumps((version_here(), work, args), pickle.HIGHEST_PROTOCOL)
        outer: Future[Any] = Future()
        flight = _Flight(payload, f"zoompick-{uuid.uuid4().hex}", is_repeatable, weakref.ref(outer))
        with self._lock:
            self._flights.add(flight)
            self.traffic.jobs += 1
        try:
            self._copy(flight)
        except ClusterError:
            self._dropped(flight)
            raise
        outer.add_done_callback(lambda ours: self._dropped(flight) if ours.cancelled() else None)
        return outer

    def _copy(self, flight: _Flight, **where: Any) -> None:
        """Send a job out."""
        key = f"{flight.key}-{len(flight.copies)}"
        try:
            inner = self._inner.submit(_run, flight.payload, key=key, **where)
        except (RuntimeError, OSError, ValueError) as error:
            raise self._lost(error) from error
        with self._lock:
            if not flight.is_done:
                flight.copies.append(inner)
            self.traffic.sent += len(flight.payload)
        inner.add_done_callback(lambda done: self._pass_on(flight, done))

    def _dropped(self, flight: _Flight) -> None:
        """Nobody waits for a job any more."""
        with self._lock:
            self._flights.discard(flight)
            copies, flight.copies, flight.is_done = flight.copies, [], True
        for copy in copies:
            copy.cancel()

    def _watch(self) -> None:
        """Now and then look for jobs that take far too long, and whether anybody is there to do them."""
        while not self._ended.wait(_LOOK_S):
            # What goes wrong here is met again, and told, where a job is waited for.
            with suppress(Exception):
                self._look_for_workers()
            while self._unwanted:
                self._unwanted.popleft().cancel()
            with self._lock:
                usual = statistics.median(self._took) if self._took else None
                limit = max(_LEAST_SLOW_S, _SLOW_TIMES * usual) if usual is not None else None
                now = time.monotonic()
                slow = [one for one in self._flights if limit is not None and one.is_repeatable
                        and len(one.copies) == 1 and now - one.began > limit]  # fmt: skip
            for flight in slow:
                # What goes wrong here is met again, and told, where the job itself is waited for.
                with suppress(Exception):
                    self._elsewhere(flight)

    def _look_for_workers(self) -> None:
        """Give up all jobs when nobody has been there for them as long as the setting says."""
        if self._client.nthreads():
            self._alone_since = None
            return
        most, now = settings.number("cluster_wait_s"), time.monotonic()
        with self._lock:
            flights = list(self._flights)
        if self._alone_since is None and flights:
            self._alone_since = now
            told = f"All workers of {self.address} have left: at most {human_time(most)} are waited for others."
            self._report(Noted(told))
        if self._alone_since is None or now - self._alone_since < most:
            return
        for flight in flights:
            self._dropped(flight)
            outer = flight.outer()
            if outer is not None and outer.set_running_or_notify_cancel():
                outer.set_exception(_deserted(self.address, most))

    def refuse_missing(self, files: Mapping[str, int]) -> None:
        """Ask all workers for some files before the first job.

        Parameters
        ----------
        files : mapping
            Sizes by path.

        Raises
        ------
        ClusterError
            Names the worker that does not see one, or another.
        """
        told: dict[str, list[str]] = self._client.run(_lacking, dict(files)) if files else {}
        for worker, missing in told.items():
            if missing:
                more = f" and {len(missing) - 1} more" if len(missing) > 1 else ""
                raise ClusterError(f"The worker {worker} does not see {missing[0]}{more} as it is here.", _SHARED)

    def _elsewhere(self, flight: _Flight) -> None:
        """Give a job to a worker that does not have it."""
        own = f"{flight.key}-0"
        having = {worker for worker, keys in self._client.processing().items() if own in keys}
        others = [worker for worker in self._client.nthreads() if worker not in having]
        if having and others and not flight.is_done:
            self._copy(flight, workers=others, allow_other_workers=False)
            with self._lock:
                self.traffic.repeated += 1

    def _pass_on(self, flight: _Flight, inner: Future[_Answer]) -> None:
        try:
            answer, lost = inner.result(), None
        except (Exception, CancelledError) as error:  # noqa: BLE001
            answer, lost = _Answer(), error
        with self._lock:
            if flight.is_done or (
                lost is not None and any(one is not inner and not one.done() for one in flight.copies)
            ):
                return
            flight.is_done = True
            self._flights.discard(flight)
            others, flight.copies = [one for one in flight.copies if one is not inner], []
            self._took.append(time.monotonic() - flight.began)
        # Not from here: this runs in the loop that would have to carry it out.
        self._unwanted.extend(others)
        outer = flight.outer()
        if outer is not None and outer.set_running_or_notify_cancel():
            self._answer(outer, answer, lost)

    def _answer(self, outer: Future[Any], answer: _Answer, lost: BaseException | None) -> None:
        if lost is not None:
            is_theirs = isinstance(lost, CancelledError) or type(lost).__module__.startswith("distributed")
            outer.set_exception(self._lost(lost) if is_theirs else lost)
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


class _Unrepeated(Executor):
    """A cluster's workers, for jobs that must not be done twice at once."""

    def __init__(self, cluster: Cluster) -> None:
        self._cluster = cluster
        self._max_workers = cluster._max_workers

    def submit(self, work: Callable[..., Any], /, *args: Any, **named: Any) -> Future[Any]:
        """Hand a job over."""
        if named:
            raise TypeError("jobs are called by place")
        return self._cluster.send(work, args, False)


@contextmanager
def on_cluster(address: str, report: Report = ignore) -> Iterator[Cluster]:
    """Connect to a cluster; ``local:2`` starts one of two workers on this machine for as long as the block lasts.

    A cluster runs what it is sent: it has to be one's own, or behind ``tls://``.

    Parameters
    ----------
    report : callable
        Told when workers are waited for.

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
    address = address.strip()
    refuse_unusable(address)
    with _client(address) as client:
        _await_workers(client, address, report)
        _refuse_others(client, address)
        made = Cluster(client, address, report)
        try:
            yield made
        finally:
            made.close()


def refuse_unusable(address: str) -> None:
    """UsageError for what is no address of a cluster."""
    if not (_LOCAL if address.partition(":")[0] == "local" else _ADDRESS).fullmatch(address):
        raise UsageError(f"'{address}' is no address of a cluster.", "As tcp://HOST:8786, or local:2.")


@contextmanager
def _client(address: str) -> Iterator[Any]:
    found = _LOCAL.fullmatch(address)
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
    if address.startswith("tls://") and not _has_certificates():
        raise UsageError(
            f"{address} wants certificates, and none is told.",
            "Set DASK_DISTRIBUTED__COMM__TLS__CA_FILE, and …__TLS__CLIENT__CERT and …__CLIENT__KEY: docs/scaling.md.",
        )
    try:
        client = distributed.Client(address, timeout=_PATIENCE_S, set_as_default=False, direct_to_workers=True)
    except (OSError, ValueError, TypeError) as error:
        raise ClusterError(
            f"No cluster answers at {address}: {error}.", "Check that its scheduler runs, and the address."
        ) from error
    with client:
        yield client


def _has_certificates() -> bool:
    """Whether the cluster's library is told this program's certificate, and whose it trusts."""
    told = distributed.Security().get_tls_config_for_role("client")
    return all(told.get(name) for name in _TLS)


def _await_workers(client: Any, address: str, report: Report) -> None:
    """Wait for the first worker, which may still be starting.

    Raises
    ------
    ClusterError
        None came.
    """
    most = _FIRST_TIMES * settings.number("cluster_wait_s")
    until, is_told = time.monotonic() + most, False
    while not client.nthreads():
        if time.monotonic() >= until:
            raise _deserted(address, most)
        if not is_told:
            report(Noted(f"The cluster at {address} has no worker yet: at most {human_time(most)} are waited."))
            is_told = True
        time.sleep(min(_LOOK_S, max(0.05, until - time.monotonic())))


def _refuse_others(client: Any, address: str) -> None:
    """Workers whose products could have other bytes."""
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
