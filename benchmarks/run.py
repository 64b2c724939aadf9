"""Speed and memory as ratios to floors measured in the same run; prints a Markdown table.

    python benchmarks/run.py [--side 10980] [--rounds 3] [--footprints 1000000] [--items 100000]
                             [--only NAME ...] [--write]

Each pair is run in turn, A B A B; the ratio is that of the medians. Every part runs in a process of its own, so that
memory and caches of one do not help or burden another. ``--write`` puts the table into benchmarks/RESULTS.md.
"""

from __future__ import annotations

import argparse
import json
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

HERE = Path(__file__).parent
PARTS = [
    "start",
    "codec",
    "effort",
    "finding",
    "searching",
    "getting",
    "stack",
    "making",
    "placing",
    "judging",
    "demo",
]
PART = [sys.executable, str(HERE / "parts.py")]
# An installed program is compiled once; a shell that forbids it would have every start compile it anew.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
# Floors encode with one effort; how well it is chosen is a part of its own.
os.environ["ZOOMPICK_DEFLATE_LEVEL"] = "6"


@dataclass(frozen=True)
class Measured:
    """One run of a part: seconds it reports (or wall time), and its peak memory in MB."""

    seconds: float
    peak_mb: float
    facts: dict[str, float]


def run(command: list[str], own_clock: bool) -> Measured:
    """Run a command; its peak memory comes from the operating system.

    What an earlier part wrote goes to the disk first, so that nobody pays for another's bytes.
    """
    os.sync()
    began = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    out = process.stdout.read()
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    wall = time.perf_counter() - began
    if process.returncode:
        raise SystemExit(f"{' '.join(command)} ended with {process.returncode}")
    facts = json.loads(out.splitlines()[-1]) if own_clock else {}
    return Measured(facts.get("seconds", wall), usage.ru_maxrss / 1024, facts)


def paired(ours: list[str], floors: list[list[str]], rounds: int, own_clock: bool = True) -> list[list[Measured]]:
    """Ours and the floors in turn, ``rounds`` times; one list of measurements for each."""
    found: list[list[Measured]] = [[] for _ in range(1 + len(floors))]
    for _ in range(rounds):
        for place, command in zip(found, (ours, *floors), strict=True):
            place.append(run(command, own_clock))
    return found


def ratio(ours: list[Measured], floor: list[Measured]) -> float:
    """Median of the ratios of neighbouring runs: between those a shared machine's pace drifts least."""
    return statistics.median(a.seconds / b.seconds for a, b in zip(ours, floor, strict=True))


@dataclass(frozen=True)
class Row:
    """A line of the table; the goal is an upper bound."""

    name: str
    what: str
    value: float
    goal: float
    unit: str = "x"

    def cells(self) -> list[str]:
        """Text of the table's cells."""
        shown = f"{self.value:.0f} {self.unit}" if self.unit == "MB" else f"{self.value:.2f}{self.unit}"
        goal = f"{self.goal:.0f} {self.unit}" if self.unit == "MB" else f"{self.goal:g}{self.unit}"
        return [self.name, self.what, shown, goal, "yes" if self.value <= self.goal else "NO"]


def start_up(rounds: int) -> list[Row]:
    """The program against an empty interpreter."""
    floor = [sys.executable, "-c", "pass"]
    program = str(Path(sys.executable).with_name("zoompick"))
    complete = [program]
    rows = []
    for words, goal in ((["--version"], 8), (["--help"], 20)):
        ours, base = paired([program, *words], [floor], rounds * 5, own_clock=False)
        rows.append(Row("start", f"`zoompick {' '.join(words)}` to `python -c pass`", ratio(ours, base), goal))
    os.environ |= {"_ZOOMPICK_COMPLETE": "complete_bash", "COMP_WORDS": "zoompick se", "COMP_CWORD": "1"}
    ours, base = paired(complete, [floor], rounds * 5, own_clock=False)
    for name in ("_ZOOMPICK_COMPLETE", "COMP_WORDS", "COMP_CWORD"):
        del os.environ[name]
    rows.append(Row("start", "completing a word to `python -c pass`", ratio(ours, base), 20))
    return rows + records(floor, program, rounds)


