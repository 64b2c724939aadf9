"""The only door to OpenCV: inner kernels on blocks without a missing pixel.

Those for 8 and 16 bits give to the last digit what the plain NumPy way gives, several times as fast (the tests
hold both against one another). OpenCV's own threads stay off: our workers call these side by side.
"""

from __future__ import annotations

from functools import cache
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.later import cv2, np

_FRACTION, _FAR = 4, 1 << 24
_RUN = 1 << 20
"""Squares of so many 16-bit values add up to less than 2**52, and a double is exact up to 2**53."""


@cache
def _cv2() -> Any:
    cv2.setNumThreads(1)
    return cv2


def are_fast(dtype: PixelType) -> bool:
    """True for the pixel types that these kernels take."""
    return dtype.kind == "u" and dtype.itemsize <= 2


_MOST_CHANNELS = 512


def _can_mix(dtype: PixelType, count: int) -> bool:
    plain = (dtype.kind in "ui" and dtype.itemsize <= 4) or (dtype.kind == "f" and dtype.itemsize >= 4)
    return plain and dtype.isnative and 1 < count <= _MOST_CHANNELS


def together(pixels: Pixels) -> Pixels:
    """Bands, shape (bands, rows, cols), laid pixel by pixel: shape (rows, cols, bands), contiguous."""
    if not _can_mix(pixels.dtype, len(pixels)):
        return np.ascontiguousarray(np.moveaxis(pixels, 0, 2))
    return np.asarray(_cv2().merge([np.ascontiguousarray(band) for band in pixels]))


def apart(picture: Pixels) -> Pixels:
    """The bands of pixels that lie together, shape (rows, cols, bands): shape (bands, rows, cols), contiguous."""
    if not _can_mix(picture.dtype, picture.shape[2]):
        return np.ascontiguousarray(np.moveaxis(picture, 2, 0))
    out = np.empty((picture.shape[2], *picture.shape[:2]), picture.dtype)
    _cv2().split(np.ascontiguousarray(picture), list(out))
    return out


def extremes(band: Pixels) -> tuple[float, float]:
    """Smallest and largest value of a band, shape (rows, cols), of a type that is fast and not empty."""
    low, high, _, _ = _cv2().minMaxLoc(band)
    return low, high


def beside(band: Pixels, nodata: int) -> tuple[int, tuple[float, float] | None]:
    """Count and extremes of the values of a band, shape (rows, cols), that are not the no-data value."""
    cv2 = _cv2()
    there = (band != nodata).view(np.uint8)
    count = cv2.countNonZero(there)
    if not count:
        return 0, None
    low, high, _, _ = cv2.minMaxLoc(band, there)
    return count, (low, high)


def counted(band: Pixels) -> tuple[int, Pixels]:
    """How often each value is in a band of at most 2**24 pixels: the smallest value, and counts from there on."""
    low, high = (int(value) for value in extremes(band))
    counts = _cv2().calcHist([np.ascontiguousarray(band)], [0], None, [high - low + 1], [low, high + 1])
    return low, counts.ravel().astype(np.int64)


def put(out: Pixels, values: Pixels | float, where: Pixels) -> None:
    """Put values, or one, into ``out`` where a mask of bool is set; all of one shape.

    Several times as fast as NumPy's way, where pixels are taken here and there.
    """
    if not isinstance(values, np.ndarray):
        values = np.full(out.shape, values, out.dtype)
    flat = out.reshape(-1, out.shape[-1]) if out.flags.c_contiguous else out
    if flat.ndim != 2 or not flat.size or not _can_mix(out.dtype, 2) or values.dtype != out.dtype:
        np.copyto(out, values, where=where)
        return
    mask = np.ascontiguousarray(where).view(np.uint8).reshape(flat.shape)
    _cv2().copyTo(np.ascontiguousarray(values).reshape(flat.shape), mask, flat)


def looked_up(table: Pixels, band: Pixels) -> Pixels:
    """For each value of a band its entry in a table with one for every value of its type."""
    return np.asarray(_cv2().LUT(np.ascontiguousarray(band), table.reshape(1, -1)))


def sums(values: Pixels) -> tuple[int, int]:
    """Exact sum and sum of squares of flat, contiguous values."""
    cv2 = _cv2()
    total = of_squares = 0
    for start in range(0, values.size, _RUN):
        run = values[start : start + _RUN]
        total += round(cv2.sumElems(run)[0])
        of_squares += round(cv2.norm(run, cv2.NORM_L2SQR))
    return total, of_squares


