"""Resampling kernels on arrays: area averaging, bilinear, nearest, majority. All of them know no-data.

A missing pixel never bleeds into its neighbours and never counts as zero: each value is a weighted mean of the
*valid* pixels under it. Positions are given in source pixels with corners at whole numbers.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.later import np, npt
from zoompick.raster import kernels
from zoompick.raster.raster import fill_value, is_whole, valid_mask


@dataclass(frozen=True, slots=True)
class Axis:
    """Where target pixels lie along one axis of the source.

    Target pixel i covers the source from ``start + i * step`` to ``start + (i + 1) * step``.
    """

    start: float
    step: float
    count: int

    def centres(self) -> Pixels:
        """Centres of the target pixels in source pixels."""
        return self.start + (np.arange(self.count) + 0.5) * self.step

    @property
    def stop(self) -> float:
        """End of the last target pixel."""
        return self.start + self.count * self.step


def _working_type(dtype: PixelType) -> type[np.floating[Any]]:
    """float32 holds whole numbers up to 2**24 exactly; larger ones need float64."""
    return np.float32 if dtype.itemsize <= 2 or dtype == np.float32 else np.float64


def finish(values: Pixels, dtype: PixelType, in_range: bool = False, nodata: float | None = None) -> Pixels:
    """Bring working values back to the pixel type: whole numbers are rounded and held in range.

    A half becomes the even number. Means of values cannot leave the range (``in_range``). A result that happens to be
    the no-data value becomes the next value on the side where the true one lies; the caller puts no-data in itself.
    """
    if dtype.kind == "f":
        result = values.astype(dtype, copy=False)
    else:
        result = np.rint(values)
        if not in_range:
            info = np.iinfo(dtype)
            np.clip(result, info.min, info.max, out=result)
        result = result.astype(dtype)
    return result if nodata is None else beside_nodata(result, values, nodata)


def beside_nodata(result: Pixels, true: Pixels, nodata: float) -> Pixels:
    """Values that are the no-data value by chance become the nearest other value towards the true one.

    Parameters
    ----------
    true : ndarray
        What ``result`` was rounded from, of its shape.
    """
    if np.isnan(nodata):
        return result
    hits = result == result.dtype.type(nodata)
    if not hits.any():
        return result
    below, above = _neighbours(nodata, result.dtype)
    result = result if result.flags.writeable else result.copy()
    result[hits] = np.where((true[hits] < nodata) & (below != nodata) | (above == nodata), below, above)
    return result


def _neighbours(nodata: float, dtype: PixelType) -> tuple[Any, Any]:
    """The values of a type below and above one; itself where there is none."""
    if dtype.kind == "f":
        value = dtype.type(nodata)
        return np.nextafter(value, dtype.type(-np.inf)), np.nextafter(value, dtype.type(np.inf))
    info = np.iinfo(dtype)
    return max(info.min, int(nodata) - 1), min(info.max, int(nodata) + 1)


def lies_within(nodata: float | None, dtype: PixelType) -> bool:
    """True when means of other values may come out as the no-data value: it is not the type's least or greatest."""
    if nodata is None or dtype.kind not in "iu":
        return False
    info = np.iinfo(dtype)
    return bool(info.min < nodata < info.max)


def nearest(source: Pixels, rows: Axis, cols: Axis) -> Pixels:
    """Value of the source pixel under each target centre; positions outside take the edge pixel."""
    row = np.clip(np.floor(rows.centres()).astype(int), 0, source.shape[1] - 1)
    col = np.clip(np.floor(cols.centres()).astype(int), 0, source.shape[2] - 1)
    return source[:, row[:, None], col[None, :]]


def _taps(axis: Axis, size: int) -> tuple[Any, Any, Any]:
    """Indices of the two neighbours of each centre and the weight of the second."""
    position = axis.centres() - 0.5
    low = np.floor(position).astype(int)
    weight = position - low
    return np.clip(low, 0, size - 1), np.clip(low + 1, 0, size - 1), weight


def _blend(source: Pixels, rows: tuple[Any, Any, Any], cols: tuple[Any, Any, Any]) -> Pixels:
    """Separable linear interpolation of a (bands, rows, cols) array in its own type."""
    low, high, weight = cols
    weight = weight.astype(source.dtype)
    left = np.take(source, low, axis=2, mode="clip")
    across = np.take(source, high, axis=2, mode="clip")
    across -= left
    across *= weight
    across += left
    low, high, weight = rows
    weight = weight.astype(source.dtype)[:, None]
    top = np.take(across, low, axis=1, mode="clip")
    out = np.take(across, high, axis=1, mode="clip")
    out -= top
    out *= weight
    out += top
    return out


