"""Bytes of a TIFF block into pixels: codec, then predictor.

Deflate, LZW, zstd, PackBits or plain, with the horizontal or floating-point predictor. What is of another kind, the
directory gives a decoder for.
Source: TIFF 6.0 (sections 9, 13, 14), TIFF Technical Note 3 (floating-point predictor).
"""

from __future__ import annotations

from zoompick.arrays import Pixels
from zoompick.later import imagecodecs, np
from zoompick.raster import kernels
from zoompick.raster.coded import Coding

HORIZONTAL, FLOATING = 2, 3
ZSTD = 50000
_PLAIN = 1
_CODECS = {
    5: "lzw_decode", 8: "deflate_decode", 32946: "deflate_decode", 32773: "packbits_decode", ZSTD: "zstd_decode",
}  # fmt: skip


def can_decode(compression: int) -> bool:
    """True for the numbers of TIFF tag 259 that are decoded here."""
    return compression == _PLAIN or compression in _CODECS


def decoded(coding: Coding, data: bytes, shape: tuple[int, int, int]) -> Pixels:
    """Pixels of a block, shape (bands, rows, cols).

    Parameters
    ----------
    shape : tuple of int
        Rows, columns and bands that lie together.

    Raises
    ------
    RuntimeError, ValueError, TypeError
        The block does not decode, or holds too little.
    """
    pixels = np.empty(shape, coding.stored)
    _decompress(coding.compression, data, pixels.reshape(-1).view(np.uint8))
    if coding.predictor == FLOATING:
        pixels = imagecodecs.floatpred_decode(pixels.view(coding.dtype), axis=-2)
    else:
        pixels = pixels.astype(coding.dtype, copy=False)
        if coding.predictor == HORIZONTAL:
            pixels = imagecodecs.delta_decode(pixels, axis=-2, out=pixels)
    if shape[2] == 1:
        return np.asarray(pixels).reshape(1, shape[0], shape[1])
    return kernels.apart(np.asarray(pixels))


def _decompress(compression: int, data: bytes, out: Pixels) -> None:
    """Fill ``out`` with what ``data`` holds; ValueError when that is too little, so a cut block never passes."""
    if compression == _PLAIN:
        if len(data) < out.size:
            raise ValueError(f"{len(data)} bytes where {out.size} are expected")
        out[:] = np.frombuffer(data, np.uint8, count=out.size)
        return
    got = getattr(imagecodecs, _CODECS[compression])(data, out=out)
    if len(got) < out.size:
        raise ValueError(f"{len(got)} bytes where {out.size} are expected")
