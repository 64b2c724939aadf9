"""Percentiles along many layers, pixel by pixel, by a network of minima and maxima, which works on whole arrays.

Source of the network: K. E. Batcher, Sorting networks and their applications, AFIPS Spring Joint Computer Conference
(1968), odd-even merging.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cache

from zoompick.arrays import Pixels
from zoompick.later import np
from zoompick.raster import kernels


def ranked(layers: list[Pixels], count: Pixels, percentile: float) -> Pixels:
    """A percentile along layers, of which in each pixel only the ``count`` smallest are values.

    Parameters
    ----------
    layers : list of ndarray, shape (rows, cols)
        What is missing holds the largest value of the type.

    Returns
    -------
    ndarray of float64
        0 where nothing counts.
    """
    layers = list(layers)
    for low, high in network(len(layers)):
        smaller = np.minimum(layers[low], layers[high])
        layers[high] = np.maximum(layers[low], layers[high])
        layers[low] = smaller
    out = np.zeros(count.shape)
    for number in np.unique(count):
        if number == 0:
            continue
        place = (int(number) - 1) * percentile / 100
        low = int(place)
        share = place - low
        values = layers[low].astype(np.float64)
        if share:
            with np.errstate(invalid="ignore"):
                values += (layers[low + 1].astype(np.float64) - values) * share
        np.copyto(out, values, where=count == number)
    return out


@cache
def network(size: int) -> tuple[tuple[int, int], ...]:
    """Pairs of places to be put in order, so that all ``size`` are sorted."""
    return tuple(pair for pair in _merge_sort(1 << max(0, size - 1).bit_length()) if max(pair) < size)


def _merge_sort(size: int) -> Iterator[tuple[int, int]]:
    """Batcher's odd-even merge sort of a power of two."""
    p = 1
    while p < size:
        k = p
        while k >= 1:
            for j in range(k % p, size - k, 2 * k):
                for i in range(min(k, size - j - k)):
                    if (i + j) // (2 * p) == (i + j + k) // (2 * p):
                        yield i + j, i + j + k
            k //= 2
        p *= 2


def middle(layers: Sequence[Pixels], seen: Sequence[Pixels], end: int) -> Pixels:
    """The median along layers of whole numbers; of an even count the mean of both, a half to the even number.

    What is missing goes by turns below and above all values, so that the median of what is left lies in the middle of
    all, whatever their count: two places of the order are enough.

    Parameters
    ----------
    layers : sequence of ndarray, shape (rows, cols)
        Left as they are; what is missing holds ``end``.
    seen : sequence of ndarray of bool
        Where each layer holds a value.
    end : int
        The least or the greatest value of the type.

    Returns
    -------
    ndarray, of the type of the layers
        Of no meaning where nothing counts.
    """
    dtype = layers[0].dtype
    turns = np.full(layers[0].shape, end == np.iinfo(dtype).min)
    placed = []
    for layer, there in zip(layers, seen, strict=True):
        missing = ~there
        # Each end of the range is the other with all its bits turned.
        turned = (missing & turns).astype(dtype)
        np.negative(turned, out=turned)
        np.bitwise_xor(turned, layer, out=turned)
        placed.append(turned)
        turns ^= missing
    if len(placed) == 1:
        return placed[0]
    one = (len(placed) - 1) // 2
    two = one + 1 if len(placed) % 2 == 0 else one - 1
    spare = np.empty_like(placed[0])
    for low, high, keeps_low, keeps_high in _towards(len(placed), frozenset((one, two))):
        if keeps_low and keeps_high:
            np.minimum(placed[low], placed[high], out=spare)
            np.maximum(placed[low], placed[high], out=placed[high])
            placed[low], spare = spare, placed[low]
        elif keeps_low:
            np.minimum(placed[low], placed[high], out=placed[low])
        else:
            np.maximum(placed[low], placed[high], out=placed[high])
    lower, upper = placed[one], placed[two]
    # Turned once for each that is missing: of an odd count one place tells the median.
    missing_is_odd = turns if end != np.iinfo(dtype).min else ~turns
    is_single = missing_is_odd if len(placed) % 2 == 0 else ~missing_is_odd
    kernels.put(upper, lower, is_single)
    differ = lower ^ upper
    mean = (lower & upper) + (differ >> 1)
    mean += mean & differ & 1
    return mean


@cache
def _towards(size: int, places: frozenset[int]) -> tuple[tuple[int, int, bool, bool], ...]:
    """The pairs of the network that decide some places, and which of both values of each pair is needed."""
    needed, found = set(places), []
    for low, high in reversed(network(size)):
        keeps = low in needed, high in needed
        if any(keeps):
            found.append((low, high, *keeps))
            needed |= {low, high}
    return tuple(reversed(found))