def bilinear(source: Pixels, rows: Axis, cols: Axis, nodata: float | None) -> Pixels:
    """Bilinear interpolation between pixel centres.

    Parameters
    ----------
    source : ndarray, shape (bands, rows, cols)
        Must reach one pixel beyond the target where the raster goes on; at the end the edge value continues.
    nodata : float or None
        Missing neighbours are left out and the others' weights raised; a target pixel is missing when the
        source pixel under its centre is.

    Returns
    -------
    ndarray, shape (bands, rows.count, cols.count), same dtype
    """
    working = _working_type(source.dtype)
    whole = is_whole(source, nodata)
    doubles = _doubles(rows, source.shape[1]) and _doubles(cols, source.shape[2])
    if whole and doubles and kernels.are_fast(source.dtype) and not lies_within(nodata, source.dtype):
        # The commonest case: bands of one instrument at two pixel sizes.
        return _doubled(source, int(rows.start), rows.count, int(cols.start), cols.count)
    row_taps, col_taps = _taps(rows, source.shape[1]), _taps(cols, source.shape[2])
    if whole:
        return finish(_blend(source.astype(working), row_taps, col_taps), source.dtype, True, nodata)
    valid = valid_mask(source, nodata)
    weights = valid.astype(working)
    values = np.where(valid, source, 0).astype(working)
    numerator = _blend(values, row_taps, col_taps)
    denominator = _blend(weights, row_taps, col_taps)
    present = nearest(valid, rows, cols) & (denominator > 0)
    np.divide(numerator, denominator, out=numerator, where=present)
    out = finish(np.where(present, numerator, 0).astype(working, copy=False), source.dtype, True, nodata)
    out[~present] = fill_value(nodata)
    return out


def _doubles(axis: Axis, size: int) -> bool:
    """True when target pixels are halves of pixels of the source."""
    inside = axis.start >= 0 and axis.start + axis.count / 2 <= size
    return axis.step == 0.5 and axis.start == int(axis.start) and axis.count % 2 == 0 and inside


