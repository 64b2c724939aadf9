"""The archive's order desk: jobs that prepare scenes on request or for money, spoken as OGC API - Processes.

Source: OGC 18-062r2 (OGC API - Processes, part 1: core), sections 7.9 to 7.14.
"""

from __future__ import annotations

import hashlib
import random
import secrets
import threading
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime
from importlib import resources
from pathlib import Path
from typing import Any

import shapely
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, PlainTextResponse
from starlette.routing import Route

from zoompick.geo.shapes import intersection, polygon_of
from zoompick.geo.sizes import area_km2
from zoompick.standin import stac
from zoompick.standin.accounts import Accounts
from zoompick.standin.instrument import Instrument
from zoompick.standin.store import Store

PROCESS = "prepare"
_EXECUTE = "http://www.opengis.net/def/rel/ogc/1.0/execute"
_RESULTS = "http://www.opengis.net/def/rel/ogc/1.0/results"
_KINDS = {".h5": "application/x-hdf5", ".pdf": "application/pdf"}
_OPEN_STATES = ("accepted", "running")


@dataclass(frozen=True)
class Manners:
    """How the desk behaves.

    Attributes
    ----------
    wait_s, work_s : float
        How long a job waits, and how long it then takes for each scene.
    fails : float
        Share of jobs that fail.
    keeps_s : float
        How long results are kept.
    """

    wait_s: float = 1.0
    work_s: float = 2.0
    fails: float = 0.0
    keeps_s: float = 3600.0


@dataclass
class Job:
    """One order."""

    id: str
    collection: str
    scenes: tuple[str, ...]
    area: Any
    price: float
    begun: float
    will_fail: bool
    reference: str = ""
    dismissed: bool = False
    ready: threading.Event = field(default_factory=threading.Event)
    created: datetime = field(default_factory=lambda: datetime.now(UTC))


