"""Do the bands lie on one another, and does the product lie on that of another date."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.arrays import Floats
from zoompick.jsontypes import JsonObject
from zoompick.judge.parted import LEAST_PX, Part, parted
from zoompick.judge.shifts import Shifts, between, spectrum_of, tile_of
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster import engine
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

_PREFERRED = ("red", "green", "nir")
_SAYS_NOTHING = "Too little texture or light to tell a shift by."


def bands_aligned(subject: Subject) -> list[Finding]:
    """Each band against the one that it looks most like; then where each lies against the middle of all."""
    names = [band.name for band in subject.raster.bands][:_MOST_BANDS]
    every, edges = _between_bands(subject, len(names))
    found = {pair: every[pair] for pair in edges}
    places, grid = _placed(found, len(names)), subject.raster.grid
    limit, most = subject.limits.shift_px, f"at most {subject.limits.shift_px:g} px"
    rows = {names[two]: _row(shifts) | {"against": names[one]} for (one, two), shifts in found.items()}
    data: JsonObject = {
        "against": "the band it looks most like", "size": [grid.width, grid.height], "shifts": rows,
    }  # fmt: skip
    parts = {f"{names[two]} against {names[one]}": part for (one, two), shifts in every.items()
             if (part := parted(shifts)) is not None and part.size_px > _most_in_part(limit)}  # fmt: skip
    if parts:
        pair = max(parts, key=lambda key: parts[key].sure)
        return [_in_part("bands aligned", subject, pair, parts[pair], limit, data)]
    if len(places) < 2:
        return [not_judged("bands aligned", subject.label, _SAYS_NOTHING, most, data=data)]
    middle = np.median(list(places.values()), axis=0)
    off = {names[place]: where - middle for place, where in places.items()}
    name = max(off, key=lambda key: float(np.hypot(*off[key])))
    size = float(np.hypot(*off[name]))
    note = (f"{name} lies {off[name][0]:+.2f} columns, {off[name][1]:+.2f} rows off the middle of the bands. [align] "
            "each_band in the brief, or new files, put it right.")  # fmt: skip
    data["off"] = {key: [round(float(value), 3) for value in where] for key, where in off.items()}
    seen = Seen("bands", len(places), len(names))
    return [judged("bands aligned", subject.label, size <= limit, f"{size:.2f} px, {name}", most, note, size,
                   data=data, seen=seen)]  # fmt: skip


def _between_bands(subject: Subject, count: int) -> tuple[dict[tuple[int, int], Shifts], list[tuple[int, int]]]:
    """Shifts of the pairs of bands that are looked at, and those pairs that join all bands by the likest."""
    tiles = subject.sweep.totals["tiles"]
    alike = np.abs(subject.sweep.totals["sample"].correlations[:count, :count])
    edges = _tree(alike)
    pairs = [*edges, *_more_pairs(alike, edges)]
    with engine.crew_here() as crew:
        each = [list(engine.each(crew, tiles.of(place), spectrum_of)) for place in range(count)]
        shifts = engine.each(crew, pairs, lambda edge: between(tiles.windows, each[edge[0]], each[edge[1]]))
        return dict(zip(pairs, shifts, strict=True)), edges


_MOST_BANDS = 24


def _more_pairs(alike: Floats, edges: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Each band and the three that it looks most like: some are sharper than the likest, and show less."""
    known = {frozenset(edge) for edge in edges}
    found = dict[frozenset[int], tuple[int, int]]()
    for band in range(len(alike)):
        order = [int(other) for other in np.argsort(-alike[band]) if other != band][:_NEAREST]
        found |= {frozenset((band, other)): (other, band) for other in order if frozenset((band, other)) not in known}
    return list(found.values())


_NEAREST = 3


def _most_in_part(limit: float) -> float:
    return max(limit / 2, LEAST_PX)


def _in_part(check: str, subject: Subject, pair: str, part: Part, limit: float, data: JsonObject) -> Finding:
    """A part that is shifted, against half the limit of a whole: it is nothing that relief or a frame does."""
    most, (col, row) = _most_in_part(limit), part.middle
    note = (f"{pair}: in {part.tiles} of {part.of} tiles, about column {col:.0f}, row {row:.0f}, it lies "
            f"{part.cols:+.2f} columns, {part.rows:+.2f} rows off the rest. Take another scene.")  # fmt: skip
    data |= {"part": {"cols": round(part.cols, 3), "rows": round(part.rows, 3), "tiles": part.tiles}}
    figure, size = f"{part.size_px:.2f} px in a part", part.size_px
    return judged(check, subject.label, size <= most, figure, f"at most {most:g} px", note, size, data=data)


