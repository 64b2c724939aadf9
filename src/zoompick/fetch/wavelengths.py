"""Bands named by wavelength: the nearest of those that the files have, within reach."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from zoompick.errors import UsageError
from zoompick.fetch.bands import bands_of
from zoompick.sensors.guide import guides

_PATTERN = re.compile(r"(?i)(\d+(?:\.\d+)?)(um|µm|nm)")
_REACH = 0.06
"""Share of a wavelength by which a band's centre may lie beside it: about the half width of broad bands."""


def is_wavelength(word: str) -> bool:
    """True for ``0.66um`` or ``850nm``."""
    return bool(_PATTERN.fullmatch(word.strip()))


def named(words: Sequence[str], files: Sequence[Path]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Names of bands in place of wavelengths, and a sentence for each that was taken.

    Raises
    ------
    UsageError
        No band of the files lies near a wavelength; the nearest are told.
    """
    have, sure = _known(files)
    found, told = [], []
    for word in words:
        match = _PATTERN.fullmatch(word.strip())
        if match is None:
            found.append(word)
            continue
        wanted = float(match[1]) / (1000 if match[2].lower() == "nm" else 1)
        near = sorted(have, key=lambda name: abs(have[name] - wanted))
        if not near or abs(have[near[0]] - wanted) > _REACH * wanted:
            listed = ", ".join(f"{name} {have[name]:g} µm" for name in near[:3]) or "none is known"
            raise UsageError(f"No band lies near {word}.", f"The nearest: {listed}.")
        found.append(near[0])
        guess = "" if near[0] in sure else " (as bands of that name mostly are; its file tells none)"
        told.append(f"{word} is {near[0]}, {have[near[0]]:g} µm{guess}.")
    return tuple(found), tuple(told)


def _known(files: Sequence[Path]) -> tuple[dict[str, float], set[str]]:
    """Wavelengths of the files' bands, and the names of those that their file or guide tells.

    The others are as guides tell of bands of that name.
    """
    by_name = {band.name: band.wavelength_um for guide in reversed(guides()) for band in guide.bands}
    have: dict[str, float] = {}
    sure: set[str] = set()
    for path in files:
        for one in bands_of(str(path)).bands:
            wavelength = one.wavelength_um or by_name.get(one.layer.name)
            if wavelength:
                have.setdefault(one.layer.name, wavelength)
            if one.wavelength_um:
                sure.add(one.layer.name)
    return have, sure
