"""How stored values become shades: where dark and bright lie, and the curve between."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.arrays import Pixels
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.later import np
from zoompick.products.ground import Where
from zoompick.products.stretch import moments, quantiles
from zoompick.products.tone import Tone
from zoompick.raster.raster import Band, Raster

_KNOTS = 65


@dataclass(frozen=True)
class Curve:
    """Straight lines from stored values to shares of the way from dark (0) to bright (1)."""

    values: tuple[float, ...]
    shares: tuple[float, ...]

    @classmethod
    def between(cls, low: float, high: float) -> Curve:
        """One straight line."""
        return cls((low, high), (0.0, 1.0))

    def at(self, values: Pixels) -> Pixels:
        """Shares as float64."""
        return np.asarray(np.interp(np.asarray(values, np.float64), self.values, self.shares))

    def shades(self, values: Pixels, tone: Tone) -> Pixels:
        """Shades from 1 to 255 as float64; what is no number comes out darkest."""
        return tone.shades(self.at(values))

    def to_json(self, band: Band) -> JsonObject:
        """With values as physical ones, so that pictures of other dates can have the same."""
        return {"band": band.name, "values": [value * band.scale + band.offset for value in self.values],
                "shares": list(self.shares)}  # fmt: skip

    @classmethod
    def from_json(cls, told: JsonMap, band: Band) -> Curve:
        """A curve that another picture was made with, in this band's stored values."""
        values = tuple((float(value) - band.offset) / band.scale for value in told["values"])
        return cls(values, tuple(map(float, told["shares"])))


def curves_for(
    raster: Raster,
    bands: Sequence[int],
    tone: Tone,
    mask: Where | None = None,
) -> tuple[Curve, ...]:
    """Measure where dark and bright lie in each band.

    Raises
    ------
    NothingFoundError
        There is no valid pixel.
    """
    if tone.stretch == "sigma":
        found = moments(raster, bands, mask)
        return tuple(
            Curve.between(mean - tone.sigmas * (sd or 0.5), mean + tone.sigmas * (sd or 0.5)) for mean, sd in found
        )
    if tone.stretch in ("equalize", "local"):
        steps = np.linspace(0, 100, _KNOTS)
        return tuple(map(_equal, quantiles(raster, bands, steps.tolist(), mask)))
    ends = (0.0, 100.0) if tone.stretch == "minmax" else (tone.low, tone.high)
    return tuple(
        Curve.between(low, high if high > low else low + 1) for low, high in quantiles(raster, bands, ends, mask)
    )


def _equal(values: Sequence[float]) -> Curve:
    """A curve under which all shades are as frequent: of equal quantiles the last counts."""
    shares = np.linspace(0, 1, len(values))
    kept = dict(zip(values, shares.tolist(), strict=True))
    if len(kept) == 1:
        return Curve.between(values[0], values[0] + 1)
    kept[values[0]] = 0.0
    return Curve(tuple(kept), tuple(kept.values()))
