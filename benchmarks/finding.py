"""Measured parts of finding: a footprint index of many scenes, and choosing covers. ``finding.py NAME FOLDER COUNT``.

Floors use the same rows and the same questions with the standard library and Shapely alone.
"""

from __future__ import annotations

import json
import random
import sqlite3
import struct
import sys
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

QUERIES = 200
FIRST = datetime(2015, 1, 1, tzinfo=UTC).timestamp()
SPAN_S = 10 * 365 * 86400


def items(count: int) -> Iterator[dict[str, Any]]:
    """Scenes of a tenth of a degree all over the globe, slanting a little, over ten years."""
    rng = random.Random(5)
    for number in range(count):
        west, south = rng.uniform(-179, 178), rng.uniform(-80, 79)
        lean, side = rng.uniform(0, 0.03), 0.1
        ring = [[west + lean, south], [west + side + lean, south + 0.01], [west + side, south + side],
                [west, south + side - 0.01], [west + lean, south]]  # fmt: skip
        when = datetime.fromtimestamp(FIRST + rng.random() * SPAN_S, UTC)
        cloud = round(rng.uniform(0, 100), 1)
        yield {
            "id": f"scene-{number:08d}",
            "collection": "many",
            "geometry": {"type": "Polygon", "coordinates": [ring]},
            "properties": {"datetime": when.strftime("%Y-%m-%dT%H:%M:%SZ"), "eo:cloud_cover": cloud},
        }


def questions() -> Iterator[tuple[float, float, float, float, int, int, float]]:
    """Boxes of two degrees, a year each, cloud up to 20 %."""
    rng = random.Random(9)
    for _ in range(QUERIES):
        west, south = rng.uniform(-175, 170), rng.uniform(-75, 70)
        begins = int(FIRST + rng.random() * (SPAN_S - 366 * 86400))
        yield west, south, west + 2, south + 2, begins, begins + 365 * 86400, 20.0


def told(seconds: float, **facts: float | str) -> None:
    """The figures as the last line."""
    print(json.dumps({"seconds": seconds} | facts))


def build(folder: Path, count: int) -> None:
    """Our index of the items."""
    from zoompick.discovery import index

    given = list(items(count))
    target = folder / "ours.sqlite"
    target.unlink(missing_ok=True)
    began = time.perf_counter()
    index.build(target, given)
    told(time.perf_counter() - began, size_mb=target.stat().st_size / 1e6)


def build_bare(folder: Path, count: int) -> None:
    """The floor: the same columns into the same tables, in the order they come."""
    rows = []
    for item in items(count):
        ring = item["geometry"]["coordinates"][0]
        xs, ys = [c[0] for c in ring], [c[1] for c in ring]
        moment = int(datetime.fromisoformat(item["properties"]["datetime"]).timestamp())
        ground = struct.pack("<10i", *(round(v * 1e7) for c in ring for v in c))
        rows.append(
            (item["id"], moment, item["properties"]["eo:cloud_cover"], ground, min(xs), max(xs), min(ys), max(ys))
        )
    target = folder / "bare.sqlite"
    target.unlink(missing_ok=True)
    began = time.perf_counter()
    database = sqlite3.connect(target, isolation_level=None)
    database.executescript(
        "PRAGMA page_size = 8192; PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF;"
        "CREATE TABLE scene (row INTEGER PRIMARY KEY, id TEXT, moment INTEGER, cloud REAL, ground BLOB);"
        "CREATE VIRTUAL TABLE place USING rtree(row, west, east, south, north, begins, ends);"
    )
    database.execute("BEGIN")
    database.executemany("INSERT INTO scene VALUES (?, ?, ?, ?, ?)", ((n, *r[:4]) for n, r in enumerate(rows)))
    database.executemany(
        "INSERT INTO place VALUES (?, ?, ?, ?, ?, ?, ?)", ((n, *r[4:], r[1], r[1]) for n, r in enumerate(rows))
    )
    database.execute("COMMIT")
    told(time.perf_counter() - began)


def query(folder: Path, count: int) -> None:
    """Our warm queries, exact polygon test and cloud filter included."""
    import shapely

    from zoompick.discovery.criteria import Criteria
    from zoompick.discovery.index import FootprintIndex
    from zoompick.geo.bounds import Bounds
    from zoompick.scenes.scene import Scene

    found = FootprintIndex(folder / "ours.sqlite")

    def ask() -> int:
        hits = 0
        for west, south, east, north, begins, ends, cloud in questions():
            area = shapely.box(west, south, east, north)
            criteria = Criteria(area, cloud_max=cloud)
            for item in found.items([Bounds(west, south, east, north)], begins, ends, cloud):
                scene = Scene.from_item(item)
                hits += criteria.fits(scene) and bool(shapely.intersects(area, scene.footprint))
        return hits

    ask()
    began = time.perf_counter()
    hits = ask()
    told(time.perf_counter() - began, hits=hits)


def as_source(folder: Path, count: int) -> None:
    """Put our index where a small footprint file's own would lie, so that a command finds it."""
    import shutil

    from zoompick.discovery import index

    file = folder / "many.geojson"
    file.write_text(json.dumps({"type": "FeatureCollection", "features": list(items(3))}))
    target = index.file_for(file)
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(folder / "ours.sqlite", target)
    told(0.0, file=str(file))


def query_bare(folder: Path, count: int) -> None:
    """The floor: the tree's answer and the exact polygon test, nothing else."""
    import shapely

    database = sqlite3.connect(folder / "bare.sqlite")
    sql = (
        "SELECT s.ground FROM place p JOIN scene s ON s.row = p.row WHERE p.west <= ? AND p.east >= ? "
        "AND p.south <= ? AND p.north >= ? AND p.ends >= ? AND p.begins <= ? "
        "AND s.moment BETWEEN ? AND ? AND s.cloud <= ?"
    )

    def ask() -> int:
        hits = 0
        for west, south, east, north, begins, ends, cloud in questions():
            area = shapely.box(west, south, east, north)
            limits = (east, west, north, south, begins - 256, ends + 256, begins, ends, cloud)
            for (ground,) in database.execute(sql, limits):
                numbers = struct.unpack("<10i", ground)
                ring = [(numbers[n] / 1e7, numbers[n + 1] / 1e7) for n in range(0, 10, 2)]
                hits += bool(shapely.intersects(area, shapely.Polygon(ring)))
        return hits

    ask()
    began = time.perf_counter()
    hits = ask()
    told(time.perf_counter() - began, hits=hits)


if __name__ == "__main__":
    name, where, number = sys.argv[1:4]
    globals()[name](Path(where), int(number))