def records(floor: list[str], program: str, rounds: int) -> list[Row]:
    """Commands that read the records of the demo's study, and a run with nothing to do."""
    rows, back = [], Path.cwd()
    with tempfile.TemporaryDirectory(prefix="zoompick-bench-") as folder:
        os.environ |= {"ZOOMPICK_CACHE": f"{folder}/cache", "ZOOMPICK_CONFIG": f"{folder}/config"}
        subprocess.run([program, "demo", f"{folder}/demo"], check=True, capture_output=True)
        os.chdir(f"{folder}/demo")
        subprocess.run([program, "run"], check=True, capture_output=True)
        goals = {"status": 30, "history": 30, "pick list": 30, "source list": 30, "run": 60}
        for words, goal in goals.items():
            ours, base = paired([program, *words.split()], [floor], rounds * 5, own_clock=False)
            what = f"`zoompick {words}`{' with nothing to do' if words == 'run' else ''} to `python -c pass`"
            rows.append(Row("start", what, ratio(ours, base), goal))
        os.chdir(back)
    for name in ("ZOOMPICK_CACHE", "ZOOMPICK_CONFIG"):
        del os.environ[name]
    return rows


def part(name: str, folder: Path, side: int) -> list[str]:
    """Command of one part of parts.py."""
    return [*PART, name, str(folder), str(side)]


def stack(folder: Path, side: int, rounds: int) -> list[Row]:
    """Six bands, two of them at half the resolution, onto one grid."""
    run(part("inputs", folder, side), True)
    run(part("inputs", folder, 2 * side), True)
    others = [part(name, folder, side) for name in ("stack_codec", "stack_anew", "stack_codec", "stack_whole")]
    others += [part(name, folder, side) for name in ("stack_far", "stack_codec")]
    ours, codec, anew, codec_again, whole, far, codec_third = paired(part("stack", folder, side), others, rounds)
    peak = statistics.median(m.peak_mb for m in ours)
    large = run(part("stack", folder, 2 * side), True)
    return [
        Row("stack", "time to the codec floor (same tiles, same threads)", ratio(ours, codec), 1.12),
        Row("stack", "the same, where no block can be passed on as it is", ratio(anew, codec_again), 1.12),
        Row("stack", "the same, on a pool of processes", ratio(far, codec_third), 1.3),
        Row("stack", "time to the whole-array way", ratio(ours, whole), 0.6),
        Row("stack", "peak memory of the process", peak, 300, "MB"),
        Row("stack", "memory at four times the pixels", large.peak_mb / peak, 1.1),
    ]


def codec(folder: Path, side: int, rounds: int) -> list[Row]:
    """Reading and writing one band."""
    run(part("inputs", folder, side), True)
    ours, loop = paired(part("read", folder, side), [part("read_loop", folder, side)], rounds)
    rows = [Row("read", "all tiles of a band to a hand-written decode loop", ratio(ours, loop), 1.15)]
    ours, encode = paired(part("write", folder, side), [part("write_encode", folder, side)], rounds)
    rows.append(Row("write", "file with all overviews to the pure encode of all levels", ratio(ours, encode), 1.3))
    ours_mb = statistics.median(m.peak_mb for m in ours)
    run(part("inputs", folder, 2 * side), True)
    rows.append(
        Row(
            "write",
            "memory at four times the pixels",
            run(part("write", folder, 2 * side), True).peak_mb / ours_mb,
            1.1,
        )
    )
    return rows


def effort() -> list[Row]:
    """Tiles of all kinds as they are encoded now, to deflate at level 6."""
    environment = {key: value for key, value in os.environ.items() if key != "ZOOMPICK_DEFLATE_LEVEL"}
    command = [sys.executable, str(HERE / "effort.py"), "--json"]
    done = subprocess.run(command, check=True, capture_output=True, env=environment, text=True)
    *kinds, all_kinds = json.loads(done.stdout)["rows"]
    worst = max(kinds, key=lambda row: row["now bytes"])
    return [
        Row(
            "effort", "encoding tiles of all kinds, processor time to deflate at level 6", all_kinds["now time"], 0.7
        ),
        Row("effort", "their bytes to those of level 6", all_kinds["now bytes"], 1.012),
        Row("effort", f"bytes of the worst kind ({worst['kind']})", worst["now bytes"], 1.1),
        Row("effort", "the same tiles with `--compression zstd`, processor time", all_kinds["zstd time"], 0.7),
        Row("effort", "their bytes", all_kinds["zstd bytes"], 1.012),
    ]


