"""What a person asks of the shades of a picture: its stretch, gamma, brightness, contrast, saturation."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace

from zoompick.arrays import Pixels
from zoompick.errors import UnknownNameError, UsageError
from zoompick.jsontypes import JsonObject
from zoompick.later import np

STRETCHES = ("percentile", "minmax", "sigma", "equalize", "local")
_FORMS = "As 2,98 (percentiles), minmax, sigma=2, equalize or local."


@dataclass(frozen=True)
class Tone:
    """What a person asks for.

    Attributes
    ----------
    stretch : str
        ``percentile`` (dark and bright at two percentiles), ``minmax``, ``sigma`` (mean and so many standard
        deviations to each side), ``equalize`` (each shade has as many pixels), ``local`` (so in neighbourhoods).
    low, high : float
        Percentiles.
    sigmas : float
    gamma : float
        Above 1 lifts what is dark: share ** (1 / gamma).
    brightness : float
        Added to shares, -1 to 1.
    contrast : float
        Factor about the middle shade.
    saturation : float
        1 leaves colours as they come, 0 makes them grey.
    """

    stretch: str = "percentile"
    low: float = 0.5
    high: float = 99.7
    sigmas: float = 2
    gamma: float = 1.8
    brightness: float = 0
    contrast: float = 1
    saturation: float = 1.2

    @classmethod
    def parse(cls, text: str) -> Tone:
        """Read ``2,98``, ``minmax``, ``sigma=2``, ``equalize``, ``local``; the rest is as by default.

        Raises
        ------
        UsageError
            None of them, or percentiles that do not rise.
        """
        word, _, detail = text.partition("=")
        if "," in text:
            try:
                low, high = (float(part) for part in text.split(","))
            except ValueError as error:
                raise UsageError(f"The stretch '{text}' cannot be used.", _FORMS) from error
            if not 0 <= low < high <= 100:
                raise UsageError(f"The stretch '{text}' cannot be used.", "Two rising percentiles, from 0 to 100.")
            return cls(low=low, high=high)
        if word not in STRETCHES[1:]:
            raise UnknownNameError.of("stretch", word, STRETCHES[1:], _FORMS)
        if word != "sigma" or not detail:
            if detail:
                raise UsageError(f"{word} takes no '{detail}'.", _FORMS)
            return cls(stretch=word, gamma=1.0 if word in ("equalize", "local") else cls.gamma)
        try:
            sigmas = float(detail)
        except ValueError as error:
            raise UsageError(f"'{detail}' is no number.", _FORMS) from error
        if not 0 < sigmas < 100:
            raise UsageError(f"{sigmas:g} standard deviations are no stretch.", _FORMS)
        return cls(stretch="sigma", sigmas=sigmas)

    def shaped(self, **given: float | None) -> Tone:
        """With gamma, brightness, contrast or saturation as given; None leaves one as it is.

        Raises
        ------
        UsageError
            Out of range.
        """
        ranges = {"gamma": (0.1, 10.0), "brightness": (-1.0, 1.0), "contrast": (0.0, 10.0), "saturation": (0.0, 5.0)}
        told = {key: float(value) for key, value in given.items() if value is not None}
        for key, value in told.items():
            low, high = ranges[key]
            if not low <= value <= high:
                raise UsageError(f"A {key} of {value:g} cannot be used.", f"From {low:g} to {high:g}.")
        return replace(self, **told)  # type: ignore[arg-type]

    def shades(self, share: Pixels) -> Pixels:
        """Shares of the way from dark to bright as shades from 1 to 255, float64; what is no number is darkest."""
        if self.gamma != 1:
            share = share ** (1 / self.gamma)
        if self.contrast != 1 or self.brightness != 0:
            share = np.clip((share - 0.5) * self.contrast + 0.5 + self.brightness, 0, 1)
        return 1 + np.nan_to_num(share) * 254

    def facts(self) -> JsonObject:
        """As JSON holds them."""
        return asdict(self)
