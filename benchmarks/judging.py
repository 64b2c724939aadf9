"""Parts about verifying, each a process of its own: ``judging.py NAME FOLDER SIDE``; prints its seconds as JSON.

The floor decodes every block of every band and overview once, with the same codec calls and as many threads.
"""

from __future__ import annotations

import hashlib
import subprocess
import sys
from pathlib import Path
from typing import Any

import tifffile

from parts import decode, in_threads, inputs, stacked, timed


def prepare(folder: Path, side: int) -> None:
    """The stack of six bands."""
    timed(lambda: made(folder, side))


def made(folder: Path, side: int) -> None:
    """The file."""
    from zoompick.raster.write import write_geotiff

    inputs(folder, side)
    if not (folder / "judged.tif").exists():
        write_geotiff(Reflecting(stacked(folder, side)), folder / "judged.tif")


class Reflecting:
    """A stack whose bands tell reflectance."""

    def __init__(self, source: Any) -> None:
        from dataclasses import replace

        self._source = source
        self.bands = tuple(replace(band, scale=0.0001, offset=0.0) for band in source.bands)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._source, name)


def checks(folder: Path, side: int) -> None:
    """All checks of a file, with an area over most of it."""
    from zoompick.geo.crs import LONLAT
    from zoompick.geo.shapes import outline_of, project
    from zoompick.raster.opening import open_raster
    from zoompick.study.verify import verify_files

    path = folder / "judged.tif"
    grid = open_raster(path).grid
    flat = project(outline_of(grid.bounds, grid.crs, side), grid.crs).buffer(-0.1 * side * grid.pixel_x)
    area = project(flat, LONLAT, grid.crs)
    found: list[Any] = []
    timed(lambda: found.extend(verify_files([path], area=area)))
    assert len(found) >= 13, "most checks have something to judge"


def floor(folder: Path, side: int) -> None:
    """Decode all blocks."""
    path = folder / "judged.tif"
    with tifffile.TiffFile(path) as tiff:
        places = [place for page in tiff.pages for place in zip(page.dataoffsets, page.databytecounts, strict=True)]

    def one(place: tuple[int, int]) -> None:
        with path.open("rb") as stream:
            stream.seek(place[0])
            decode(stream.read(place[1]))

    timed(lambda: in_threads(one, places))


def study(folder: Path, side: int) -> None:
    """All checks of the demo's study."""
    from zoompick.study.folder import Study
    from zoompick.study.verify import CheckOptions, judge_study

    found: list[Any] = []
    one = Study(folder / "judged-study")
    timed(lambda: found.extend(judge_study(one, options=CheckOptions())))
    assert len(found) > 400 and all(row.outcome == "pass" for row in found), "the demo is sound"


def study_floor(folder: Path, side: int) -> None:
    """Hash and decode each of its rasters once, every level."""

    def one(path: Path) -> None:
        hashlib.sha256(path.read_bytes()).hexdigest()
        with tifffile.TiffFile(path) as tiff:
            for page in tiff.pages:
                page.asarray(maxworkers=1)

    paths = sorted((folder / "judged-study").rglob("*.tif"))
    timed(lambda: in_threads(one, paths))


def prepare_study(folder: Path, side: int) -> None:
    """The demo's study, made once."""
    target = folder / "judged-study"
    if not target.exists():
        subprocess.run([sys.executable, "-m", "zoompick", "demo", str(target)], check=True, capture_output=True)
    timed(lambda: None)


if __name__ == "__main__":
    globals()[sys.argv[1]](Path(sys.argv[2]), int(sys.argv[3]))