def _doubled(source: Pixels, row: int, rows: int, col: int, cols: int) -> Pixels:
    """Targets that are halves of source pixels, blended with the neighbours that are there."""
    above, before = min(row, 1), min(col, 1)
    part = source[:, row - above : row + rows // 2 + 1, col - before : col + cols // 2 + 1]
    large = kernels.double(part)[:, 2 * above : 2 * above + rows, 2 * before : 2 * before + cols]
    return np.ascontiguousarray(large)


def _overlaps(axis: Axis, size: int) -> Pixels:
    """Matrix (targets, sources) of the length of each source pixel inside each target pixel."""
    starts = axis.start + np.arange(axis.count)[:, None] * axis.step
    pixels = np.arange(size)[None, :]
    overlap = np.minimum(starts + axis.step, pixels + 1) - np.maximum(starts, pixels)
    return np.clip(overlap, 0, None)


def area_average(source: Pixels, rows: Axis, cols: Axis, nodata: float | None) -> Pixels:
    """Mean of the valid source pixels under each target pixel, weighted by the area they share.

    A target pixel is missing when less than half of the ground under it is valid.
    """
    valid = valid_mask(source, nodata)
    numerator = _area_sums(np.where(valid, source, 0), rows, cols)
    covered = _area_sums(valid, rows, cols)
    present = covered >= 0.5 * rows.step * cols.step - 1e-9
    np.divide(numerator, covered, out=numerator, where=present & (covered > 0))
    out = finish(np.where(present, numerator, 0), source.dtype, False, nodata)
    out[~present] = fill_value(nodata)
    return out


def halve(source: Pixels, nodata: float | None) -> Pixels:
    """Mean of each 2 x 2 group of pixels, the step between overviews; sides must be even.

    A pixel is missing when all four are: thin features at the edge of the data stay in the overviews.
    """
    if source.dtype.kind in "iu" and source.dtype.itemsize <= 2:
        return _halve_whole(source, nodata)
    valid = valid_mask(source, nodata)
    total = _sum_of_four(np.where(valid, source, 0), np.float64)
    count = _sum_of_four(valid, np.int32)
    mean = np.divide(total, count, out=np.zeros_like(total), where=count > 0)
    out = finish(mean, source.dtype, False, nodata)
    out[count == 0] = fill_value(nodata)
    return out


def _halve_whole(source: Pixels, nodata: float | None) -> Pixels:
    """Whole numbers of up to 16 bits, rounded half up."""
    is_inside = lies_within(nodata, source.dtype)
    if is_whole(source, nodata) and not is_inside:
        if kernels.are_fast(source.dtype):
            return kernels.halve(source)
        return ((_sum_of_four(source, np.int32) + 2) >> 2).astype(source.dtype)
    if not is_inside and kernels.are_fast(source.dtype):
        quick = kernels.halve_beside(source, int(nodata or 0))
        if quick is not None:
            return quick
    total = _sum_of_four(source, np.int32)
    absent = _sum_of_four(source == nodata, np.int32)
    total -= absent * np.int32(nodata or 0)
    count = 4 - absent
    safe = np.maximum(count, 1)
    out = np.floor_divide(2 * total + safe, 2 * safe).astype(source.dtype)
    if is_inside:
        assert nodata is not None
        out = beside_nodata(out, total / safe, nodata)
    out[count == 0] = source.dtype.type(fill_value(nodata))
    return out


def _sum_of_four(source: Pixels, dtype: npt.DTypeLike) -> Pixels:
    """Sums of 2 x 2 groups; rows first, since their pixels lie together."""
    rows = np.add(source[:, 0::2], source[:, 1::2], dtype=dtype)
    return np.asarray(rows[:, :, 0::2] + rows[:, :, 1::2])


def _area_sums(values: Pixels, rows: Axis, cols: Axis) -> Pixels:
    """Sum of the values under each target pixel, each weighted by the area they share, as float64."""
    down, across = _whole_groups(rows, values.shape[1]), _whole_groups(cols, values.shape[2])
    if not (down and across):
        tall = np.stack([_overlaps(rows, values.shape[1]) @ band for band in values.astype(np.float64)])
        return np.asarray(tall @ _overlaps(cols, values.shape[2]).T)
    row, col = int(rows.start), int(cols.start)
    part = values[:, row : row + down * rows.count, col : col + across * cols.count]
    tall = np.zeros((values.shape[0], rows.count, part.shape[2]))
    for offset in range(down):
        tall += part[:, offset::down]
    out = np.zeros((values.shape[0], rows.count, cols.count))
    for offset in range(across):
        out += tall[:, :, offset::across]
    return out


def _whole_groups(axis: Axis, size: int) -> int:
    """How many source pixels make a target pixel, when they do so without a rest and are all there; else 0."""
    step = round(axis.step)
    fits = axis.step == step and axis.start == int(axis.start) and axis.start >= 0
    return step if fits and axis.start + step * axis.count <= size else 0


def majority(source: Pixels, rows: Axis, cols: Axis, nodata: float | None) -> Pixels:
    """Most frequent valid class by area under each target pixel; the smaller code wins a tie."""
    if _whole_groups(rows, source.shape[1]) == 2 == _whole_groups(cols, source.shape[2]) and source.dtype.kind == "u":
        found = _most_of_four(source, rows, cols, nodata)
        if found is not None:
            return found
    best = np.zeros((source.shape[0], rows.count, cols.count))
    out = np.full(best.shape, fill_value(nodata), source.dtype)
    for code in np.unique(source[valid_mask(source, nodata)]):
        area = _area_sums(source == code, rows, cols)
        wins = area > best + 1e-9
        out[wins] = code
        best[wins] = area[wins]
    return out


def _most_of_four(source: Pixels, rows: Axis, cols: Axis, nodata: float | None) -> Pixels | None:
    """The same for groups of 2 x 2, whose codes are sorted; None where a real code is the largest of the type."""
    row, col = int(rows.start), int(cols.start)
    part = source[:, row : row + 2 * rows.count, col : col + 2 * cols.count]
    if part.size and part.min() == part.max():
        return np.ascontiguousarray(part[:, ::2, ::2])
    top = source.dtype.type(np.iinfo(source.dtype).max)
    if nodata is not None and nodata != top:
        if part.max(initial=0) == top:
            return None
        absent = part == nodata
        part = part.copy()
        kernels.put(part, top, absent)
    elif nodata is None and part.max(initial=0) == top:
        return None
    a, b, c, d = (part[:, down::2, across::2] for down in (0, 1) for across in (0, 1))
    a, b = np.minimum(a, b), np.maximum(a, b)
    c, d = np.minimum(c, d), np.maximum(c, d)
    a, c = np.minimum(a, c), np.maximum(a, c)
    b, d = np.minimum(b, d), np.maximum(b, d)
    b, c = np.minimum(b, c), np.maximum(b, c)
    # Sorted: of two that are alike the smaller wins, and what is missing only where nothing else is there.
    others = a != b
    middle = others & (b == c) & (b != top)
    kernels.put(a, c, others & ~middle & (c == d) & (c != top))
    kernels.put(a, b, middle)
    if nodata is not None and nodata != top:
        kernels.put(a, source.dtype.type(nodata), a == top)
    return a
