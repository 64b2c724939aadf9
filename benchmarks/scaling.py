"""How catalogues grow, and work on a cluster: ``python benchmarks/scaling.py [--side 5490] [--rounds 5]``.

Footprints as GeoParquet from ten thousand to ten million, searched cold by the program; a stack on two workers of one
thread each to the same on two threads of one process, and the bytes between them. Prints Markdown tables.
"""

from __future__ import annotations

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import shapely

QUESTION = ("--box", "10", "40", "12", "42", "--dates", "2019", "--cloud", "20")
COUNTS = (10_000, 100_000, 1_000_000, 10_000_000)
FIRST, SPAN_S = 1_420_070_400, 10 * 365 * 86400
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)


def footprints(path: Path, count: int) -> None:
    """Squares of a tenth of a degree all over the globe, over ten years, along the curve of files written here."""
    import pyarrow
    from pyarrow import parquet

    from zoompick.discovery import geoparquet
    from zoompick.discovery.index import along_curve

    rng = np.random.default_rng(5)
    west, south = rng.uniform(-179, 178, count), rng.uniform(-80, 79, count)
    order = np.array(along_curve(np.stack([west, west + 0.1, south, south + 0.1], axis=1)))  # type: ignore[arg-type]
    west, south = west[order], south[order]
    moment, cloud = FIRST + rng.integers(0, SPAN_S, count), np.round(rng.uniform(0, 100, count), 1)
    schema = geoparquet.schema()
    with parquet.ParquetWriter(path, schema, compression="zstd") as writer:
        for start in range(0, count, geoparquet.ROWS_A_GROUP):
            at = slice(start, min(count, start + geoparquet.ROWS_A_GROUP))
            w, s, when, clouds = west[at], south[at], moment[at], cloud[at]
            numbers = range(at.start, at.stop)
            box = {"xmin": w, "ymin": s, "xmax": w + 0.1, "ymax": s + 0.1}
            times = np.datetime_as_string(when.astype("datetime64[s]"), timezone="UTC")
            told = [f'{{"datetime": "{t}", "eo:cloud_cover": {c}}}' for t, c in zip(times, clouds, strict=True)]
            columns = [
                [f"scene-{number:08d}" for number in numbers], ["many"] * len(w),
                pyarrow.array(when * 1_000_000, pyarrow.timestamp("us", "UTC")), [None] * len(w), clouds, told,
                ["{}"] * len(w),
                pyarrow.StructArray.from_arrays(list(map(pyarrow.array, box.values())), list(box)),
                shapely.to_wkb(shapely.box(w, s, w + 0.1, s + 0.1)),
            ]  # fmt: skip
            arrays = [column if isinstance(column, pyarrow.Array) else pyarrow.array(column, field.type)
                      for column, field in zip(columns, schema, strict=True)]  # fmt: skip
            writer.write_table(pyarrow.Table.from_arrays(arrays, schema=schema))


def searched(folder: Path, name: str) -> tuple[float, float, int]:
    """Seconds, peak megabytes and hits of a search in a process of its own."""
    words = ["search", "--source", name, *QUESTION, "--json"]
    began = time.perf_counter()
    process = subprocess.Popen([sys.executable, "-m", "zoompick", *words], stdout=subprocess.PIPE,
                               stderr=subprocess.DEVNULL, cwd=folder)  # fmt: skip
    assert process.stdout is not None
    out = process.stdout.read()
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - began
    process.returncode = os.waitstatus_to_exitcode(status)
    hits = len(json.loads(out)["features"]) if process.returncode == 0 else 0
    return seconds, usage.ru_maxrss / 1024, hits


def catalogues(folder: Path, rounds: int) -> None:
    """A file of each size, and searches in turn."""
    os.environ["ZOOMPICK_CONFIG"] = str(folder / "config")
    made = {}
    for count in COUNTS:
        path = folder / f"many-{count}.parquet"
        began = time.perf_counter()
        # In a process of its own, for a child's peak memory begins with its parent's.
        subprocess.run([sys.executable, __file__, "--make", str(path), str(count)], check=True)
        made[count] = time.perf_counter() - began, path.stat().st_size / 1e6
        subprocess.run([sys.executable, "-m", "zoompick", "source", "add", f"n{count}", str(path)], check=True,
                       stderr=subprocess.DEVNULL)  # fmt: skip
    found: dict[int, list[tuple[float, float, int]]] = {count: [] for count in COUNTS}
    for _ in range(rounds):
        for count in COUNTS:
            found[count].append(searched(folder, f"n{count}"))
    middle = {count: statistics.median(row[0] for row in rows) for count, rows in found.items()}
    print("\n| footprints | file MB | hits | cold search, to that of 100000 | peak MB | made, s a million |")
    print("|---|---|---|---|---|---|")
    for count, rows in found.items():
        seconds, size = made[count]
        print(f"| {count} | {size:.1f} | {rows[0][2]} | {middle[count] / middle[100_000]:.2f}x | "
              f"{max(row[1] for row in rows):.0f} | {seconds / count * 1e6:.0f} |")  # fmt: skip


