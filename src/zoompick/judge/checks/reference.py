"""The product against a file that the user trusts."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.jsontypes import JsonObject
from zoompick.judge.shifts import between, spectrum_of, tile_of, tiles_over
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

_LEAST_PX, _SHOWN = 100, 4000


def against(subject: Subject) -> list[Finding]:
    """Bias, RMSE and correlation of each band that both have, and how far it is shifted."""
    assert subject.reference is not None
    label, other = subject.reference
    pairs = _common(subject.raster, other)
    if not pairs:
        ours, theirs = (", ".join(band.name for band in raster.bands) for raster in (subject.raster, other))
        note = f"{label} has {theirs}, this has {ours}: no band of one name. Give a reference with the same bands."
        return [judged("as the reference", subject.label, False, "no band in common", "one at least", note)]
    laid = resampled_to(other, subject.raster.grid)
    rows = {}
    for one, two in pairs:
        rows[subject.raster.bands[one].name] = _compared(subject.raster, laid, one, two)
    told = {name: row for name, row in rows.items() if row is not None}
    if not told:
        note = f"{label} shows none of the same ground. Give a reference that overlaps."
        return [judged("as the reference", subject.label, False, "no ground in common", "some", note)]
    worst = max(told, key=lambda name: abs(told[name]["bias_percent"]))
    row, limit = told[worst], subject.limits.bias
    figure = f"bias {row['bias_percent']:+.1f} %, RMSE {row['rmse']:.4g}, r {row['correlation']:.3f} ({worst})"
    note = (f"{worst} is {row['bias_percent']:+.1f} % off {label} on average: units, date or atmosphere differ. "
            "Compare scale and offset, and the dates.")  # fmt: skip
    found = [
        judged(
            "as the reference",
            subject.label,
            abs(row["bias_percent"]) <= limit,
            figure,
            f"bias at most {limit:g} %",
            note,
            row["bias_percent"],
            data={"reference": label, "bands": told},
        )
    ]
    return [*found, _shifted(subject, laid, pairs[0], label)]


def _common(own: Raster, other: Raster) -> list[tuple[int, int]]:
    theirs = [band.name for band in other.bands]
    found = [(place, theirs.index(band.name)) for place, band in enumerate(own.bands) if band.name in theirs]
    return found or ([(0, 0)] if len(own.bands) == len(other.bands) == 1 else [])


def _compared(own: Raster, laid: Raster, one: int, two: int) -> JsonObject | None:
    """Figures of a band in physical values, over all pixels that both have."""
    count, sums, shown = 0, np.zeros(5), []
    ours, theirs = own.bands[one], laid.bands[two]
    for window in own.grid.tiles(512):
        first, second = own.read(window, (one,))[0], laid.read(window, (two,))[0]
        there = valid_mask(first, own.nodata) & valid_mask(second, laid.nodata)
        if not there.any():
            continue
        x = second[there].astype(np.float64) * theirs.scale + theirs.offset
        y = first[there].astype(np.float64) * ours.scale + ours.offset
        count += x.size
        sums += [x.sum(), y.sum(), (x * x).sum(), (y * y).sum(), (x * y).sum()]
        shown.append(np.stack([x, y])[:, :: max(1, x.size // 64)])
    if count < _LEAST_PX:
        return None
    mean_x, mean_y, xx, yy, xy = sums / count
    deviations = max(xx - mean_x**2, 0) * max(yy - mean_y**2, 0)
    points = np.concatenate(shown, axis=1)
    points = points[:, :: max(1, points.shape[1] // _SHOWN)]
    return {
        "pixels": count, "bias": mean_y - mean_x, "bias_percent": 100 * (mean_y - mean_x) / max(abs(mean_x), 1e-9),
        "rmse": float(np.sqrt(max(xx - 2 * xy + yy, 0))),
        "correlation": (xy - mean_x * mean_y) / np.sqrt(deviations) if deviations else 0.0,
        "points": np.round(points, 5).tolist(),
    }  # fmt: skip


def _shifted(subject: Subject, laid: Raster, pair: tuple[int, int], label: str) -> Finding:
    windows = tiles_over(subject.raster.grid)
    theirs = [spectrum_of(tile_of(laid, window, pair[1])) for window in windows]
    ours = [spectrum_of(tile_of(subject.raster, window, pair[0])) for window in windows]
    found = between(windows, theirs, ours)
    limit = subject.limits.dates_px
    if not found.is_sure:
        reason = f"Too few of {found.looked} tiles agree on where it lies."
        return not_judged("reference place", subject.label, reason, f"at most {limit:g} px",
                          Seen("tiles", len(found.vectors), found.looked))  # fmt: skip
    cols, rows = found.median
    note = f"It lies {cols:+.2f} columns, {rows:+.2f} rows off {label}: 'zoompick align' puts it right."
    return judged("reference place", subject.label, found.size_px <= limit, f"{found.size_px:.2f} px",
                  f"at most {limit:g} px", note, found.size_px)  # fmt: skip


CHECKS: Sequence[Check] = (
    Check("reference", "reference", "as the reference", "A file that you trust: --reference FILE.",
          "Bias, RMSE and correlation of bands of one name, in physical values, over all pixels that both have; "
          "shift by phase correlation.", lambda subject: subject.reference is not None, against, limit="bias"),
)  # fmt: skip
