"""Pictures as the web sends them, PNG, JPEG and WebP, as planes of 8 bits; known by how they begin."""

from __future__ import annotations

import struct

from zoompick.arrays import Pixels
from zoompick.errors import DataError
from zoompick.later import imagecodecs, np
from zoompick.raster import kernels

_OPAQUE = 255
_MOST_PIXELS = 1 << 26
"""Some kilobytes can unpack to gigabytes."""
_DECODERS = {b"\x89PNG": "png_decode", b"\xff\xd8\xff": "jpeg8_decode", b"RIFF": "webp_decode"}


def size_of(data: bytes) -> tuple[int, int]:
    """Rows and columns as the header of a picture tells them; zeros where it tells none.

    Source: PNG (ISO/IEC 15948), 11.2.2; JPEG (ITU-T T.81), B.2.2; WebP container (RFC 9649), 2.5 to 2.7.
    """
    if data.startswith(b"\x89PNG") and len(data) >= 24:
        cols, rows = struct.unpack_from(">2I", data, 16)
        return rows, cols
    if data.startswith(b"\xff\xd8"):
        return _size_of_jpeg(data)
    if data.startswith(b"RIFF") and len(data) >= 30:
        kind = data[12:16]
        if kind == b"VP8X":
            return int.from_bytes(data[27:30], "little") + 1, int.from_bytes(data[24:27], "little") + 1
        if kind == b"VP8L":
            packed = int.from_bytes(data[21:25], "little")
            return (packed >> 14 & 0x3FFF) + 1, (packed & 0x3FFF) + 1
        cols, rows = struct.unpack_from("<2H", data, 26)
        return rows & 0x3FFF, cols & 0x3FFF
    return 0, 0


def _size_of_jpeg(data: bytes) -> tuple[int, int]:
    at = 2
    while at + 9 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if 0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC):
            rows, cols = struct.unpack_from(">2H", data, at + 5)
            return rows, cols
        if marker == 0xFF:
            at += 1
        elif marker == 0x01 or 0xD0 <= marker <= 0xD8:
            at += 2
        else:
            at += 2 + max(2, int.from_bytes(data[at + 2 : at + 4], "big"))
    return 0, 0


def colours_of(data: bytes) -> Pixels:
    """Red, green, blue and opacity of a picture, uint8, shape (4, rows, cols); grey is repeated, 16 bits become 8.

    Raises
    ------
    DataError
        It does not decode, or would be larger than any picture of a scene.
    """
    decode = next((decoder for head, decoder in _DECODERS.items() if data.startswith(head)), None)
    rows, cols = size_of(data)
    if rows * cols > _MOST_PIXELS:
        raise DataError(f"It says that it has {cols} x {rows} pixels: no picture of a scene is that large.", "")
    try:
        if decode is None:
            raise ValueError(f"it begins with {data[:8]!r}")
        picture = np.asarray(getattr(imagecodecs, decode)(data))
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
