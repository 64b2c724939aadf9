"""Do the bands lie on one another, and does the product lie on that of another date."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from zoompick.raster import engine
from zoompick.raster.warp import laid_on
from zoompick.verification.finding import Finding, judged
from zoompick.verification.shifts import Shifts, between, tile_of
from zoompick.verification.subject import Check, Subject

_PREFERRED = ("red", "green", "nir")
_SAYS_NOTHING = "no evidence: too little texture or light"


def _reference(names: Sequence[str]) -> str:
    return next((name for name in _PREFERRED if name in names), names[0])


def bands_aligned(subject: Subject) -> list[Finding]:
    """Each band against red, or the first."""
    names = [band.name for band in subject.raster.bands]
    base = _reference(names)
    tiles = subject.sweep.totals["tiles"]
    one = tiles.of(names.index(base))
    others = [name for name in names if name != base][:_MOST_BANDS]
    jobs = [list(zip(tiles.windows, one, tiles.of(names.index(name)), strict=True)) for name in others]
    with engine.crew_of(None) as crew:
        found = dict(zip(others, engine.each(crew, jobs, between), strict=True))
    return [
        _finding(subject, "bands aligned", base, found, subject.limits.shift_px, "[align] each_band, or new files,")
    ]


_MOST_BANDS = 24


def dates_aligned(subject: Subject) -> list[Finding]:
    """A band against that of the other date, on this product's grid."""
    assert subject.earlier is not None
    label, other = subject.earlier
    names, theirs = ([band.name for band in raster.bands] for raster in (subject.raster, other))
    common = [name for name in names if name in theirs]
    base = _reference(common)
    laid, place = laid_on(other, subject.raster.grid), theirs.index(base)
    tiles = subject.sweep.totals["tiles"]
    windows = zip(tiles.windows, tiles.of(names.index(base)), strict=True)
    found = {f"{base} of {label}": between([(w, one, tile_of(laid, w, place)) for w, one in windows])}
    return [
        _finding(
            subject,
            "dates aligned",
            base,
            found,
            subject.limits.dates_px,
            "[align] in the brief, or 'zoompick align',",
        )
    ]


def _finding(subject: Subject, check: str, base: str, found: dict[str, Shifts], limit: float, cure: str) -> Finding:
    sure = {name: shifts for name, shifts in found.items() if shifts.is_sure}
    grid = subject.raster.grid
    data: dict[str, Any] = {"against": base, "size": [grid.width, grid.height], "shifts": dict(_rows(found))}
    most = f"at most {limit:g} px"
    if not sure:
        return judged(check, subject.label, True, _SAYS_NOTHING, most, "", data=data)
    name, worst = max(sure.items(), key=lambda item: item[1].size_px)
    cols, rows = worst.median
    figure = f"{worst.size_px:.2f} px, {name} against {base}"
    note = (f"{name} lies {cols:+.2f} columns, {rows:+.2f} rows off {base} (median of {len(worst.vectors)} tiles, "
            f"spread "
            f"{worst.spread_px:.2f} px). {cure} put it right.")  # fmt: skip
    return judged(check, subject.label, worst.size_px <= limit, figure, most, note, worst.size_px, data=data)


def _rows(found: dict[str, Shifts]) -> Iterator[tuple[str, dict[str, Any]]]:
    for name, shifts in found.items():
        cols, rows = shifts.median
        yield (
            name,
            {
                "cols": round(cols, 3),
                "rows": round(rows, 3),
                "tiles": len(shifts.vectors),
                "looked": shifts.looked,
                "spread_px": round(shifts.spread_px, 3) if np.isfinite(shifts.spread_px) else None,
                "sure": shifts.is_sure,
                "vectors": [[round(v, 2) for v in (one.col, one.row, one.cols, one.rows)] for one in shifts.vectors],
            },
        )


def _can_shift(subject: Subject) -> bool:
    return subject.is_reflectance and min(subject.raster.grid.width, subject.raster.grid.height) >= _LEAST


def _has_earlier(subject: Subject) -> bool:
    if subject.earlier is None or not _can_shift(subject):
        return False
    theirs = {band.name for band in subject.earlier[1].bands}
    return any(band.name in theirs for band in subject.raster.bands)


_LEAST = 48
_SOURCE = ("C. D. Kuglin, D. C. Hines, The phase correlation image alignment method (1975); H. S. Stone and "
           "others, A "
           "fast direct Fourier-based algorithm for subpixel registration of images (2001).")  # fmt: skip

CHECKS: Sequence[Check] = (
    Check("bands-shift", "alignment", "bands aligned", "Reflectances of two bands or more.",
          "Phase correlation of each band with red over up to 16 tiles, below a pixel by the slope of the phase; the "
          "median counts where a third of the tiles with texture, three at least, agree to 0.35 px.",
          lambda subject: _can_shift(subject) and len(subject.raster.bands) > 1, bands_aligned, _SOURCE, "shift_px"),
    Check("dates-shift", "alignment", "dates aligned", "A product of the same kind of another date.",
          "The same between the two dates, the other laid on this one's grid.",
          _has_earlier, dates_aligned, _SOURCE, "dates_px"),
)  # fmt: skip
