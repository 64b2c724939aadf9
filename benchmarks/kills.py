"""Commands killed at random moments, and given again until they end: is anything lost, different, or bought twice?

    python benchmarks/kills.py [--kills 300] [--seed 1] [--only run,mosaic]

Each command works in a copy of one small study against the simulated archive. What it leaves after any number of
kills must be what it leaves undisturbed, byte for byte; of orders the archive's own list tells how often each was
taken.
"""

from __future__ import annotations

import argparse
import base64
import hashlib
import json
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from zoompick.standin.serve import archive

PROGRAM = [sys.executable, "-m", "zoompick"]
FEN = ["--area", "38.615S 12.055W", "--around", "900m"]
SHOP = ["--box", "-12.0560", "-38.6110", "-12.0545", "-38.6100"]
LOGIN = "visitor:ostrell"
MOST_TRIES = 6


@dataclass
class Trial:
    """A command, where it works, and what it leaves.

    Attributes
    ----------
    words : callable
        The command, in a folder.
    template : Path
        Copied for each round.
    left : callable
        What is there at the end, to be compared.
    """

    name: str
    words: Callable[[Path], list[str]]
    template: Path
    left: Callable[[Path], object]
    own: dict[str, str]
    wanted: object = None
    seconds: float = 0.0
    counts: dict[str, int] = field(default_factory=lambda: {"kills": 0, "lost": 0, "different": 0})

    def fresh(self, folder: Path) -> Path:
        """A copy to work in."""
        target = folder / self.name
        shutil.rmtree(target, ignore_errors=True)
        shutil.copytree(self.template, target)
        return target

    def refer(self, folder: Path) -> None:
        """Undisturbed, once."""
        target, began = self.fresh(folder), time.monotonic()
        done = subprocess.run(self.words(target), cwd=target, env=self.own, capture_output=True, text=True)
        if done.returncode:
            raise SystemExit(f"{self.name}: {done.stderr}")
        self.seconds, self.wanted = time.monotonic() - began, self.left(target)

    def once(self, folder: Path, rng: random.Random) -> None:
        """Begin, kill, and give the command again until it ends."""
        target = self.fresh(folder)
        process = subprocess.Popen(self.words(target), cwd=target, env=self.own, stdout=subprocess.DEVNULL,
                                   stderr=subprocess.DEVNULL, start_new_session=True)  # fmt: skip
        try:
            process.wait(rng.uniform(0.25, 1.05) * self.seconds)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            self.counts["kills"] += 1
        for _ in range(MOST_TRIES):
            _later(target)
            done = subprocess.run(self.words(target), cwd=target, env=self.own, capture_output=True, text=True)
            if "Traceback" in done.stderr:
                print(done.stderr)
                self.counts["different"] += 1
            if done.returncode == 0:
                break
        else:
            self.counts["lost"] += 1
            print(f"{self.name}: {done.stderr}")
            return
        found = self.left(target)
        if found != self.wanted:
            self.counts["different"] += 1
            print(f"{self.name}: {str(found)[:300]} for {str(self.wanted)[:300]}")


def _later(folder: Path) -> None:
    """Let what an order waits for, a minute in which the source's list may lack it, be over."""
    path = folder / "orders.json"
    if path.exists():
        path.write_text(re.sub(r'"submitted": "20\d\d-', '"submitted": "2025-', path.read_text()))


def _digests(*patterns: str) -> Callable[[Path], object]:
    """Digests of files, and that nothing unfinished is left."""

    def left(folder: Path) -> object:
        found = {str(path.relative_to(folder)): hashlib.sha256(path.read_bytes()).hexdigest()
                 for pattern in patterns for path in sorted(folder.glob(pattern))}  # fmt: skip
        unfinished = [path.name for path in folder.rglob(".*") if path.name.endswith((".part", ".partial"))]
        return found, unfinished

    return left


def _tiles(folder: Path) -> object:
    """Every tile of a store."""
    with sqlite3.connect(folder / "t.mbtiles") as base:
        rows = base.execute(
            "SELECT zoom_level, tile_column, tile_row, tile_data FROM tiles ORDER BY 1, 2, 3"
        ).fetchall()
    return len(rows), hashlib.sha256(repr(rows).encode()).hexdigest()


def _lock(folder: Path) -> object:
    return json.loads((folder / "study.lock.json").read_text())


class Shop:
    """The archive's own list of orders."""

    def __init__(self, url: str) -> None:
        self.url, self.known = url, set[str]()
        self.twice = 0

    def jobs(self) -> set[str]:
        """Ids of all orders that it took."""
        key = base64.b64encode(LOGIN.encode()).decode()
        request = urllib.request.Request(f"{self.url}/jobs", headers={"Authorization": f"Basic {key}"})
        with urllib.request.urlopen(request) as answer:
            return {job["jobID"] for job in json.load(answer)["jobs"]}

    def left(self, folder: Path) -> object:
        """How many orders were taken since the last time."""
        now = self.jobs()
        new, self.known = now - self.known, now
        self.twice += max(0, len(new) - 1)
        return len(new)


