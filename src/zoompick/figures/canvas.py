"""A page of pixels for pictures with a few words and lines: much quicker than a plot for a sheet of many scenes."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from importlib import util
from pathlib import Path
from typing import Any

from zoompick.arrays import Pixels
from zoompick.errors import DataError
from zoompick.files import writing
from zoompick.later import Image, ImageDraw, ImageFont, imagecodecs, np
from zoompick.raster import kernels

_EFFORT = 2


@dataclass(frozen=True, slots=True)
class Box:
    """A rectangle of the page in pixels."""

    left: int
    top: int
    width: int
    height: int


class Canvas:
    """A page; (0, 0) is its upper left corner. Colours are written ``#rrggbb``."""

    def __init__(self, width: int, height: int, colour: str) -> None:
        self._page = np.empty((height, width, 3), np.uint8)
        self._page[...] = rgb(colour)
        self._words: list[tuple[int, int, str, float, bool, str]] = []

    def fill(self, box: Box, colour: str) -> None:
        """Paint a rectangle."""
        self._view(box)[...] = rgb(colour)

    def paste(self, pixels: Pixels, box: Box) -> None:
        """Lay a picture, uint8, shape (rows, cols, 4), scaled into a rectangle, seen through where alpha is 0."""
        small = kernels.resized(pixels, box.height, box.width)
        target, alpha = self._view(box), small[:, :, 3]
        np.copyto(target, small[:, :, :3], where=(alpha == 255)[:, :, None])
        edge = (alpha > 0) & (alpha < 255)
        part = alpha[edge].astype(np.uint16)[:, None]
        target[edge] = ((small[edge][:, :3] * part + target[edge] * (255 - part)) // 255).astype(np.uint8)

    def line(self, points: Pixels, colour: str, width_px: int, box: Box) -> None:
        """Draw a line, shape (n, 2) in pixels of the page, as far as it lies in a rectangle."""
        kernels.draw_line(self._view(box), points - (box.left + 0.5, box.top + 0.5), rgb(colour), width_px)

    def text(self, left: int, base: int, words: str, size_px: float, colour: str, bold: bool = False) -> None:
        """Write words that begin at ``left`` and stand on the line ``base``."""
        self._words.append((left, base, words, size_px, bold, colour))

    def save(self, path: Path) -> None:
        """Write the page as PNG under its name once it is whole."""
        image = Image.fromarray(self._page)
        pen = ImageDraw.Draw(image)
        for left, base, words, size_px, bold, colour in self._words:
            pen.text((left, base), words, fill=colour, font=_font(size_px, bold), anchor="ls")
        data = imagecodecs.png_encode(np.asarray(image), _EFFORT)
        with writing(path) as out:
            out.write(data)

    def _view(self, box: Box) -> Pixels:
        return self._page[box.top : box.top + box.height, box.left : box.left + box.width]


def rgb(colour: str) -> tuple[int, int, int]:
    """A colour, ``#rrggbb``, in numbers."""
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


@cache
def _font(size_px: float, bold: bool) -> Any:
    """The typeface of our plots, found where the plotting library keeps it, without loading that library."""
    found = util.find_spec("matplotlib")
    places = list(found.submodule_search_locations or ()) if found else []
    name = "DejaVuSans-Bold.ttf" if bold else "DejaVuSans.ttf"
    for place in places:
        path = Path(place) / "mpl-data" / "fonts" / "ttf" / name
        if path.is_file():
            return ImageFont.truetype(str(path), size_px)
    raise DataError("The typeface DejaVu Sans is missing.", "Install zoompick again: 'pip install zoompick'.")


def animated(frames: Sequence[Pixels], out: Any, each_ms: int) -> None:
    """Write pictures, uint8 of shape (rows, cols, 3), one after the other for ever, as an animated PNG."""
    first, *others = (Image.fromarray(np.ascontiguousarray(frame)) for frame in frames)
    first.save(out, format="png", save_all=True, append_images=others, duration=each_ms, loop=0)


def jpeg(pixels: Pixels, quality: int) -> bytes:
    """Colours, shape (rows, cols, 3) of 8 bits, as JPEG."""
    buffer = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(pixels)).save(buffer, "JPEG", quality=quality, optimize=True)
    return buffer.getvalue()


def few_colours(pixels: Pixels) -> bytes:
    """Colours, shape (rows, cols, 3) of 8 bits, as PNG of at most 64."""
    buffer = io.BytesIO()
    Image.fromarray(np.ascontiguousarray(pixels)).quantize(64).save(buffer, "PNG", optimize=True)
    return buffer.getvalue()


def smaller_png(path: Path, widest_px: int) -> tuple[bytes, int, int]:
    """A picture no wider than that as PNG of at most 128 colours; its bytes, width and height."""
    with Image.open(path) as opened:
        picture = opened.convert("RGB")
    if picture.width > widest_px:
        picture = picture.resize((widest_px, round(picture.height * widest_px / picture.width)))
    buffer = io.BytesIO()
    picture.quantize(128).save(buffer, "PNG", optimize=True)
    return buffer.getvalue(), picture.width, picture.height