def halve_beside(source: Pixels, nodata: int) -> Pixels | None:
    """Like :func:`halve` where pixels are missing, of groups in which none or all are; None where others are many.

    No-data is the type's least or greatest value, so that no mean of others is it by chance.
    """
    absent = source == nodata
    rows_any, rows_all = absent[:, 0::2] | absent[:, 1::2], absent[:, 0::2] & absent[:, 1::2]
    some = rows_any[:, :, 0::2] | rows_any[:, :, 1::2]
    some &= ~(rows_all[:, :, 0::2] & rows_all[:, :, 1::2])
    band, row, col = np.nonzero(some)
    if band.size > _MOST_MIXED * some.size:
        return None
    out = halve(source)
    group = [source[band, 2 * row + down, 2 * col + right].astype(np.int32) for down in (0, 1) for right in (0, 1)]
    count = sum((one != nodata).astype(np.int32) for one in group)
    total = sum(np.where(one != nodata, one, 0) for one in group)
    out[band, row, col] = np.floor_divide(2 * total + count, 2 * count).astype(source.dtype)
    return out


_MOST_MIXED = 0.05


def halve(source: Pixels) -> Pixels:
    """Mean of each 2 x 2 group, rounded half up; shape (bands, rows, cols), sides even."""
    cv2 = _cv2()
    out = np.empty((source.shape[0], source.shape[1] // 2, source.shape[2] // 2), source.dtype)
    for band, small in zip(source, out, strict=True):
        cv2.resize(np.ascontiguousarray(band), small.shape[::-1], dst=small, interpolation=cv2.INTER_AREA)
    return out


def double(source: Pixels) -> Pixels:
    """Bilinear at twice the resolution, a half rounded to the even number; shape (bands, rows, cols).

    Weights are sixteenths, which a float32 holds exactly beside 16 bits, so nothing is lost before the rounding.
    The pixels along the edge continue the edge value.
    """
    cv2 = _cv2()
    out = np.empty((source.shape[0], 2 * source.shape[1], 2 * source.shape[2]), source.dtype)
    for band, large in zip(source, out, strict=True):
        if source.dtype == np.uint16:
            cv2.resize(np.ascontiguousarray(band), large.shape[::-1], dst=large, interpolation=cv2.INTER_LINEAR)
            continue
        # Of 8 bits OpenCV keeps too few digits of the weights.
        smooth = cv2.resize(band.astype(np.float32), large.shape[::-1], interpolation=cv2.INTER_LINEAR)
        np.copyto(large, np.rint(smooth, out=smooth), casting="unsafe")
    return out


FRACTION = 512
"""Positions are whole numbers of so many parts of a pixel: 32 bits hold them up to 16,384 pixels, wherever they count
from, so that a pixel is the same in every window."""
_TABLE = 32
"""Wide kernels come out of a table with so many steps a pixel."""


def single(positions: Pixels, first: int = 0) -> Pixels:
    """Positions in 32 bits, in whole parts of a pixel, counted from a pixel; those in 32 bits are so already."""
    if positions.dtype == np.float32:
        return positions
    parts = positions - first
    parts *= FRACTION
    np.rint(parts, out=parts)
    parts *= 1 / FRACTION
    return parts.astype(np.float32)


def remap_linear(band: Pixels, cols: Pixels, rows: Pixels) -> Pixels:
    """Bilinear values of a float band at positions (pixel centres at whole numbers); the edge value goes on.

    The library is exact on 32-bit floats; for 64 bits it has no more than a table of 32 steps a pixel, so that these
    are gathered here.
    """
    if band.dtype == np.float64:
        return _linear_of_doubles(band, cols, rows)
    cv2 = _cv2()
    source = np.ascontiguousarray(band)
    places = single(cols), single(rows)
    return np.asarray(cv2.remap(source, *places, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))


def _linear_of_doubles(band: Pixels, cols: Pixels, rows: Pixels) -> Pixels:
    height, width = band.shape
    flat, left, top = np.ascontiguousarray(band).ravel(), np.floor(cols), np.floor(rows)
    right, down = cols - left, rows - top
    col = [np.clip(left + step, 0, width - 1).astype(np.intp) for step in (0, 1)]
    row = [np.clip(top + step, 0, height - 1).astype(np.intp) * width for step in (0, 1)]
    above, below = (
        np.take(flat, start + col[0]) * (1 - right) + np.take(flat, start + col[1]) * right for start in row
    )
    return np.asarray(above * (1 - down) + below * down)


def remap_wide(band: Pixels, cols: Pixels, rows: Pixels, name: str) -> Pixels:
    """Values of a float band at positions by a wider kernel, ``cubic`` or ``lanczos``; the edge value goes on.

    Between the steps of the library's table values are interpolated. What 32 bits cannot hold beside large values is
    kept by taking their middle off first.
    """
    cv2 = _cv2()
    how = {"cubic": cv2.INTER_CUBIC, "lanczos": cv2.INTER_LANCZOS4}[name]
    middle = float(np.median(band[:: max(1, len(band) // _SAMPLED)])) if band.dtype == np.float64 else 0.0
    single = np.ascontiguousarray(band - middle, np.float32) if middle else np.ascontiguousarray(band, np.float32)
    low = [np.floor(one * _TABLE) / _TABLE for one in (cols, rows)]
    shares = [((one - start) * _TABLE) for one, start in zip((cols, rows), low, strict=True)]
    total = np.zeros(np.shape(cols))
    for down, right in ((0, 0), (0, 1), (1, 0), (1, 1)):
        places = [(start + step / _TABLE).astype(np.float32) for start, step in zip(low, (right, down), strict=True)]
        weight = (shares[0] if right else 1 - shares[0]) * (shares[1] if down else 1 - shares[1])
        total += weight * cv2.remap(single, *places, how, borderMode=cv2.BORDER_REPLICATE)
    return total + middle


_SAMPLED = 64


_NEAREST_TYPES = ("uint8", "uint16", "int16", "float32")


def remap_nearest(band: Pixels, cols: Pixels, rows: Pixels) -> Pixels:
    """Values of the pixels nearest to positions; the edge value goes on."""
    # In the middle between two pixels the later one counts, in every window.
    places = [single(one) + np.float32(0.5 / FRACTION) for one in (cols, rows)]
    if band.dtype in _NEAREST_TYPES:
        cv2 = _cv2()
        near = cv2.remap(np.ascontiguousarray(band), *places, cv2.INTER_NEAREST, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(near)
    col, row = (np.clip(np.rint(one).astype(np.int32), 0, size - 1)
                for one, size in zip(places, band.shape[::-1], strict=True))  # fmt: skip
    return band[row, col]


def resized(pixels: Pixels, rows: int, cols: int) -> Pixels:
    """A uint8 picture, shape (rows, cols, channels), of another size.

    Averaged where it shrinks much, bilinear where it shrinks a little, repeated where it grows.
    """
    cv2 = _cv2()
    factor = min(pixels.shape[0] / rows, pixels.shape[1] / cols)
    how = cv2.INTER_AREA if factor > 1.5 else cv2.INTER_LINEAR if factor >= 1 else cv2.INTER_NEAREST
    return cv2.resize(np.ascontiguousarray(pixels), (cols, rows), interpolation=how)


def draw_line(picture: Pixels, points: Pixels, colour: tuple[int, int, int], width_px: int) -> None:
    """Draw a smooth line into a uint8 picture, shape (rows, cols, 3); what lies beyond its edges is cut off.

    Parameters
    ----------
    points : float, shape (n, 2)
        Column and row, 0 at the middle of the first pixel.
    """
    cv2 = _cv2()
    fixed = np.rint(np.clip(points, -_FAR, _FAR) * (1 << _FRACTION)).astype(np.int32)
    canvas = np.ascontiguousarray(picture)
    cv2.polylines(canvas, [fixed[:, None, :]], False, colour, width_px, cv2.LINE_AA, _FRACTION)
    picture[...] = canvas


def saturated(picture: Pixels, saturation: float) -> Pixels:
    """Colours, uint8 of shape (3, rows, cols), further from the grey of the same brightness, or nearer to it."""
    cv2 = _cv2()
    mix = np.full((3, 3), (1 - saturation) / 3) + saturation * np.eye(3)
    return apart(np.asarray(cv2.transform(together(picture), mix)))


def distance(mask: Pixels) -> Pixels:
    """For each pixel of a mask that is set, how many pixels away the nearest is that is not; 0 for the others.

    Infinite where all are set.
    """
    if mask.all():
        return np.full(mask.shape, np.inf, np.float32)
    cv2 = _cv2()
    return np.asarray(cv2.distanceTransform(np.ascontiguousarray(mask, np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE))