class Desk:
    """Takes orders, lets them ripen, gives out what is ready."""

    def __init__(self, store: Store, shelves: Mapping[str, Instrument], accounts: Accounts, manners: Manners) -> None:
        self.store, self.shelves, self.accounts, self.manners = store, shelves, accounts, manners
        self._jobs: dict[str, Job] = {}
        self._lock = threading.Lock()
        self._random = random.Random(77)
        self._workshop = ThreadPoolExecutor(1, "standin-orders")

    # What an order must keep to

    async def submit(self, request: Request) -> JSONResponse:
        """Take an order, or say what is wrong with it."""
        self.accounts.need(request)
        try:
            inputs = (await request.json())["inputs"]
            job = await run_in_threadpool(self._job, inputs)
        except (KeyError, TypeError, ValueError) as error:
            raise HTTPException(400, f"the inputs cannot be read: {error}") from error
        with self._lock:
            self._jobs[job.id] = job
        if not job.will_fail:
            self._workshop.submit(self._work, job)
        return JSONResponse(
            self._status(job, _base(request)), 201, headers={"Location": f"{_base(request)}/jobs/{job.id}"}
        )

    def _job(self, inputs: Mapping[str, Any]) -> Job:
        shelf = self.shelves.get(str(inputs["collection"]))
        if shelf is None or not shelf.order_limits:
            raise HTTPException(400, "nothing is prepared of this collection")
        limits, wanted = shelf.order_limits, tuple(map(str, inputs["items"]))
        scenes = [shelf.by_id(scene) for scene in wanted]
        if None in scenes or not scenes:
            raise HTTPException(400, "an item is not known")
        if len(scenes) > limits.get("scenes_an_order", 99):
            raise HTTPException(400, f"at most {limits['scenes_an_order']} scenes an order")
        if len({scene.facts.get("sheet", scene.id) for scene in scenes}) > limits.get("grid_cells_an_order", 99):
            raise HTTPException(400, f"at most {limits['grid_cells_an_order']} sheets an order")
        if inputs.get("terms") != terms_digest(shelf.name):
            raise HTTPException(
                403, "the terms have not been accepted: send the SHA-256 of their document as 'terms'"
            )
        pending = sum(self._state(job) in _OPEN_STATES for job in self._jobs.values() if job.collection == shelf.name)
        if pending >= limits.get("pending_orders", 99):
            raise HTTPException(409, f"{pending} orders are pending already")
        area = polygon_of(inputs["area"]) if inputs.get("area") else None
        price = _price(scenes, area, limits)
        if price > float(inputs.get("price_max", 0)):
            raise HTTPException(402, f"this costs {price:.2f} crowns, the order allows {inputs.get('price_max', 0)}")
        return Job(
            id=secrets.token_hex(6), collection=shelf.name, scenes=wanted, area=area, price=price,
            begun=time.monotonic(), will_fail=self._random.random() < self.manners.fails,
            reference=str(inputs.get("reference") or ""),
        )  # fmt: skip

    def _work(self, job: Job) -> None:
        """Make all files of a job; until then it is running."""
        for scene in job.scenes:
            if not job.dismissed:
                self._made(job, scene)
        job.ready.set()

    # How it ripens

    def _state(self, job: Job) -> str:
        age = time.monotonic() - job.begun
        done = self.manners.wait_s + self.manners.work_s * len(job.scenes)
        if job.dismissed:
            return "dismissed"
        if age < self.manners.wait_s:
            return "accepted"
        if age < done or not (job.will_fail or job.ready.is_set()):
            return "running"
        return "failed" if job.will_fail else "successful"

    def _has_expired(self, job: Job) -> bool:
        done = self.manners.wait_s + self.manners.work_s * len(job.scenes)
        return time.monotonic() - job.begun > done + self.manners.keeps_s

    def _status(self, job: Job, base: str) -> dict[str, Any]:
        state, age = self._state(job), time.monotonic() - job.begun
        whole = self.manners.work_s * len(job.scenes) or 1
        progress = 100 if state == "successful" else max(0, min(99, round(100 * (age - self.manners.wait_s) / whole)))
        here = f"{base}/jobs/{job.id}"
        links = [stac.link("self", here)] + (
            [stac.link(_RESULTS, f"{here}/results")] if state == "successful" else []
        )
        told = {
            "processID": PROCESS, "type": "process", "jobID": job.id, "status": state, "progress": progress,
            "created": stac.moment(job.created), "links": links,
            "message": "the detector's calibration is missing" if state == "failed" else "",
        }  # fmt: skip
        told |= {"reference": job.reference} if job.reference else {}
        return told | ({"ost:price": round(job.price, 2)} if job.price else {})

    # What is asked of it

    def _job_of(self, request: Request) -> Job:
        self.accounts.need(request)
        job = self._jobs.get(request.path_params["job"])
        if job is None:
            raise HTTPException(404, "no such job")
        return job

    async def jobs(self, request: Request) -> JSONResponse:
        """All orders of the account, the newest first."""
        self.accounts.need(request)
        with self._lock:
            jobs = list(self._jobs.values())[::-1]
        return JSONResponse({"jobs": [self._status(job, _base(request)) for job in jobs], "links": []})

    async def status(self, request: Request) -> JSONResponse:
        """How far a job is; deleting it dismisses it."""
        job = self._job_of(request)
        if request.method == "DELETE":
            job.dismissed = True
        return JSONResponse(self._status(job, _base(request)))

    def results(self, request: Request) -> JSONResponse:
        """Links to the files of a job that is done."""
        job = self._job_of(request)
        if self._state(job) != "successful":
            raise HTTPException(404, f"the job is {self._state(job)}")
        if self._has_expired(job):
            raise HTTPException(410, "the results are no longer kept: order again")
        files = []
        for scene in job.scenes:
            path, published = self._made(job, scene)
            files.append(
                {
                    "href": f"{_base(request)}/jobs/{job.id}/files/{path.name}", "rel": "item", "title": scene,
                    "type": _KINDS.get(path.suffix, stac.COG), **published,
                }
            )  # fmt: skip
        return JSONResponse({"files": files})

    def _made(self, job: Job, scene_id: str) -> tuple[Path, dict[str, Any]]:
        shelf = self.shelves[job.collection]
        scene = shelf.by_id(scene_id)
        part = hashlib.sha256(job.area.wkb).hexdigest()[:12] if job.area is not None else "all"

        def write(folder: Path) -> None:
            shelf.prepare(scene, job.area, folder, self.store.cache)

        [(path, published)] = self.store.made(f"{scene_id}+order-{part}", write).values()
        return path, stac.published({path.name: published}, path.name)

    def file(self, request: Request) -> FileResponse:
        """A file of a job."""
        job = self._job_of(request)
        if self._has_expired(job):
            raise HTTPException(410, "the results are no longer kept: order again")
        for scene in job.scenes:
            path, _ = self._made(job, scene)
            if path.name == request.path_params["name"]:
                return FileResponse(path)
        raise HTTPException(404, "no such file")

    async def processes(self, request: Request) -> JSONResponse:
        """What the desk can do."""
        return JSONResponse({"processes": [_about(_base(request))]})

    async def process(self, request: Request) -> JSONResponse:
        """What the one process takes."""
        words = {
            "collection": "string", "items": "array", "area": "object", "terms": "string", "price_max": "number",
            "reference": "string",
        }  # fmt: skip
        inputs = {name: {"title": name, "schema": {"type": kind}} for name, kind in words.items()}
        return JSONResponse(_about(_base(request)) | {"inputs": inputs, "outputs": {}})

    async def terms(self, request: Request) -> PlainTextResponse:
        """The terms of a collection, to be read by people."""
        name = request.path_params["collection"]
        if name not in self.shelves or not self.shelves[name].order_limits:
            raise HTTPException(404, "no terms")
        return PlainTextResponse(terms_of(name))

    def routes(self) -> list[Route]:
        """All endpoints of the desk."""
        return [
            Route("/processes", self.processes),
            Route(f"/processes/{PROCESS}", self.process),
            Route(f"/processes/{PROCESS}/execution", self.submit, methods=["POST"]),
            Route("/jobs", self.jobs),
            Route("/jobs/{job}", self.status, methods=["GET", "DELETE"]),
            Route("/jobs/{job}/results", self.results),
            Route("/jobs/{job}/files/{name}", self.file),
            Route("/terms/{collection}", self.terms),
        ]


