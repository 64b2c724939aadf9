"""Is each file whole: every block decodes, size and digest are as recorded."""

from __future__ import annotations

from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path

from zoompick import files
from zoompick.errors import DataError
from zoompick.raster import engine
from zoompick.raster.grid import Window
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Raster
from zoompick.verification.finding import Finding, judged


def blocks_decode(path: Path, subject: str, executor: Executor | None = None) -> Finding:
    """Decode every block of every band and overview.

    Parameters
    ----------
    executor : Executor, optional
        Where they are decoded; threads of this process by default.
    """
    check = "blocks decode"
    try:
        raster = open_raster(path)
    except DataError as error:
        return judged(check, subject, False, "not readable", "all", error.what)
    jobs = [
        (level, band, window)
        for level, grid in enumerate(raster.levels)
        for band in range(len(raster.bands))
        for window in _blocks(grid.window, raster.block)
    ]
    with engine.crew_of(executor) as crew:
        broken = [text for text in engine.each(crew, jobs, _Decoding(raster)) if text]
    note = f"{broken[0]} Download or make it again." if broken else ""
    good = len(jobs) - len(broken)
    return judged(check, subject, not broken, f"{good} of {len(jobs)}", "all", note, float(good))


@dataclass(frozen=True)
class _Decoding:
    """Reads one block; says why it cannot be read, or nothing."""

    raster: Raster

    def __call__(self, job: tuple[int, int, Window]) -> str:
        level, band, window = job
        try:
            self.raster.read(window, (band,), level)
        except DataError as error:
            return error.what
        return ""


def _blocks(whole: Window, block: tuple[int, int]) -> list[Window]:
    rows, cols = block
    return [
        Window(col, row, cols, rows).intersect(whole)
        for row in range(0, whole.height, rows)
        for col in range(0, whole.width, cols)
    ]


def checksum_matches(path: Path, multihash: str, subject: str, source: str) -> Finding:
    """Hash the file and compare.

    Parameters
    ----------
    multihash : str
        Expected; it names its function.
    source : str
        Where the expected digest is from: ``catalogue``, ``download``, ``sidecar``.
    """
    check = f"checksum ({source})"
    try:
        found = files.multihash_of(path, multihash)
    except OSError as error:
        note = f"{path} cannot be read: {error.strerror}."
        return judged(check, subject, False, "no file", multihash[4:16], note)
    except DataError as error:
        return Finding(check, subject, "warn", "unknown", multihash[:16], error.what)
    note = f"{path.name} is not what its {source} says: it changed or is damaged. Download or make it again."
    return judged(check, subject, found == multihash, found[4:16], multihash[4:16], note)
