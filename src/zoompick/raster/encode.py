"""Pixels of a tile into the bytes of a TIFF block: predictor, then codec, in buffers that are used again."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from zoompick.arrays import Pixels, PixelType
from zoompick.later import imagecodecs, np
from zoompick.raster import cog, kernels
from zoompick.raster.codec import BY_TILE, PICTURE_ONLY
from zoompick.raster.coded import CodedBlock, Coding
from zoompick.raster.decode import decoded

Block = bytes | memoryview
_MOST_CONSTANTS = 1000
_HORIZONTAL, _FLOATING, _PLANE = 2, 3, 2
_LOOKS_BACK = 1 << 15
"""Bytes over which deflate finds what it has met before (RFC 1951, section 2): so many of a tile are tried."""
_FAST, _MIDDLE, _HARD = 1, 4, 6
_SAVES, _SAVES_MUCH = 1.006, 1.06
"""What a harder effort has to save of the bytes to be worth its time; ``benchmarks/effort.py`` measures tiles."""
_NOISY, _EMPTY, _MOST_ROWS = 0.45, 0.1, 24
"""Shares of the bytes that the least effort leaves: more of noisy floats, less of what holds next to nothing."""


@dataclass(frozen=True)
class Encoder:
    """How tiles are encoded; safe to use from several threads.

    Attributes
    ----------
    effort : int
        Level of the codec, or its quality; ``BY_TILE`` with deflate: what each tile is worth.
    """

    dtype: PixelType
    compression: str
    effort: int
    error: float = 0.0
    _local: threading.local = field(default_factory=threading.local, repr=False, compare=False)
    _constants: dict[tuple[float, int], bytes] = field(default_factory=dict, repr=False, compare=False)

    def __reduce__(self) -> tuple[Any, ...]:
        return Encoder, (self.dtype, self.compression, self.effort, self.error)

    @property
    def predictor(self) -> int:
        """Horizontal for whole numbers, floating-point for floats; none where nothing is compressed."""
        if self.compression in ("none", "jpeg", "webp", "lerc"):
            return 1
        return _FLOATING if self.dtype.kind == "f" else _HORIZONTAL

    def encode(self, pixels: Pixels) -> Block:
        """The block of pixels, shape (bands, rows, cols); several bands lie together pixel by pixel.

        It may lie in a buffer that is used again: it holds until the same thread encodes the next.
        """
        image = pixels[0][:, :, np.newaxis] if len(pixels) == 1 else kernels.together(pixels)
        if self.predictor == _HORIZONTAL:
            image = imagecodecs.delta_encode(image, axis=-2, out=self._scratch("predicted", image.shape, image.dtype))
        elif self.predictor == _FLOATING:
            image = imagecodecs.floatpred_encode(np.ascontiguousarray(image), axis=-2)
        if self.compression == "none":
            return image.tobytes()
        if self.compression == "jpeg":
            # Chroma at half the resolution, as the directory tells (TIFF 6.0, section 21; Technical Note 2).
            return bytes(imagecodecs.jpeg8_encode(image, self.effort, colorspace="RGB", subsampling="420"))
        if self.compression == "webp":
            return bytes(imagecodecs.webp_encode(image, self.effort, lossless=False))
        if self.compression == "lerc":
            return bytes(imagecodecs.lerc_encode(image[..., 0] if image.shape[2] == 1 else image, self.error))
        level = () if self.compression == "lzw" else (self._worth(image) if self.effort == BY_TILE else self.effort,)
        # Noise may grow: LZW spends 12 bits on a byte it has not met, the others a few bytes a block.
        room = self._scratch("encoded", (2 * image.nbytes + 4096,), np.dtype(np.uint8))
        return memoryview(getattr(imagecodecs, f"{self.compression}_encode")(image, *level, out=room))

    def _worth(self, image: Pixels) -> int:
        """Effort that a predicted tile deserves, from some rows of its middle: noise packs as well with the least."""
        middle, half = image.shape[0] // 2, max(1, min(_MOST_ROWS, _LOOKS_BACK // image[0].nbytes) // 2)
        rows = np.ascontiguousarray(image[max(0, middle - half) : middle + half])
        room = self._scratch("sampled", (2 * rows.nbytes + 4096,), np.dtype(np.uint8))

        def size(level: int) -> int:
            return len(imagecodecs.deflate_encode(rows, level, out=room))  # type: ignore[arg-type]

        fast = size(_FAST)
        if fast <= _EMPTY * rows.nbytes:
            return _HARD
        if self.dtype.kind == "f" and fast > _NOISY * rows.nbytes:
            return _FAST
        middling = size(_MIDDLE)
        if fast <= _SAVES * middling:
            return _FAST
        return _MIDDLE if middling <= _SAVES_MUCH * size(_HARD) else _HARD

    def constant(self, value: Any, side: int) -> bytes:
        """The block of a tile of one value; made once."""
        known = self._constants.get((float(value), side))
        if known is None:
            known = bytes(self.encode(np.full((1, side, side), value, self.dtype)))
            if len(self._constants) < _MOST_CONSTANTS:
                self._constants[float(value), side] = known
        return known

    @property
    def loses(self) -> bool:
        """True when what is read back is not quite what was written: a mask then tells what is missing."""
        return self.compression in PICTURE_ONLY

    def seen(self, block: Block, side: int = 0, bands: int = 1) -> Pixels:
        """What readers will see of a block, shape (bands, rows, cols); with a codec without loss, its sizes are told.

        Source of the codec: the LERC specification, version 2 (bounded error for each pixel).
        """
        if not (self.loses or self.compression == "lerc"):
            coding = Coding(cog.COMPRESSION[self.compression], self.predictor, self.dtype.newbyteorder("<"))
            return decoded(coding, bytes(block), (side, side, bands))
        if self.compression == "lerc":
            found = np.asarray(imagecodecs.lerc_decode(bytes(block)))
            return found[np.newaxis] if found.ndim == _PLANE else kernels.apart(found)
        if self.compression == "jpeg":
            return kernels.apart(np.asarray(imagecodecs.jpeg8_decode(bytes(block), outcolorspace="RGB")))
        return kernels.apart(np.asarray(imagecodecs.webp_decode(bytes(block), hasalpha=False)))

    def mask(self, valid: Pixels) -> bytes:
        """The block of a mask, True where a pixel is there; rows begin at bytes."""
        return bytes(imagecodecs.deflate_encode(np.packbits(valid, axis=1).tobytes(), 6))

    def is_there(self, block: Block, side: int) -> Pixels:
        """What a mask's block tells, shape (rows, cols)."""
        packed = np.frombuffer(imagecodecs.deflate_decode(bytes(block)), np.uint8).reshape(side, -1)
        return np.unpackbits(packed, axis=1, count=side).astype(bool)

    def passes(self, block: CodedBlock) -> bool:
        """True when encoding the pixels anew would gain nothing: same coding, pressed at least as hard.

        The header of a deflated block tells how hard it was pressed, for this very question. Source: RFC 1950,
        section 2.2, FLEVEL.
        """
        coding = block.coding
        if self.compression != "deflate" or coding.compression not in cog.DEFLATES:
            return False
        same = coding.predictor == self.predictor and coding.stored == self.dtype.newbyteorder("<")
        # What a hostile file hides behind a block's end is not spread.
        is_small = len(block.data) <= block.pixels.nbytes
        return same and is_small and _pressed(block.data) >= self._pressing

    @cached_property
    def _pressing(self) -> int:
        return _pressed(imagecodecs.deflate_encode(b"", max(self.effort, _FAST)))

    def _scratch(self, use: str, shape: tuple[int, ...], dtype: PixelType) -> Pixels:
        """An array of this thread, made once: fresh pages for every tile would cost a tenth of the codec's time."""
        held = getattr(self._local, use, None)
        if held is None or held.shape != shape or held.dtype != dtype:
            held = np.empty(shape, dtype)
            setattr(self._local, use, held)
        return np.asarray(held)


def _pressed(data: bytes | bytearray) -> int:
    """How hard a deflated block was pressed, 0 to 3."""
    return data[1] >> 6
