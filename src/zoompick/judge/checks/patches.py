"""Blocks of one value where the ground varies: what a decoder or a lost packet leaves behind."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from zoompick.arrays import Mask, Pixels
from zoompick.judge.subject import Check, Subject
from zoompick.later import ndimage, np
from zoompick.scenes.finding import Finding, judged

_LEAST, _MOST_SHARE, _RING = 8, 0.3, 0.9


class _Patch(NamedTuple):
    """A rectangle of the sample in which a band has one value."""

    rows: slice
    cols: slice
    value: float


def patches(subject: Subject) -> list[Finding]:
    """Rectangles of one value in each band, with other values all around."""
    sample, limit = subject.sweep.totals["sample"], "none"
    found: list[tuple[str, _Patch]] = []
    for place in subject.seen:
        valid = sample.each_valid[place]
        name = subject.raster.bands[place].name
        found += [(name, one) for one in flat_patches(sample.pixels[place], valid)]
    step = sample.step
    told = [
        f"{(one.cols.stop - one.cols.start) * step} x {(one.rows.stop - one.rows.start) * step} px of {name} at "
        f"column {one.cols.start * step}, row {one.rows.start * step}"
        for name, one in found
    ]
    note = (f"{told[0]} hold the value {found[0][1].value:g} alone, as a block does that was lost or not decoded. "
            "Look at it with 'zoompick picture', and take another file.") if found else ""  # fmt: skip
    figure = f"{len(found)} blocks" if len(found) != 1 else "1 block"
    return [judged("no blank blocks", subject.label, not found, figure if found else "none", limit, note,
                   float(len(found)), bad="warn", data={"blocks": told[:_MOST_TOLD]})]  # fmt: skip


_MOST_TOLD = 20


def flat_patches(values: Pixels, valid: Mask) -> Iterator[_Patch]:
    """Rectangles of one value, 8 x 8 and more of a sample, shape (rows, cols), with other values all around.

    Where much of a band is made of such rectangles it is coarse or a picture of areas, and none is odd.
    """
    if min(values.shape) < 2 * _LEAST:
        return
    # A window is of one value where its least and its greatest are one; by the pixel in its upper left corner.
    starts = (_over(values, np.minimum) == _over(values, np.maximum)) & _over(valid, np.logical_and)
    if not starts.any():
        return
    labels, _ = ndimage.label(starts)
    found, area = list[_Patch](), 0
    for label, part in enumerate(ndimage.find_objects(labels), 1):
        own = labels[part] == label
        rows, cols = (slice(one.start, one.stop + _LEAST - 1) for one in part)
        patch = _Patch(rows, cols, float(values[rows, cols][0, 0]))
        area += int(own.sum())
        if own.all() and _is_alone(values, valid, patch):
            found.append(patch)
    if area <= _MOST_SHARE * valid.sum():
        yield from found


def _over(values: Pixels, joined: np.ufunc) -> Pixels:
    """What 8 x 8 pixels come to, for each that has so many to its right and below."""
    for step in (1, 2, 4):
        values = joined(values[:, :-step], values[:, step:])
        values = joined(values[:-step], values[step:])
    return values


def _is_alone(values: Pixels, valid: Mask, patch: _Patch) -> bool:
    """True where the ring about a rectangle lies in the picture, and holds other values."""
    top, left = patch.rows.start - 1, patch.cols.start - 1
    if top < 0 or left < 0 or patch.rows.stop >= values.shape[0] or patch.cols.stop >= values.shape[1]:
        return False
    ring = np.ones((patch.rows.stop - top + 1, patch.cols.stop - left + 1), bool)
    ring[1:-1, 1:-1] = False
    around = (slice(top, patch.rows.stop + 1), slice(left, patch.cols.stop + 1))
    other = valid[around][ring] & (values[around][ring] != patch.value)
    return bool(other.mean() >= _RING) and len(np.unique(values[around][ring])) >= _LEAST


CHECKS: Sequence[Check] = (
    Check("patches", "values", "no blank blocks", "Bands that hold no classes.",
          "On a sample: rectangles of 8 x 8 sampled pixels and more that hold one value, with others all around.",
          lambda subject: bool(subject.seen), patches),
)  # fmt: skip
