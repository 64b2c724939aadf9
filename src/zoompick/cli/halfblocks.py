"""Pictures in a terminal in true colour: two pixels a character cell."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zoompick.later import np

if TYPE_CHECKING:
    from zoompick.discovery.look import Picture


def half_blocks(picture: Picture, columns: int) -> list[str]:
    """The picture as lines of coloured half blocks, two pixels a character cell, for a terminal in true colour."""
    pixels = picture.pixels
    rows = max(2, round(pixels.shape[0] / pixels.shape[1] * columns / 2) * 2)
    row = (np.arange(rows) + 0.5) * pixels.shape[0] / rows
    col = (np.arange(columns) + 0.5) * pixels.shape[1] / columns
    small = pixels[row.astype(int)[:, None], col.astype(int)[None, :]]
    lines = []
    for top, bottom in zip(small[0::2], small[1::2], strict=True):
        cells = []
        for upper, lower in zip(top, bottom, strict=True):
            cells.append(_cell(tuple(map(int, upper)), tuple(map(int, lower))))
        lines.append("".join(cells) + "\x1b[0m")
    return lines


def _cell(upper: tuple[int, ...], lower: tuple[int, ...]) -> str:
    if not upper[3] and not lower[3]:
        return "\x1b[0m "
    if not lower[3]:
        return "\x1b[0m\x1b[38;2;{};{};{}m▀".format(*upper[:3])
    if not upper[3]:
        return "\x1b[0m\x1b[38;2;{};{};{}m▄".format(*lower[:3])
    return "\x1b[38;2;{};{};{}m\x1b[48;2;{};{};{}m▀".format(*upper[:3], *lower[:3])