def finding(folder: Path, count: int, rounds: int) -> list[Row]:
    """A footprint index: building, size, warm queries with the same hits, a cold search."""

    def words(name: str) -> list[str]:
        return [sys.executable, str(HERE / "finding.py"), name, str(folder), str(count)]

    built, bare = paired(words("build"), [words("build_bare")], rounds)
    asked, floor = paired(words("query"), [words("query_bare")], rounds)
    if asked[0].facts["hits"] != floor[0].facts["hits"]:
        raise SystemExit(f"the index gave {asked[0].facts['hits']} hits, the floor {floor[0].facts['hits']}")
    return [
        Row("finding", f"build an index of {count} footprints to a bare insert", ratio(built, bare), 1.5),
        Row("finding", "size of the index", built[0].facts["size_mb"], 200 * count / 1e6, "MB"),
        Row("finding", "warm query to the bare tree and polygon test, same hits", ratio(asked, floor), 1.5),
        Row("finding", "memory of a process that queries", max(m.peak_mb for m in asked), 80, "MB"),
        cold(folder, count, rounds),
    ]


def cold(folder: Path, count: int, rounds: int) -> Row:
    """A search over the index as a command of its own."""
    places = {"ZOOMPICK_CACHE": str(folder / "cache"), "ZOOMPICK_CONFIG": str(folder / "config")}
    os.environ |= places
    prepared = [sys.executable, str(HERE / "finding.py"), "as_source", str(folder), str(count)]
    file = str(run(prepared, True).facts["file"])
    program = str(Path(sys.executable).with_name("zoompick"))
    subprocess.run([program, "source", "add", "many", file], check=True, capture_output=True)
    words = ["search", "--source", "many", "--box", "10", "10", "40", "40", "--dates", "2020-06", "--cloud", "20"]
    ours, idle = paired([program, *words], [[sys.executable, "-c", "pass"]], rounds * 3, own_clock=False)
    for name in places:
        del os.environ[name]
    return Row("finding", "cold `zoompick search` over it to `python -c pass`", ratio(ours, idle), 50)


