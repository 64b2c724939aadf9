"""Products altered behind the judge's back, their records made to agree: how many are told at the file?

    python benchmarks/mutations.py [--study FOLDER] [--only PRODUCT ...] [--thorough] [--write]

Of every kind of product each kind of fault is planted in turn, in a copy of the demo's study. Digest, size and
statistics of the record are made to agree, so that only what looks at pixels can tell. A fault is told when a finding
on that very file warns or fails. ``--write`` puts the table into benchmarks/MUTATIONS.md.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy import ndimage

from zoompick.area.read import read_area
from zoompick.files import multihash
from zoompick.raster.grid import Window
from zoompick.raster.opening import open_raster
from zoompick.raster.raster import Band, Derived, Raster, valid_mask
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.study.verify import CheckOptions, verify_files

Pixels = npt.NDArray[np.generic]
HERE = Path(__file__).parent
LATER, EARLIER = "2025-12-15", "2024-12-20"
PRODUCTS = {
    "stack": f"products/{LATER}/stack.tif", "clip": f"products/{LATER}/clip.tif",
    "composite": f"products/{LATER}/natural.tif", "index": f"products/{LATER}/ndvi.tif",
    "mask": f"products/{EARLIER}/ground.tif", "blend": "products/clear.tif",
    "difference": "products/wetter-difference.tif", "change": "products/wetter.tif", "mosaic": "border/mosaic.tif",
    "count": "products/clear-count.tif", "day": "products/clear-date.tif",
}  # fmt: skip


class _Altered(Derived):
    """A raster with other pixels."""

    def __init__(self, source: Raster, pixels: Pixels) -> None:
        super().__init__(source)
        self._pixels = pixels

    def read(self, window: Window, bands: object = None, level: int = 0) -> Pixels:
        """Pixels of a window."""
        rows, cols = window.slices_in(self.grid.window)
        places = range(len(self.bands)) if bands is None else tuple(bands)  # type: ignore[arg-type]
        return self._pixels[list(places), rows, cols]


Fault = Callable[[Pixels, Raster], Pixels]


def _there(pixels: Pixels, raster: Raster) -> npt.NDArray[np.bool_]:
    return np.asarray(valid_mask(pixels, raster.nodata))


def _times(factor: float, *places: int) -> Fault:
    """Some bands by a factor; classes by one class."""

    def change(pixels: Pixels, raster: Raster) -> Pixels:
        if raster.bands[0].is_class:
            return np.where(pixels == 0, 0, pixels % 4 + 1).astype(pixels.dtype)
        made = pixels.astype(np.float64)
        for place in places or range(len(pixels)):
            made[min(place, len(pixels) - 1)] *= factor
        made = made if pixels.dtype.kind == "f" else made.round().clip(1, np.iinfo(pixels.dtype).max)
        return np.where(_there(pixels, raster), made, pixels).astype(pixels.dtype)

    return change


def _left_half(fault: Fault) -> Fault:
    def change(pixels: Pixels, raster: Raster) -> Pixels:
        made, middle = fault(pixels, raster), pixels.shape[2] // 2
        made = made.copy()
        made[:, :, middle:] = pixels[:, :, middle:]
        return made

    return change


def _aside(shift: int) -> Fault:
    return lambda pixels, raster: np.roll(pixels, shift, axis=2)


def _band_aside(pixels: Pixels, raster: Raster) -> Pixels:
    """The third band, or the only one, half a pixel aside."""
    made, place = pixels.copy(), min(2, len(pixels) - 1)
    if raster.bands[0].is_class:
        return np.roll(pixels, 1, axis=2)
    gone = ~_there(pixels, raster)[place]
    whole = ndimage.shift(np.where(gone, 0, pixels[place]).astype(np.float64), (0, 0.5), order=1, mode="nearest")
    made[place] = np.where(gone, pixels[place], whole).astype(pixels.dtype)
    return made


def _box(rows: slice, cols: slice) -> Fault:
    """A part of one value: that of the middle of the picture; of codes the one that is seldom."""

    def change(pixels: Pixels, raster: Raster) -> Pixels:
        made = pixels.copy()
        value = np.median(pixels[_there(pixels, raster)]).astype(pixels.dtype)
        if raster.bands[0].is_class:
            codes, counts = np.unique(pixels[_there(pixels, raster)], return_counts=True)
            value = codes[counts.argmin()]
        made[0, rows, cols] = value
        return made

    return change


def _swapped(pixels: Pixels, raster: Raster) -> Pixels:
    """The first two bands; of one band the sign, of classes lost and gained."""
    if len(pixels) > 1:
        return pixels[[1, 0, *range(2, len(pixels))]]
    if raster.bands[0].is_class:
        codes = np.unique(pixels[pixels > 0])
        one, other = (1, 3) if pixels.max() == 4 else (codes[0], codes[-1])
        made = pixels.copy()
        made[pixels == one], made[pixels == other] = other, one
        return made
    return -pixels


def _upside_down(pixels: Pixels, raster: Raster) -> Pixels:
    return np.ascontiguousarray(pixels[:, ::-1])


FAULTS: dict[str, Fault] = {
    "whole, 10 % brighter": _times(1.1),
    "half, 10 % brighter": _left_half(_times(1.1)),
    "whole, 2 % brighter": _times(1.02),
    "one band, 5 % brighter": _times(1.05, 1),
    "strip of 12 rows": _box(slice(400, 412), slice(None)),
    "block of 128 px": _box(slice(384, 512), slice(512, 640)),
    "one dead row": _box(slice(431, 432), slice(None)),
    "another date": _upside_down,
    "a pixel aside": _aside(1),
    "half a pixel aside, one band": _band_aside,
    "half of it a pixel aside": _left_half(_aside(1)),
    "bands swapped": _swapped,
}


def _other_date(study: Path, name: str) -> Pixels | None:
    """The same product of the other date, where there is one."""
    other = study / (name.replace(LATER, EARLIER) if LATER in name else name.replace(EARLIER, LATER))
    if str(other) == str(study / name) or not other.is_file():
        return None
    raster = open_raster(other)
    return raster.read(raster.grid.window)


def _agree(path: Path, pixels: Pixels, raster: Raster) -> None:
    """Digest, size and statistics of the record are those of the file now."""
    record = path.with_name(path.name + ".stac.json")
    item = json.loads(record.read_text())
    data = item["assets"]["data"]
    data |= {"file:checksum": multihash(_sha256(path)), "file:size": path.stat().st_size}
    for band, plane in zip(data["bands"], pixels, strict=True):
        values = plane[_there(plane, raster)].astype(np.float64)
        band["statistics"] = {"valid_percent": 100 * values.size / plane.size, "minimum": float(values.min()),
                              "maximum": float(values.max()), "mean": float(values.mean()),
                              "stddev": float(values.std())}  # fmt: skip
    record.unlink()
    record.write_text(json.dumps(item))


def _sha256(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def planted(study: Path, kind: str, fault: str) -> bool:
    """Plant one fault; False where this product cannot have it."""
    path = study / PRODUCTS[kind]
    raster = open_raster(path)
    bands: tuple[Band, ...] = raster.bands
    pixels = raster.read(raster.grid.window).copy()
    other = _other_date(study, PRODUCTS[kind]) if fault == "another date" else None
    made = FAULTS[fault](pixels, raster) if other is None else other[: len(bands)]
    if np.array_equal(made, pixels, equal_nan=pixels.dtype.kind == "f"):
        return False
    altered = _Altered(raster, made)
    is_rgb = len(bands) == 3 and raster.dtype == np.uint8
    target = path.with_name("altered.tif")
    write_geotiff(altered, target, WriteOptions(is_rgb=is_rgb))
    path.unlink()
    target.rename(path)
    _agree(path, made, raster)
    return True


def told(study: Path, kind: str, is_thorough: bool) -> list[str]:
    """Checks that speak at the file."""
    path, area = study / PRODUCTS[kind], read_area(study / "area.geojson").polygon
    inside = area if kind not in ("mosaic", "blend", "count", "day") else None
    found = verify_files([path], area=inside, valid=0, options=CheckOptions(is_thorough=is_thorough))
    return sorted({one.key for one in found if one.outcome in ("warn", "fail")})


def trial(template: Path, work: Path, kinds: list[str], is_thorough: bool) -> dict[tuple[str, str], str]:
    """For each kind of product and fault the checks that told it; ``-`` for none, empty where it cannot be."""
    found = {}
    for kind in kinds:
        if said := told(template, kind, is_thorough):
            raise SystemExit(f"{kind} is accused as it is: {said}")
        for fault in FAULTS:
            copy = work / "copy"
            shutil.rmtree(copy, ignore_errors=True)
            shutil.copytree(template, copy, copy_function=os.link)
            found[kind, fault] = (
                (", ".join(told(copy, kind, is_thorough)) or "-") if planted(copy, kind, fault) else ""
            )
            print(f"{kind:<12} {fault:<32} {found[kind, fault]}", flush=True)
    return found


def table(found: dict[tuple[str, str], str], is_thorough: bool) -> str:
    """As Markdown."""
    kinds = list(dict.fromkeys(kind for kind, _ in found))
    planted_in = [said for said in found.values() if said]
    seen = sum(said != "-" for said in planted_in)
    lines = [
        "# Faults planted behind the judge's back", "",
        "Each product of the demo is altered, and its record made to agree. What stands in a cell told it, at that",
        "file; `-` is a fault that nobody told. Made by `python benchmarks/mutations.py --write`.", "",
        f"Told: {seen} of {len(planted_in)}{', all of each product looked at' if is_thorough else ''}.", "",
        f"| fault | {' | '.join(kinds)} |", f"|---|{'---|' * len(kinds)}",
    ]  # fmt: skip
    lines += [f"| {fault} | {' | '.join(found[kind, fault] for kind in kinds)} |" for fault in FAULTS]
    return "\n".join(lines) + "\n"


def main() -> None:
    """Carry out the trial."""
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--study", type=Path, help="A study as the demo makes it; made anew by default.")
    asked.add_argument("--only", nargs="+", choices=list(PRODUCTS), default=list(PRODUCTS))
    asked.add_argument("--thorough", action="store_true")
    asked.add_argument("--write", action="store_true")
    given = asked.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder)
        template = given.study or work / "fen"
        if given.study is None:
            subprocess.run([sys.executable, "-m", "zoompick", "demo", str(template)], check=True, cwd=work)
        found = trial(template.resolve(), work, given.only, given.thorough)
    text = table(found, given.thorough)
    print(text)
    if given.write:
        (HERE / "MUTATIONS.md").write_text(text)


if __name__ == "__main__":
    main()
