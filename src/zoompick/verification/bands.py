"""Are the right bands there, in order, and is none another's copy."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from zoompick.raster import engine
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Raster
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
    """Two bands with the same pixels mean that one was put in twice."""
    names = [band.name for band in raster.bands]
    whole = [hashlib.sha256() for _ in names]
    with engine.crew_of(executor) as crew:
        for parts in engine.each(crew, raster.grid.tiles(_BLOCK_PX), _Digests(raster)):
            for digest, part in zip(whole, parts, strict=True):
                digest.update(part)
    digests: dict[bytes, list[str]] = {}
    for name, digest in zip(names, whole, strict=True):
        digests.setdefault(digest.digest(), []).append(name)
    twins = [names for names in digests.values() if len(names) > 1]
    note = f"{' and '.join(twins[0])} hold the same pixels." if twins else ""
    count = len(raster.bands)
    return judged(
        "bands distinct", subject, not twins, f"{len(digests)} of {count}", "all", note, float(len(digests))
    )


@dataclass(frozen=True)
class _Digests:
    """Digest of each band's pixels in a window."""

    raster: Raster

    def __call__(self, window: Window) -> list[bytes]:
        pixels = self.raster.read(window)
        return [hashlib.sha256(np.ascontiguousarray(band).data).digest() for band in pixels]


def on_grid(raster: Raster, grid: Grid, subject: str) -> Finding:
    """The product's grid against the study grid."""
    ok = raster.grid.shares_lattice(grid) and raster.grid.window == grid.window and raster.grid.bounds == grid.bounds
    note = f"Its grid is {_place(raster.grid)}; the study grid is {_place(grid)}. Make it again."
    return judged("on study grid", subject, ok, "the same" if ok else "another", "the same", note)


def _place(grid: Grid) -> str:
    return f"{grid.width} x {grid.height} px of {grid.pixel_text} from {grid.west:g}, {grid.north:g} in {grid.crs}"