def cluster(folder: Path, side: int, rounds: int) -> None:
    """A stack of six bands on threads, and on one and two workers of a thread each."""
    import parts
    from zoompick.raster.cluster import on_cluster
    from zoompick.raster.write import WriteOptions, write_geotiff

    parts.inputs(folder, side)
    raster, out = parts.stacked(folder, side), folder / "stack.tif"

    def run(executor: Any) -> tuple[float, Any]:
        out.unlink(missing_ok=True)
        began = time.perf_counter()
        written = write_geotiff(raster, out, WriteOptions(workers=0 if executor else 2), executor=executor)
        return time.perf_counter() - began, written

    print(
        "\n| workers | time to two threads of one process | bytes came back, to the product | bytes went out | jobs |"
    )
    print("|---|---|---|---|---|")
    for count in (1, 2):
        ratios = []
        with on_cluster(f"local:{count}") as crew:
            run(crew)
            for _ in range(rounds):
                before = crew.traffic.received, crew.traffic.sent, crew.traffic.jobs
                there, written = run(crew)
                here, same = run(None)
                assert written.multihash == same.multihash
                ratios.append(there / here)
                back, out_bytes, jobs = (now - then for now, then in zip(
                    (crew.traffic.received, crew.traffic.sent, crew.traffic.jobs), before, strict=True))  # fmt: skip
        print(f"| {count} | {statistics.median(ratios):.2f}x | {back / written.size:.3f}x | "
              f"{out_bytes / written.size:.5f}x | {jobs} |")  # fmt: skip


def _times() -> float:
    """Processor seconds of a worker's process so far."""
    told = os.times()
    return told.user + told.system


def _costs(folder: Path, side: int, count: int) -> dict[str, float]:
    """What a stack of six bands costs on some workers: processor seconds there and here, bytes, wall time."""
    import parts
    from zoompick.raster.cluster import on_cluster
    from zoompick.raster.write import WriteOptions, write_geotiff

    parts.inputs(folder, side)
    raster, out = parts.stacked(folder, side), folder / "stack.tif"
    with on_cluster(f"local:{count}") as crew:
        client = crew._inner._client
        for _ in range(2):
            out.unlink(missing_ok=True)
            before, own, received = client.run(_times), _times(), crew.traffic.received
            began = time.perf_counter()
            write_geotiff(raster, out, WriteOptions(), executor=crew)
            wall, own = time.perf_counter() - began, _times() - own
            after = client.run(_times)
    mpx = 6 * side * side / 1e6
    there = sum(after[name] - before[name] for name in after)
    back = (crew.traffic.received - received) / 1e6
    return {"there": there / mpx, "here": own / mpx, "bytes": back / mpx, "wall": wall}


def model(folder: Path, side: int, rounds: int) -> None:
    """Costs a Mpx of one band measured on a small stack foretell a larger one; held against measurement."""
    import parts

    pixels = np.ascontiguousarray(parts.patch(1)[: parts.TILE, : parts.TILE])
    packed = parts.encode(pixels)
    began = time.perf_counter()
    for _ in range(40):
        parts.decode(packed)
        parts.encode(pixels)
    codec = (time.perf_counter() - began) / 40 / pixels.size * 1e6
    small = [_costs(folder, side // 2, 2) for _ in range(rounds)]
    there, here, size = (statistics.median(row[key] for row in small) for key in ("there", "here", "bytes"))
    told = there / codec, here / codec, size, there / here
    text = ("\nA Mpx of one band takes workers {:.2f}x and the coordinator {:.2f}x what one decoding and encoding "
          "does, and {:.2f} MB come back. A coordinator is busy with {:.0f} workers of a thread.")  # fmt: skip
    print(text.format(*told))
    print("\n| workers | side px | foretold time to measured |\n|---|---|---|")
    for count in (1, 2):
        real = statistics.median(_costs(folder, side, count)["wall"] for _ in range(rounds))
        mpx = 6 * side * side / 1e6
        # Two cores: a single worker has one to itself; two share theirs with the coordinator.
        foretold = mpx * (there if count == 1 else (there + here) / 2)
        print(f"| {count} | {side} | {foretold / real:.2f}x |")


def main() -> None:
    """Both tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--side", type=int, default=5490)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--only", choices=("catalogues", "cluster", "model"))
    parser.add_argument("--make", nargs=2, metavar=("FILE", "COUNT"), help=argparse.SUPPRESS)
    asked = parser.parse_args()
    if asked.make:
        footprints(Path(asked.make[0]), int(asked.make[1]))
        return
    with tempfile.TemporaryDirectory(prefix="zoompick-scaling-") as name:
        if asked.only in (None, "catalogues"):
            catalogues(Path(name), asked.rounds)
        if asked.only in (None, "cluster"):
            cluster(Path(name), asked.side, asked.rounds)
        if asked.only in (None, "model"):
            model(Path(name), asked.side, min(3, asked.rounds))


if __name__ == "__main__":
    main()
