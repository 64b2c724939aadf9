"""Are the right bands there, in order, and is none another's copy."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from zoompick.raster import engine
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Raster, valid_mask
from zoompick.verification.finding import Finding, judged

_BLOCK_PX = 512


def bands_in_order(raster: Raster, expected: Sequence[str], subject: str) -> Finding:
    """Bands of a file against the brief's, names and order."""
    names = [band.name for band in raster.bands]
    missing = [name for name in expected if name not in names]
    note = (
        f"Missing: {', '.join(missing)}." if missing else f"Found {', '.join(names)}; wanted {', '.join(expected)}."
    )
    same = sum(a == b for a, b in zip(names, expected, strict=False))
    ok = names == list(expected)
    return judged("bands in order", subject, ok, f"{same} of {len(expected)}", "all, no other", note, float(same))


def bands_published(available: Sequence[str], expected: Sequence[str], subject: str) -> Finding:
    """Bands a scene has against those the brief needs."""
    missing = [name for name in expected if name not in available]
    note = f"The scene was published without {', '.join(missing)}. Pick another scene."
    figure = f"{len(expected) - len(missing)} of {len(expected)}"
    return judged("bands published", subject, not missing, figure, "all", note, float(len(expected) - len(missing)))


def bands_distinct(raster: Raster, subject: str, executor: Executor | None = None) -> Finding:
    """Two bands with the same pixels mean that one was put in twice; bands that hold nothing are told apart."""
    names = [band.name for band in raster.bands]
    whole, seen = [hashlib.sha256() for _ in names], [False] * len(names)
    with engine.crew_of(executor) as crew:
        for parts in engine.each(crew, raster.grid.tiles(_BLOCK_PX), _Digests(raster)):
            for place, (digest, is_there) in enumerate(parts):
                whole[place].update(digest)
                seen[place] |= is_there
    digests: dict[bytes, list[str]] = {}
    for name, hasher, is_there in zip(names, whole, seen, strict=True):
        if is_there:
            digests.setdefault(hasher.digest(), []).append(name)
    empty = [name for name, is_there in zip(names, seen, strict=True) if not is_there]
    twins = [names for names in digests.values() if len(names) > 1]
    figure = f"{len(digests)} of {len(names)}"
    if twins or not empty:
        note = f"{_listed(twins[0])} hold the same pixels." if twins else ""
        return judged("bands distinct", subject, not twins, figure, "all", note, float(len(digests)))
    note = f"{_listed(empty)} {'holds' if len(empty) == 1 else 'hold'} no data."
    return Finding("bands distinct", subject, "warn", figure, "all", note, float(len(digests)))


def _listed(names: Sequence[str]) -> str:
    """Names in a sentence; of many the first."""
    return " and ".join(names) if len(names) <= _MOST_NAMES else f"{', '.join(names[:3])} and {len(names) - 3} more"


_MOST_NAMES = 4


@dataclass(frozen=True)
class _Digests:
    """Digest of each band's pixels in a window, and whether any is there."""

    raster: Raster

    def __call__(self, window: Window) -> list[tuple[bytes, bool]]:
        pixels, nodata = self.raster.read(window), self.raster.nodata
        return [
            (hashlib.sha256(np.ascontiguousarray(band).data).digest(), bool(valid_mask(band, nodata).any()))
            for band in pixels
        ]


def on_grid(raster: Raster, grid: Grid, subject: str) -> Finding:
    """The product's grid against the study grid."""
    ok = raster.grid.shares_lattice(grid) and raster.grid.window == grid.window and raster.grid.bounds == grid.bounds
    note = f"Its grid is {_place(raster.grid)}; the study grid is {_place(grid)}. Make it again."
    return judged("on study grid", subject, ok, "the same" if ok else "another", "the same", note)


def _place(grid: Grid) -> str:
    return f"{grid.width} x {grid.height} px of {grid.pixel_text} from {grid.west:g}, {grid.north:g} in {grid.crs}"