def _tree(alike: Floats) -> list[tuple[int, int]]:
    """Pairs that join all bands by the likest: the maximum spanning tree, parents first.

    Source: R. C. Prim, Shortest connection networks and some generalizations (1957).
    """
    joined, edges = [0], list[tuple[int, int]]()
    while len(joined) < len(alike):
        rest = [band for band in range(len(alike)) if band not in joined]
        one, two = max(((a, b) for a in joined for b in rest), key=lambda pair: alike[pair])
        edges.append((one, two))
        joined.append(two)
    return edges


def _placed(found: dict[tuple[int, int], Shifts], count: int) -> dict[int, Floats]:
    """Where each band lies against the first that others can be held against; bands without evidence are left out."""
    best: dict[int, Floats] = {}
    for root in range(count):
        places = {root: np.zeros(2)}
        for _ in range(count):
            for (one, two), shifts in found.items():
                if shifts.is_sure and one in places and two not in places:
                    places[two] = places[one] + shifts.median
                if shifts.is_sure and two in places and one not in places:
                    places[one] = places[two] - shifts.median
        if len(places) > len(best):
            best = places
    return best


def dates_aligned(subject: Subject) -> list[Finding]:
    """A band against that of the other date, on this product's grid."""
    assert subject.earlier is not None
    label, other = subject.earlier
    names, theirs = ([band.name for band in raster.bands] for raster in (subject.raster, other))
    common = [name for name in names if name in theirs]
    base = next((name for name in _PREFERRED if name in common), common[0])
    laid, place = resampled_to(other, subject.raster.grid), theirs.index(base)
    tiles = subject.sweep.totals["tiles"]
    theirs_there = [spectrum_of(tile_of(laid, window, place)) for window in tiles.windows]
    ours = [spectrum_of(tile) for tile in tiles.of(names.index(base))]
    shifts = between(tiles.windows, theirs_there, ours)
    most, grid = f"at most {subject.limits.dates_px:g} px", subject.raster.grid
    data = {"against": label, "size": [grid.width, grid.height], "shifts": {base: _row(shifts)}}
    part = parted(shifts)
    if part is not None and part.size_px > _most_in_part(subject.limits.dates_px):
        return [_in_part("dates aligned", subject, f"{base} against {label}", part, subject.limits.dates_px, data)]
    if not shifts.is_sure:
        seen = Seen("tiles", len(shifts.vectors), shifts.looked)
        return [not_judged("dates aligned", subject.label, _SAYS_NOTHING, most, seen, data)]
    cols, rows = shifts.median
    note = (f"It lies {cols:+.2f} columns, {rows:+.2f} rows off {label} ({len(shifts.vectors)} tiles, spread "
            f"{shifts.spread_px:.2f} px). [align] in the brief, or 'zoompick align', puts it right.")  # fmt: skip
    return [judged("dates aligned", subject.label, shifts.size_px <= subject.limits.dates_px,
                   f"{shifts.size_px:.2f} px, {base}", most, note, shifts.size_px, data=data)]  # fmt: skip


def _row(shifts: Shifts) -> JsonObject:
    cols, rows = shifts.median
    return {
        "cols": round(cols, 3), "rows": round(rows, 3), "tiles": len(shifts.vectors), "looked": shifts.looked,
        "spread_px": round(shifts.spread_px, 3) if np.isfinite(shifts.spread_px) else None, "sure": shifts.is_sure,
        "vectors": [[round(v, 2) for v in (one.col, one.row, one.cols, one.rows)] for one in shifts.vectors],
    }  # fmt: skip


def _can_shift(subject: Subject) -> bool:
    # What is cut out of another product lies as that does.
    if subject.is_moved or subject.traits.is_cut or subject.traits.holds != "reflectance":
        return False
    if len(subject.seen) < len(subject.raster.bands):
        return False
    return min(subject.raster.grid.width, subject.raster.grid.height) >= _LEAST


def _has_earlier(subject: Subject) -> bool:
    if subject.earlier is None or not _can_shift(subject):
        return False
    theirs = {band.name for band in subject.earlier[1].bands}
    return any(band.name in theirs for band in subject.raster.bands)


_LEAST = 48
_SOURCE = ("C. D. Kuglin, D. C. Hines, The phase correlation image alignment method (1975); H. S. Stone and "
           "others, A fast direct Fourier-based algorithm for subpixel registration of images (2001).")  # fmt: skip

CHECKS: Sequence[Check] = (
    Check("bands-shift", "alignment", "bands aligned", "Reflectances of two bands or more.",
          "Phase correlation of each band with the one it looks most like, over up to 16 tiles, below a pixel by the "
          "slope of the phase; the median counts where a third of the tiles with texture, three at least, agree to "
          "0.35 px. What a band lies off is told against the middle of all.",
          lambda subject: _can_shift(subject) and len(subject.raster.bands) > 1, bands_aligned, _SOURCE, "shift_px"),
    Check("dates-shift", "alignment", "dates aligned", "A product of the same kind of another date.",
          "The same between the two dates, the other laid on this one's grid.",
          _has_earlier, dates_aligned, _SOURCE, "dates_px"),
)  # fmt: skip