def trials(url: str, folder: Path, own: dict[str, str]) -> tuple[list[Trial], Shop]:
    """All commands, each with a study to work in."""

    def run(*words: str, cwd: Path, stdin: str = "") -> str:
        done = subprocess.run([*PROGRAM, *words], cwd=cwd, env=own, input=stdin, capture_output=True, text=True)
        if done.returncode:
            raise SystemExit(f"{' '.join(words)}: {done.stderr}")
        return done.stdout + done.stderr

    run("source", "add", "ostrell", url, cwd=folder)
    run("source", "add", "maps", f"{url}/tiles/natural/tilejson.json", "--kind", "tiles", cwd=folder)
    asked = ["--source", "ostrell", "--collection", "lapwing-l2", "--dates", "2025-12", "--cloud", "20"]
    new, picked, made, shop = (folder / name for name in ("new", "picked", "made", "shop"))
    run("new", str(new), *FEN, *asked, cwd=folder)
    shutil.copytree(new, picked)
    run("search", cwd=picked)
    run("pick", "--cover", cwd=picked)
    shutil.copytree(new, made)
    run("run", cwd=made)
    (new / "two.geojson").write_text(json.dumps({"type": "FeatureCollection", "features": [
        {"type": "Feature", "properties": {"code": name}, "geometry": {"type": "Polygon", "coordinates": [
            [[w, -38.615], [w + 0.005, -38.615], [w + 0.005, -38.61], [w, -38.61], [w, -38.615]]]}}
        for name, w in (("a", -12.06), ("b", -12.05))]}))  # fmt: skip
    wish = ["--source", "ostrell", "--collection", "gannet-vhr", "--dates", "2025-11/2025-12", "--cloud", "100"]
    run("new", str(shop), *SHOP, *wish, cwd=folder)
    run("search", cwd=shop)
    run("pick", "1", cwd=shop)
    run("source", "login", "ostrell", "--user", "visitor", cwd=folder, stdin="ostrell\n")
    digest = re.search(r"--accept-terms (\w+)", run("order", "ask", cwd=shop))[1]
    run("order", "ask", "--accept-terms", digest, cwd=shop)
    desk = Shop(url)
    desk.known = desk.jobs()
    products = "products/**/*.tif"

    def words(*given: str) -> Callable[[Path], list[str]]:
        return lambda target: [*PROGRAM, *given]

    def mosaic(target: Path) -> list[str]:
        files = sorted(map(str, target.glob("scenes/*/*/*/*-red.tif")))
        return [*PROGRAM, "mosaic", *files, "--out", "m.tif", "--overwrite"]

    tiles = [*FEN, "--source", "maps", "--zoom", "14", "--store", "t.mbtiles"]
    each = ["--each", "two.geojson", "--name", "code"]
    return [
        Trial("run", words("run"), new, _digests(products), own),
        Trial("download", words("download", "--bands", "red,nir,green"), picked, _digests("scenes/**/*.tif"), own),
        Trial("tiles-get", words("tiles", "get", *tiles), new, _tiles, own),
        Trial("mosaic", mosaic, made, _digests("m.tif"), own),
        Trial("order-submit", words("order", "submit", "--accept-price", "999 crowns"), shop, desk.left, own),
        Trial("lock", words("lock"), made, _lock, own),
        Trial("run-each", words("run", *each), new, _digests(f"each/*/{products}"), own),
    ], desk  # fmt: skip


def main() -> None:
    """Round after round, and a table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kills", type=int, default=300)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="")
    given = parser.parse_args()
    rng = random.Random(given.seed)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        own = os.environ | {"ZOOMPICK_CONFIG": str(folder / "config"), "ZOOMPICK_CACHE": str(folder / "cache")}
        with archive(folder / "cache") as url:
            chosen, desk = trials(url, folder, own)
            names = given.only.split(",") if given.only else [trial.name for trial in chosen]
            chosen = [trial for trial in chosen if trial.name in names]
            for trial in chosen:
                trial.refer(folder)
            while (killed := sum(trial.counts["kills"] for trial in chosen)) < given.kills:
                trial = min(chosen, key=lambda one: one.counts["kills"])
                trial.once(folder, rng)
                print(f"\r{killed}", end="", file=sys.stderr)
    print("\n| command | kills | lost | different | bought twice |")
    print("|---|---|---|---|---|")
    for trial in chosen:
        twice = desk.twice if trial.name == "order-submit" else 0
        print(f"| {trial.name} | {' | '.join(map(str, trial.counts.values()))} | {twice} |")


if __name__ == "__main__":
    main()
