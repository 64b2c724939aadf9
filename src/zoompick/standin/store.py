"""Files of scenes in the cache folder: made when first asked for, then kept."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import threading
from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path

from zoompick.standin import lapwing, world
from zoompick.standin.passes import Scene


@dataclass(frozen=True, slots=True)
class Published:
    """Size and digest of a file as the archive publishes them; a planted fault may make the digest wrong."""

    size: int
    sha256: str


class Store:
    """Scenes under one cache folder; safe to use from several threads and processes."""

    def __init__(self, cache: Path) -> None:
        self.cache = cache
        self._root = cache / f"ostrell-{world.SEED}-v{world.VERSION}" / "scenes"
        self._guard = threading.Lock()
        self._locks: defaultdict[str, threading.Lock] = defaultdict(threading.Lock)
        self._known: dict[str, dict[str, Published]] = {}

    def published(self, scene: Scene) -> dict[str, Published] | None:
        """What is known of a scene's files, or None when it has not been made."""
        known = self._known.get(scene.id)
        if known is None:
            try:
                table = json.loads((self._root / scene.id / "published.json").read_text())
            except FileNotFoundError:
                return None
            known = self._known[scene.id] = {name: Published(**entry) for name, entry in table.items()}
        return known

    def file(self, scene: Scene, name: str) -> tuple[Path, Published] | None:
        """A file of a scene, which is made if need be; None when the scene has no such file."""
        with self._guard:
            lock = self._locks[scene.id]
        with lock:
            if self.published(scene) is None:
                self._make(scene)
        known = self.published(scene) or {}
        return (self._root / scene.id / name, known[name]) if name in known else None

    def _make(self, scene: Scene) -> None:
        self._root.mkdir(parents=True, exist_ok=True)
        part = Path(tempfile.mkdtemp(prefix=".scene-", dir=self._root))
        try:
            lapwing.make(scene, part, self.cache)
            table = {}
            for path in sorted(part.iterdir()):
                data = path.read_bytes()
                wrong = scene.fault.wrong_digest and path.name.endswith(f"-{scene.fault.wrong_digest}.tif")
                digest = hashlib.sha256(b"another file" if wrong else data).hexdigest()
                table[path.name] = {"size": len(data), "sha256": digest}
            (part / "published.json").write_text(json.dumps(table, indent=1))
            try:
                part.rename(self._root / scene.id)
            except OSError:
                if not (self._root / scene.id / "published.json").exists():
                    raise
        finally:
            shutil.rmtree(part, ignore_errors=True)
