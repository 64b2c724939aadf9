"""Measured parts of searching and choosing, each a process of its own: ``searching.py NAME URL COUNT``.

``serve FOLDER COUNT`` is the server they ask: a made-up collection of COUNT scenes, and 100 scenes that share one
class layer and one quicklook and answer after 50 ms.
"""

from __future__ import annotations

import json
import random
import resource
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

LATENCY_S, PARALLEL = 0.05, 8
CANDIDATES, PICTURES = 100, 60
WORLD = [-180.0, -60.0, 180.0, 70.0]


def told(seconds: float, **facts: float) -> None:
    """The figures as the last line."""
    print(json.dumps({"seconds": seconds} | facts), flush=True)


def timed(action: Callable[[], Any]) -> None:
    """Run and tell the seconds."""
    began = time.perf_counter()
    action()
    told(time.perf_counter() - began)


def serve(folder: str, count: int) -> None:
    """Two archives: one as it is, one that is slow; their addresses are printed."""
    from zoompick.standin.catalogue import instruments
    from zoompick.standin.serve import archive
    from zoompick.standin.store import Store

    lapwing = instruments()["lapwing-l2"]
    scene = next(s for s in lapwing.scenes() if s.share > 0.99 and 20 < s.seen.cloud_percent < 60)
    store = Store(Path(folder))
    store.file(lapwing, scene, f"{scene.id}-classes.tif")
    with (
        archive(Path(folder), synthetic=count) as quick,
        archive(Path(folder), faults=(f"latency:{LATENCY_S}",)) as slow,
    ):
        print(json.dumps({"quick": quick, "slow": slow, "item": lapwing.item(scene, slow, store)}), flush=True)
        sys.stdin.read()


def pages(given: str, count: int, dates: tuple[str, ...] = ()) -> None:
    """Our search: every item tested, measured against the area, kept for sorting."""
    import shapely

    from zoompick.discovery import find
    from zoompick.discovery.criteria import Criteria
    from zoompick.scenes.period import Period
    from zoompick.scenes.source import Source

    area = shapely.box(*WORLD)
    criteria = Criteria(area, ("synthetic",), tuple(map(Period.parse, dates)))
    began = time.perf_counter()
    found = find.search_all([Source("o", json.loads(given)["quick"])], criteria)
    seconds = time.perf_counter() - began
    if not dates and len(found.entries) != count:
        raise SystemExit(f"{len(found.entries)} of {count} scenes were found")
    told(seconds, peak_mb=resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)


def pages_of_a_tenth(given: str, count: int) -> None:
    """The same over one of the ten years, to see what memory grows with."""
    pages(given, count, ("2020",))


def pages_by_hand(given: str, count: int) -> None:
    """The floor: fetch and parse the same pages one after the other."""
    import urllib3

    pool, seen = urllib3.PoolManager(), 0
    body: Any = {"bbox": WORLD, "collections": ["synthetic"], "limit": 250}
    address = json.loads(given)["quick"] + "/search"
    began = time.perf_counter()
    while body:
        answer = pool.request("POST", address, body=json.dumps(body), headers={"Content-Type": "application/json"})
        page = json.loads(answer.data)
        seen += len(page["features"])
        body = next((link["body"] for link in page["links"] if link["rel"] == "next"), None)
    if seen != count:
        raise SystemExit(f"{seen} of {count} scenes came")
    told(time.perf_counter() - began)


def copies(given: str, count: int) -> list[Any]:
    """Scenes that differ in name only."""
    from zoompick.scenes.scene import Scene

    item = json.loads(given)["item"]
    return [Scene.from_item(item | {"id": f"{item['id']}-{number}"}, "o") for number in range(count)]


def inside(given: str, count: int) -> None:
    """Cloud inside an area for 100 candidates; tells requests and kilobytes of a scene, and the ideal time."""
    import shapely

    from zoompick.discovery import clouds
    from zoompick.net.client import Client

    scenes = copies(given, CANDIDATES)
    middle = scenes[0].footprint.centroid
    area = shapely.box(middle.x - 0.03, middle.y - 0.02, middle.x + 0.03, middle.y + 0.02)
    clouds.look_inside(scenes[:1], area, Client())
    began = time.perf_counter()
    looked = clouds.look_inside(scenes, area, Client())
    seconds = time.perf_counter() - began
    ideal = looked.requests / PARALLEL * LATENCY_S
    told(seconds, ideal=ideal, requests=looked.requests / CANDIDATES, kb=looked.received_bytes / CANDIDATES / 1000)