def searching(folder: Path, count: int, rounds: int) -> list[Row]:
    """Paging, cloud inside the area, contact sheet and cover, against the archive as a server of its own."""
    script = [sys.executable, str(HERE / "searching.py")]
    served = [*script, "serve", str(folder / "cache"), str(count)]
    with subprocess.Popen(served, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
        given = server.stdout.readline()

        def words(name: str, number: int = count) -> list[str]:
            return [*script, name, given, str(number)]

        try:
            ours, hand = paired(words("pages"), [words("pages_by_hand")], rounds)
            inside, bare = paired(words("inside"), [words("inside_bare")], rounds)
            sheet, sheet_floor = paired(words("sheet"), [words("sheet_floor")], rounds)
            few = run(words("pages_of_a_tenth"), True).facts["peak_mb"]
            cover = run(words("cover"), True).facts
        finally:
            server.stdin.close()
            server.wait(30)
    facts = inside[0].facts
    ideal = statistics.median(m.seconds / m.facts["ideal"] for m in inside)
    part = "searching"
    return [
        Row(part, f"{count} items searched to fetching and parsing their pages by hand", ratio(ours, hand), 1.3),
        Row(part, "memory for ten times the items", ours[0].facts["peak_mb"] / few, 1.3),
        Row(part, "cloud inside the area, 100 scenes: requests a scene", facts["requests"], 3, ""),
        Row(part, "cloud inside the area: kB a scene", facts["kb"], 64, " kB"),
        Row(part, "cloud inside the area: time to requests / parallel x latency", ideal, 1.5),
        Row(part, "cloud inside the area: time to bare range requests", ratio(inside, bare), 1.5),
        Row(part, "contact sheet of 60 to fetching, decoding, encoding them", ratio(sheet, sheet_floor), 1.5),
        Row(part, f"cover, {cover['cases']:.0f} cases up to 500 scenes: dearer than greedy", cover["worse"], 0, ""),
        Row(part, f"cover: not proved optimal (cheaper than greedy in {cover['wins']:.0f})", cover["gaps"], 0, ""),
    ]


def getting(folder: Path, rounds: int) -> list[Row]:
    """Whole files, windows, tiles and archives, against curl, bare sockets and the standard library."""
    script = [sys.executable, str(HERE / "getting.py")]
    run([*script, "make", str(folder)], True)
    served = [*script, "serve", str(folder)]
    with subprocess.Popen(served, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
        given = server.stdout.readline().strip()

        def words(name: str) -> list[str]:
            return [*script, name, str(folder), given]

        try:
            whole, curl = paired(words("whole"), [words("whole_curl")], rounds)
            checked, curl_again, digest = paired(words("checked"), [words("whole_curl"), words("digest")], rounds)
            window, raw = paired(words("window"), [words("window_raw")], rounds)
            tiles, tiles_curl = paired(words("tiles"), [words("tiles_curl")], rounds)
            joined, bare = paired(words("joined"), [words("joined_bare")], rounds)
            unpacked, library = paired(words("unpacked"), [words("unpacked_bare")], rounds)
            members = run(words("members"), True)
        finally:
            server.stdin.close()
            server.wait(30)
    slower = max((curl_again, digest), key=lambda runs: statistics.median(m.seconds for m in runs))
    cpu = [statistics.median(m.facts["cpu"] - m.facts.get("imports_cpu", 0) for m in runs) for runs in (whole, curl)]
    facts, part = window[0].facts, "getting"
    tiles_s = statistics.median(m.seconds for m in tiles)
    return [
        Row(part, "500 MB without digest: time to curl", ratio(whole, curl), 1.1),
        Row(part, "500 MB without digest: processor time to curl", cpu[0] / cpu[1], 1.1),
        Row(part, "500 MB with digest: time to the slower of curl and SHA-256 alone", ratio(checked, slower), 1.2),
        Row(part, "memory above the imports", max(m.facts["above_mb"] for m in checked), 80, "MB"),
        Row(part, "window: bytes to touched blocks and 32 KB", facts["received"] / (facts["blocks"] + 32768), 1.02),
        Row(part, "window: requests over rows of blocks", facts["requests"] - facts["rows"], 1, ""),
        Row(part, "window: time to raw sockets with the same ranges", ratio(window, raw), 1.4),
        Row(part, "1500 tiles: time to the ideal", tiles_s / tiles[0].facts["ideal"], 1.2),
        Row(part, "1500 tiles: time to curl in parallel", ratio(tiles, tiles_curl), 1.3),
        Row(part, "joining them: time to decode and encode alone", ratio(joined, bare), 1.2),
        Row(part, "members of a remote tar: kB a header", members.facts["kb_a_header"], 1, " kB"),
        Row(part, "tar.gz: time to the standard library", ratio(unpacked, library), 1.1),
    ]


def making(folder: Path, side: int, rounds: int) -> list[Row]:
    """Indices, composites, blends, mosaics and JPEG 2000 against decoding, arithmetic and encoding alone."""

    def words(name: str) -> list[str]:
        return [sys.executable, str(HERE / "making.py"), name, str(folder), str(side)]

    run(words("prepare"), True)
    rows = []
    for name, floor, what, goal in (
        ("index", "index_floor", "an index of two bands to decode + formula + encode", 1.15),
        ("indices", "indices_floor", "five indices in one pass to decode once + formulas + encodes", 1.15),
        ("composite", "composite_floor", "composite with exact percentiles to decode twice + encode", 1.25),
        ("mosaic", "mosaic_floor", "mosaic of three dates and its scene layer to decode + encode", 1.15),
        ("blend", "blend_floor", "median of 12 dates to decode + min/max network + encode", 1.2),
        ("blend", "blend_whole", "the same to np.nanmedian of whole arrays", 0.25),
        ("jp2_window", "jp2_tile", "JPEG 2000: window of one tile to the decode of that tile", 1.1),
        ("jp2_half", "jp2_whole", "JPEG 2000: half resolution to the whole decode", 0.35),
    ):
        ours, base = paired(words(name), [words(floor)], rounds)
        rows.append(Row("making", what, ratio(ours, base), goal))
        if name in ("mosaic", "blend") and floor != "blend_whole":
            peak = statistics.median(m.peak_mb for m in ours)
            rows.append(Row("making", f"peak memory of that {name}", peak, 300 if name == "mosaic" else 500, "MB"))
    return rows


def placing(folder: Path, side: int, rounds: int) -> list[Row]:
    """Clips, mosaics of one zone and of two, and pictures."""

    def words(name: str) -> list[str]:
        return [sys.executable, str(HERE / "placing.py"), name, str(folder), str(side)]

    run(words("prepare"), True)
    rows = []
    for name, floor, what, goal in (
        ("clip", "clip_floor", "clip to a polygon to decode + encode of the blocks touched", 1.15),
        ("zones", "zones_floor", "mosaic of two zones to decode + kernel + encode", 1.3),
        ("positions", "positions_exact", "control points of a scene to the exact transform of all pixels", 0.02),
        ("mosaic", "mosaic_floor", "mosaic of two neighbours and its scene layer to decode + encode", 1.15),
    ):
        ours, base = paired(words(name), [words(floor)], rounds)
        rows.append(Row("placing", what, ratio(ours, base), goal))
        if name != "positions":
            peak = statistics.median(m.peak_mb for m in ours)
            rows.append(Row("placing", "its peak memory", peak, 300, "MB"))
    share = run(words("picture"), True).seconds
    rows.append(Row("placing", "picture at 2000 px: bytes read to those of the file", share, 0.3))
    return rows


def judging(folder: Path, side: int, rounds: int) -> list[Row]:
    """All checks of a stack against the bare decode of its blocks."""

    def words(name: str) -> list[str]:
        return [sys.executable, str(HERE / "judging.py"), name, str(folder), str(side)]

    run(words("prepare"), True)
    ours, base = paired(words("checks"), [words("floor")], rounds)
    peak = statistics.median(m.peak_mb for m in ours)
    return [Row("judging", "all checks of a six-band stack to the decode of all blocks", ratio(ours, base), 1.5),
            Row("judging", "its peak memory", peak, 400, "MB"), _whole_study(words)]  # fmt: skip


def _whole_study(words: Callable[[str], list[str]]) -> Row:
    """The demo's study against digests and decode of its rasters; half the checks took half the goal."""
    run(words("prepare_study"), True)
    ours, base = paired(words("study"), [words("study_floor")], 3)
    return Row(
        "judging", "all checks of the demo's study to digests and decode of its rasters", ratio(ours, base), 10
    )


def demo_split(folder: Path) -> list[str]:
    """Wall time of the demo by step, from its journal, as shares of the whole."""
    study = folder / "demo"
    environment = os.environ | {"ZOOMPICK_CACHE": str(folder / "cache"), "ZOOMPICK_CONFIG": str(folder / "config")}
    del environment["ZOOMPICK_DEFLATE_LEVEL"]
    program = str(Path(sys.executable).with_name("zoompick"))
    began = time.perf_counter()
    subprocess.run([program, "demo", str(study)], check=True, capture_output=True, env=environment)
    whole = time.perf_counter() - began
    spent: dict[str, float] = {}
    for line in (study / "journal.jsonl").read_text().splitlines():
        act = json.loads(line)
        spent[act["act"]] = spent.get(act["act"], 0) + act["seconds"]
    spent["start and end"] = whole - sum(spent.values())
    names = {"download": "download (the archive makes world and scenes meanwhile)"}
    limit = "yes" if whole < 20 else "NO"
    lines = [
        f"The whole demo, world and scenes made anew, under 20 s: {limit}. Where its time goes:",
        "",
        "| step | share |",
        "|---|---|",
    ]
    return lines + [f"| {names.get(name, name)} | {100 * seconds / whole:.0f} % |" for name, seconds in spent.items()]


def report(rows: list[Row], side: int, rounds: int) -> list[str]:
    """The table and the machine it is from."""
    head = ["part", "measure", "ratio", "goal at most", "met"]
    machine = f"{os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}; shared and noisy"
    lines = [f"Machine: {machine}. Scene {side} x {side} px, {rounds} rounds, medians.", ""]
    lines += ["| " + " | ".join(head) + " |", "|" + "---|" * len(head)]
    return lines + ["| " + " | ".join(row.cells()) + " |" for row in rows]


def main() -> None:
    """Measure what was asked for and print it."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--side", type=int, default=10980)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--footprints", type=int, default=1_000_000)
    parser.add_argument("--items", type=int, default=100_000)
    parser.add_argument("--only", nargs="*", choices=PARTS)
    parser.add_argument("--write", action="store_true")
    given = parser.parse_args()
    wanted = given.only or PARTS
    folder = Path(tempfile.mkdtemp(prefix="zoompick-bench-"))
    try:
        parts = {
            "start": lambda: start_up(given.rounds),
            "codec": lambda: codec(folder, given.side, given.rounds),
            "effort": effort,
            "finding": lambda: finding(folder, given.footprints, given.rounds),
            "searching": lambda: searching(folder, given.items, given.rounds),
            "getting": lambda: getting(folder, given.rounds),
            "stack": lambda: stack(folder, given.side, given.rounds),
            "making": lambda: making(folder, given.side // 2, given.rounds),
            "placing": lambda: placing(folder, given.side, given.rounds),
            "judging": lambda: judging(folder, given.side, given.rounds),
        }
        rows = [row for name, measure in parts.items() if name in wanted for row in measure()]
        lines = report(rows, given.side, given.rounds)
        if "demo" in wanted:
            lines += ["", *demo_split(folder)]
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    print("\n".join(lines))
    if given.write:
        text = "# Benchmark results\n\nWritten by `python benchmarks/run.py --write`.\n\n" + "\n".join(lines) + "\n"
        (HERE / "RESULTS.md").write_text(text)


if __name__ == "__main__":
    main()
