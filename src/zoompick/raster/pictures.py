"""Pictures as the web sends them, PNG, JPEG and WebP, as planes of 8 bits; known by how they begin."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import imagecodecs
import numpy as np

from zoompick.errors import DataError
from zoompick.raster import kernels
from zoompick.raster.raster import Pixels

_OPAQUE = 255
_DECODERS: dict[bytes, Callable[[bytes], Any]] = {
    b"\x89PNG": imagecodecs.png_decode,
    b"\xff\xd8\xff": imagecodecs.jpeg8_decode,
    b"RIFF": imagecodecs.webp_decode,
}


def colours_of(data: bytes) -> Pixels:
    """Red, green, blue and opacity of a picture, uint8, shape (4, rows, cols); grey is repeated, 16 bits become 8.

    Raises
    ------
    DataError
        It does not decode.
    """
    decode = next((decoder for head, decoder in _DECODERS.items() if data.startswith(head)), None)
    try:
        if decode is None:
            raise ValueError(f"it begins with {data[:8]!r}")
        picture = np.asarray(decode(data))
    except (RuntimeError, ValueError) as error:
        raise DataError(f"It cannot be decoded: {error}.", "Fetch it again.") from error
    if picture.ndim == 2:
        picture = picture[:, :, np.newaxis]
    if picture.dtype == np.uint16:
        picture = (picture >> 8).astype(np.uint8)
    planes = kernels.apart(picture)
    out = np.empty((4, *planes.shape[1:]), np.uint8)
    out[:3] = planes[:3] if len(planes) >= 3 else planes[:1]
    out[3] = planes[-1] if len(planes) in (2, 4) else _OPAQUE
    return out