def inside_bare(given: str, count: int) -> None:
    """What the same server gives at best: one range of each file, eight at a time, nothing done with it."""
    import urllib3

    address = json.loads(given)["item"]["assets"]["classes"]["href"]
    pool = urllib3.PoolManager(maxsize=PARALLEL)

    def one(number: int) -> int:
        return len(pool.request("GET", address, headers={"Range": "bytes=0-16383"}).data)

    def work() -> None:
        with ThreadPoolExecutor(PARALLEL) as threads:
            list(threads.map(one, range(CANDIDATES)))

    timed(work)


def sheet(given: str, count: int) -> None:
    """Our contact sheet of 60 quicklooks with labels and outlines."""
    import numpy as np

    from zoompick.discovery.look import pictures
    from zoompick.figures.sheets import Cell, contact_sheet
    from zoompick.scenes.scenelist import Entry

    scenes = copies(given, PICTURES)

    def work() -> None:
        found = pictures([Entry(scene, 100.0) for scene in scenes], (), None).pictures
        cells = [
            Cell(picture.pixels, picture.crs, picture.bounds, f"{number}  {scene.day}", "cloud 12 %", scene.footprint)
            for number, (scene, picture) in enumerate(zip(scenes, found, strict=True))
        ]
        contact_sheet(cells, None, "Sixty scenes", Path("sheet.png"))

    # What is loaded at the first use of it is not what is measured here.
    contact_sheet([Cell(np.zeros((8, 8, 4), np.uint8), None, None, "", "", None)], None, "", Path("sheet.png"))
    timed(work)


def sheet_floor(given: str, count: int) -> None:
    """The floor: fetch the quicklooks, decode them, encode a page of their pixels."""
    import imagecodecs
    import numpy as np
    import urllib3

    address = json.loads(given)["item"]["assets"]["quicklook"]["href"]
    pool = urllib3.PoolManager(maxsize=PARALLEL)

    def one(number: int) -> Any:
        return imagecodecs.png_decode(pool.request("GET", address).data)

    def work() -> None:
        with ThreadPoolExecutor(PARALLEL) as threads:
            found = list(threads.map(one, range(PICTURES)))
        page = np.vstack([np.hstack(found[row : row + 5]) for row in range(0, PICTURES, 5)])
        Path("floor.png").write_bytes(imagecodecs.png_encode(np.ascontiguousarray(page[:, :, :3])))

    timed(work)


def cover(given: str, count: int) -> None:
    """Covers of an area by up to 500 candidates, beside the greedy choice; tells how often each was cheaper."""
    import shapely

    from zoompick.discovery.cover import CoverOptions, choose_cover, pieces_of
    from zoompick.scenes.scene import Scene

    area, wins, worse, gaps = shapely.box(0, 0, 1, 1), 0, 0, 0
    began = time.perf_counter()
    cases = [(seed, 60) for seed in range(12)] + [(99, 500)]
    for seed, candidates in cases:
        rng = random.Random(seed)
        scenes = []
        for number in range(candidates):
            west, south, side = rng.uniform(-0.3, 0.9), rng.uniform(-0.3, 0.9), rng.uniform(0.3, 0.55)
            box = [
                [west, south],
                [west + side, south],
                [west + side, south + side],
                [west, south + side],
                [west, south],
            ]
            told_of = {"datetime": "2025-01-01T00:00:00Z", "eo:cloud_cover": rng.uniform(0, 40)}
            ground = {"type": "Polygon", "coordinates": [box]}
            item = {"id": f"s{number}", "geometry": ground, "properties": told_of}
            scenes.append(Scene.from_item(item, "o"))
        pieces = pieces_of(area, [scene.footprint for scene in scenes])
        best = choose_cover(area, scenes, CoverOptions(), {}, pieces)
        gaps += best.gap > 1e-6
        other = greedy(scenes, pieces)
        wins += best.cost < other - 1e-9
        worse += best.cost > other * (1 + best.gap) + 1e-9
    told(time.perf_counter() - began, wins=wins, worse=worse, gaps=gaps, cases=len(cases))


def greedy(scenes: list[Any], pieces: list[Any]) -> float:
    """Cost of taking, again and again, the scene that covers most new ground for its cost."""
    from zoompick.discovery.cover import CoverOptions

    wish = CoverOptions()
    cost = [wish.scene_cost + wish.cloud_cost * scene.cloud_percent for scene in scenes]
    left, total = {n for n, piece in enumerate(pieces) if piece.scenes}, 0.0
    while left:
        gain = {}
        for n in left:
            for scene in pieces[n].scenes:
                gain[scene] = gain.get(scene, 0.0) + pieces[n].size_km2
        chosen = max(gain, key=lambda scene: gain[scene] / cost[scene])
        total += cost[chosen]
        left -= {n for n in left if chosen in pieces[n].scenes}
    return total


if __name__ == "__main__":
    name, where, number = sys.argv[1:4]
    globals()[name](where, int(number))
