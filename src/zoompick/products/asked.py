"""What a brief asks to be made, as values."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.products.extras import Extra


@dataclass(frozen=True, kw_only=True)
class Asked:
    """What products are asked for, and how they are made.

    Attributes
    ----------
    mix_scenes : bool
        Where scenes fill each other's gaps each band does so by itself; else a pixel is of one scene.
    align_to : str
        Day on which the others are laid: ``first``, ``last``, a date; empty to leave all where they are.
    align_each : bool
        Each band is moved by itself.
    composites_of, indices_of : str
        What they are made of: ``clip``, or the name of a mask that is applied.
    stretch : str
        Percentiles, ``2,98``, or the words for another stretch.
    extras : tuple of Extra
        Products that may be asked for several times: masks, mosaics, blends, comparisons, pictures.
    """

    bands: tuple[str, ...]
    mix_scenes: bool
    align_to: str
    align_band: str
    align_limit_px: float
    align_each: bool
    touch: bool
    composites: tuple[str, ...]
    composites_of: str
    stretch: str
    gamma: float
    saturation: float
    brightness: float
    contrast: float
    indices: tuple[str, ...]
    indices_of: str
    extras: tuple[Extra, ...] = ()
