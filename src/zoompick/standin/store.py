"""Files of scenes in the cache folder: made when first asked for, then kept."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import threading
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple, Protocol

from zoompick import cache
from zoompick.standin import world
from zoompick.standin.entry import Entry

_MAKERS = 2
"""Threads that make files, whatever is asked, each of a scene of its own: what its files share is made once.
Never the threads that answer: the allocator keeps some of what each freed, and forty of them would keep gigabytes."""
_TRIM_EVERY = 20


@dataclass(frozen=True, slots=True)
class Published:
    """Size and digest of a file as the archive publishes them; a planted fault may make the digest wrong."""

    size: int
    sha256: str


class _Job(NamedTuple):
    """Files to make, of one scene, and who waits for them."""

    scene: str
    asked: Future[None]
    make: Callable[[], None]


class Maker(Protocol):
    """What is asked of an instrument to have a scene's files."""

    @property
    def groups(self) -> tuple[str, ...]:
        """Files of a scene that are made together."""

    def group_of(self, name: str) -> str:
        """Group that a file belongs to, by its name."""

    def make(self, scene: Any, group: str, folder: Path, cache: Path) -> None:
        """Write a group's files of a scene into ``folder``."""

    def wrong_digest(self, scene: Any) -> str:
        """End of the name of a file whose digest is published wrongly; empty for none."""


class Store:
    """Scenes under one cache folder; safe to use from several threads and processes."""

    def __init__(self, cache: Path) -> None:
        self.cache = cache
        self._root = cache / f"ostrell-{world.SEED}-v{world.VERSION}" / "scenes"
        self._guard = threading.Lock()
        self._locks: defaultdict[str, threading.Lock] = defaultdict(threading.Lock)
        self._waiting: list[_Job] = []
        self._busy: set[str] = set()
        self._turn = threading.Condition()
        self._asked: dict[str, Future[None]] = {}
        self._makers: list[threading.Thread] = []
        self._here = threading.local()
        self._known: dict[str, dict[str, Published]] = {}
        self._made = 0

    def published(self, instrument: Maker, scene: Entry) -> dict[str, Published]:
        """What is known of a scene's files: those that have been made."""
        found: dict[str, Published] = {}
        for group in instrument.groups:
            found |= self._group(_label(scene, group)) or {}
        return found

    def file(self, instrument: Maker, scene: Entry, name: str) -> tuple[Path, Published] | None:
        """A file of a scene, which is made if need be; None when the scene has no such file."""
        group = instrument.group_of(name)

        def write(folder: Path) -> None:
            instrument.make(scene, group, folder, self.cache)

        files = self.made(_label(scene, group), write, instrument.wrong_digest(scene))
        return files.get(name)

    def made(self, label: str, write: Callable[[Path], None], wrong: str = "") -> dict[str, tuple[Path, Published]]:
        """Files under a label by name, written into a new folder if they are not there yet.

        ``wrong`` is the end of the name of a file whose digest is published wrongly.
        """
        if self._group(label) is None:
            if getattr(self._here, "makes", False):
                self._ensure(label, write, wrong)
            else:
                self._ask(label, write, wrong).result()
        known = self._group(label) or {}
        return {name: (self._root / label / name, published) for name, published in known.items()}

    def _ask(self, label: str, write: Callable[[Path], None], wrong: str) -> Future[None]:
        """Hand a scene to the threads that make scenes; who asks for one that is under way waits for the same."""
        with self._guard:
            under_way = self._asked.get(label)
            if under_way is not None and not under_way.done():
                return under_way
            asked = self._asked[label] = Future[None]()
            while len(self._makers) < _MAKERS:
                maker = threading.Thread(target=self._work, daemon=True, name=f"maker {len(self._makers) + 1}")
                self._makers.append(maker)
                maker.start()
        with self._turn:
            self._waiting.append(_Job(label.partition("+")[0], asked, lambda: self._ensure(label, write, wrong)))
            self._turn.notify()
        return asked

    def _work(self) -> None:
        self._here.makes = True
        while True:
            job = self._taken()
            try:
                job.make()
            except Exception as error:  # noqa: BLE001 (whoever asked is told)
                job.asked.set_exception(error)
            else:
                job.asked.set_result(None)
            with self._turn:
                self._busy.discard(job.scene)
                self._turn.notify()
            del job

    def _taken(self) -> _Job:
        """The first job of a scene that no other thread is at."""
        with self._turn:
            while True:
                job = next((job for job in self._waiting if job.scene not in self._busy), None)
                if job is not None:
                    self._waiting.remove(job)
                    self._busy.add(job.scene)
                    return job
                self._turn.wait()

    def _ensure(self, label: str, write: Callable[[Path], None], wrong: str) -> None:
        with self._guard:
            lock = self._locks[label]
        with lock:
            if self._group(label) is None:
                self._make(label, write, wrong)
                self._made += 1
                if self._made % _TRIM_EVERY == 0:
                    cache.trim()

    def _group(self, label: str) -> dict[str, Published] | None:
        known = self._known.get(label)
        if known is None or not (self._root / label).exists():
            try:
                table = json.loads((self._root / label / "published.json").read_text())
            except FileNotFoundError:
                return None
            cache.use(self._root / label)
            known = self._known[label] = {name: Published(**entry) for name, entry in table.items()}
        return known

    def _make(self, label: str, write: Callable[[Path], None], wrong: str) -> None:
        self._root.mkdir(parents=True, exist_ok=True)
        part = Path(tempfile.mkdtemp(prefix=".scene-", dir=self._root))
        target = self._root / label
        try:
            write(part)
            table = {}
            for path in sorted(part.iterdir()):
                data = path.read_bytes()
                is_wrong = bool(wrong) and path.name.endswith(wrong)
                digest = hashlib.sha256(b"another file" if is_wrong else data).hexdigest()
                table[path.name] = {"size": len(data), "sha256": digest}
            (part / "published.json").write_text(json.dumps(table, indent=1))
            try:
                part.rename(target)
            except OSError:
                if not (target / "published.json").exists():
                    raise
        finally:
            shutil.rmtree(part, ignore_errors=True)


def _label(scene: Entry, group: str) -> str:
    """Folder of a group of a scene's files."""
    return f"{scene.id}+{group}" if group else scene.id
