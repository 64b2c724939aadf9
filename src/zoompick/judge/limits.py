"""What a study holds its products to, unless its brief says otherwise."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

from zoompick.errors import UnknownNameError, UsageError


@dataclass(frozen=True, slots=True)
class Limits:
    """Limits of checks, by the names that they have in ``[verify]`` of a brief.

    Attributes
    ----------
    valid, cloud : float
        Percent of the area: valid pixels at least, cloud at most.
    cloud_differs : float
        Percent between the cloud in the area and what the scenes tell of themselves.
    hole : float
        Percent of the area: the largest patch without pixels.
    shift_px, dates_px : float
        Between bands of a product, and between products of two dates.
    negative, saturated, odd : float
        Percent of a band's pixels: below zero, at the end of the type, beyond what ground reflects.
    seam : float
        Step of brightness along a seam, in steps between neighbours beside it.
    days, sun_deg, view_deg : float
        Between the scenes of one product: dates, sun elevation, off-nadir angle.
    sun_low_deg : float
        Sun elevation at least.
    bias : float
        Of a reference: mean difference at most, in percent of its mean.
    """

    valid: float = 98
    cloud: float = 10
    cloud_differs: float = 40
    hole: float = 5
    shift_px: float = 0.4
    dates_px: float = 0.6
    negative: float = 2
    saturated: float = 1
    odd: float = 1
    seam: float = 3
    days: float = 31
    sun_deg: float = 15
    view_deg: float = 20
    sun_low_deg: float = 15
    bias: float = 5

    def given(self, texts: tuple[str, ...]) -> Limits:
        """Limits with some told as ``shift_px=0.3``.

        Raises
        ------
        UsageError
        """
        told: dict[str, float] = {}
        for text in texts:
            name, sign, value = (part.strip() for part in text.partition("="))
            if name not in _NAMES:
                raise UnknownNameError.of("limit", name, _NAMES)
            try:
                told[name] = float(value)
            except ValueError:
                told[name] = float("nan")
            if not (sign and 0 <= told[name] < float("inf")):
                raise UsageError(f"The limit {text!r} cannot be used.", "As shift_px=0.3.")
        return replace(self, **told)


_NAMES = [entry.name for entry in fields(Limits)]