def _about(base: str) -> dict[str, Any]:
    """The one process, in short (OGC 18-062r2, section 7.9)."""
    links = [stac.link(_EXECUTE, f"{base}/processes/{PROCESS}/execution")]
    about = {"id": PROCESS, "version": "1.0.0", "title": "Prepare scenes", "jobControlOptions": ["async-execute"]}
    return about | {"links": links}


def _base(request: Request) -> str:
    return str(request.base_url).rstrip("/")


def _price(scenes: Sequence[Any], area: Any, limits: Mapping[str, Any]) -> float:
    """Price of the area's part of each scene."""
    total, all_km2 = 0.0, 0.0
    for scene in scenes:
        km2 = area_km2(scene.footprint if area is None else intersection(area, scene.footprint))
        if km2 > limits.get("largest_area_km2", float("inf")):
            raise HTTPException(400, f"{km2:.1f} km2 are more than {limits['largest_area_km2']} an order")
        if km2 <= 0 or shapely.is_empty(scene.footprint):
            raise HTTPException(400, f"{scene.id} does not touch the area")
        total, all_km2 = total + km2 * scene.facts.get("price_km2", 0.0), all_km2 + km2
    if all_km2 > limits.get("km2_an_order", float("inf")):
        raise HTTPException(400, f"{all_km2:.1f} km2 are more than {limits['km2_an_order']} for all scenes together")
    return total


def terms_of(collection: str) -> str:
    """Text of a collection's terms."""
    text = resources.files("zoompick.standin").joinpath("data/terms.txt").read_text(encoding="utf-8")
    return text.format(collection=collection)


def terms_digest(collection: str) -> str:
    """Hexadecimal SHA-256 of the terms, by which they are accepted."""
    return hashlib.sha256(terms_of(collection).encode()).hexdigest()
