"""What Lapwing sees of the ground: reflectance by cover, season and light, then clouds, haze, blur and noise."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

import numpy as np
import scipy.ndimage

from zoompick.standin import weather
from zoompick.standin.covers import BANDS, Cover, spectra
from zoompick.standin.noise import Field, hashed, smoothstep
from zoompick.standin.passes import Pass
from zoompick.standin.weather import Sky
from zoompick.standin.world import Layers

SLUICE_REBUILT = datetime(2025, 9, 1, tzinfo=UTC)
"""From this day the fen's water stands higher."""
_FEN_THRESHOLD_OLD, _FEN_THRESHOLD_NEW = 0.62, -0.22
_GRAIN = {
    Cover.SAND: 0.06, Cover.GRAVEL: 0.13, Cover.PASTURE: 0.07, Cover.FIELD: 0.05, Cover.HEDGE: 0.10,
    Cover.BROADLEAF: 0.17, Cover.CONIFER: 0.20, Cover.HEATH: 0.12, Cover.UPLAND: 0.11, Cover.ROCK: 0.15,
    Cover.FEN: 0.08, Cover.ROOF: 0.16, Cover.GARDEN: 0.14, Cover.ROAD: 0.05, Cover.SALTMARSH: 0.12,
}  # fmt: skip
_CLOUD = np.array([0.66, 0.66, 0.65, 0.64, 0.65, 0.66, 0.50, 0.38], np.float32)
_HAZE = np.array([1.0, 0.85, 0.62, 0.46, 0.40, 0.30, 0.10, 0.06], np.float32)
_AIR = np.array([0.022, 0.014, 0.007, 0.004, 0.003, 0.002, 0.0, 0.0], np.float32)
_NOISE = np.array([0.0012, 0.0012, 0.0013, 0.0014, 0.0020, 0.0028, 0.0022, 0.0020], np.float32)
_SKYLIGHT = np.array([0.42, 0.36, 0.27, 0.21, 0.18, 0.14, 0.08, 0.07], np.float32)


@dataclass(frozen=True)
class Seen:
    """What covers the ground, each an array of bool, shape (rows, cols)."""

    water: Any
    thin: Any
    thick: Any
    shaded: Any


@dataclass(frozen=True)
class View:
    """A scene's ground in world pixels.

    Attributes
    ----------
    reflectance : float32, shape (bands, rows, cols)
    seen : Seen
    """

    reflectance: Field
    seen: Seen


def seen_in(ground: Layers, sky: Sky, when: datetime) -> Seen:
    """Water, cloud and shadow, without a look at any band."""
    thick = sky.opacity >= weather.THICK
    thin = (sky.opacity >= weather.THIN) & ~thick
    return Seen(_water(ground, when), thin, thick, (sky.shadow > 0.45) & ~thick & ~thin)


def _water(ground: Layers, when: datetime) -> Any:
    """Where the ground is under water: sea, lake and river, and what of the fen is flooded."""
    kinds = np.zeros(256, bool)
    kinds[[Cover.SEA, Cover.LAKE, Cover.RIVER]] = True
    water = kinds[ground.cover]
    low = (ground.cover == Cover.FEN) | (ground.cover == Cover.DITCH)
    water[low] = _flooded(ground.wet[low], when) > 0.5
    return water


def look(seen: Pass, ground: Layers, sky: Sky) -> View:
    """What the sensor sees of a piece of the world, before its pixels average it."""
    surface = _surface(ground, seen.when)
    light = _light(ground, seen)
    cloud, shade = sky.opacity, sky.shadow
    seen_band = np.empty_like(surface)
    bright = cloud * (0.82 + 0.30 * cloud + 0.05 * np.asarray(ground.patch, np.float32))
    sunlit, free = light * (1 - 0.92 * shade), 1 - cloud
    for band in range(len(BANDS)):
        veil = seen.haze * _HAZE[band]
        lit = surface[band] * (sunlit * ((1 - _SKYLIGHT[band]) * (1 - veil)) + _SKYLIGHT[band] * (1 - veil))
        lit += 0.5 * veil + _AIR[band]
        seen_band[band] = lit * free + _CLOUD[band] * bright
    return View(seen_band, seen_in(ground, sky, seen.when))


def _season(when: datetime) -> float:
    """Days since 1 November before ``when``."""
    start = datetime(when.year if when.month >= 11 else when.year - 1, 11, 1, tzinfo=UTC)
    return (when - start).total_seconds() / 86400


def _bell(day: Any, peak: Any, width: float) -> Any:
    return np.exp(-(((day - peak) / width) ** 2))


def _mix(first: str, second: str, part: Any) -> Field:
    """Two materials by share of the second, shape (bands, pixels)."""
    table = spectra()
    low, high = table[first][:, None], table[second][:, None]
    return np.asarray(low + (high - low) * np.asarray(part, np.float32)[None, :], np.float32)


def _surface(ground: Layers, when: datetime) -> Field:
    """Reflectance of the ground (bands, rows, cols)."""
    flat = ground.flat
    cover = flat.cover
    out = np.zeros((len(BANDS), cover.size), np.float32)
    # Pixels by cover: one sort in place of a look at all of them for each layer of each cover.
    order = np.argsort(cover, kind="stable")
    ends = np.cumsum(np.bincount(cover))
    for code in np.flatnonzero(np.bincount(cover)).tolist():
        where = order[ends[code - 1] if code else 0 : ends[code]]
        pixels = _Pixels(flat, where, when)
        values = _PAINT[Cover(code)](pixels)
        grain = _GRAIN.get(Cover(code), 0.0)
        if grain:
            values *= np.clip(1 + grain * pixels.texture, 0.35, 2)
        for band, row in zip(out, values, strict=True):
            band[where] = row
    return out.reshape(len(BANDS), *ground.cover.shape)


def _threshold(when: datetime) -> float:
    """Wetness from which the fen is under water; a dry late summer lowers the water a little."""
    level = _FEN_THRESHOLD_NEW if when >= SLUICE_REBUILT else _FEN_THRESHOLD_OLD
    return level + 0.0012 * max(0.0, _season(when) - 60)


def _flooded(wet: Any, when: datetime) -> Any:
    """Share of each pixel under water."""
    threshold = _threshold(when)
    return smoothstep(wet.astype(np.float32), threshold - 0.03, threshold + 0.10)


class _Pixels:
    """The pixels of one cover, as flat arrays: what its paint asks for comes from the layers, which are flat too."""

    def __init__(self, ground: Layers, where: Any, when: datetime) -> None:
        self._ground, self._where, self._when = ground, where, when
        self.day = _season(when)
        self.year = (when.year if when.month >= 11 else when.year - 1) % 100

    def _layer(self, name: str) -> Any:
        return getattr(self._ground, name)[self._where]

    @cached_property
    def texture(self) -> Field:
        """Fine grain."""
        return np.asarray(self._layer("texture"), np.float32)

    @cached_property
    def patch(self) -> Field:
        """Broad patches."""
        return np.asarray(self._layer("patch"), np.float32)

    @cached_property
    def plot(self) -> Any:
        """Number of the field or garden."""
        return self._layer("plot")

    @property
    def depth(self) -> Field:
        """Metres of sea."""
        return np.asarray(self._layer("depth"), np.float32)

    @property
    def silt(self) -> Field:
        """Mud in the water."""
        return np.asarray(self._layer("silt"), np.float32)

    @cached_property
    def flooded(self) -> Any:
        """Share under water."""
        return _flooded(self._layer("wet"), self._when)

    @property
    def moist(self) -> Any:
        """How near the ground is to being flooded."""
        threshold = _threshold(self._when)
        return smoothstep(np.asarray(self._layer("wet"), np.float32), threshold - 0.9, threshold)

    @property
    def lush(self) -> Any:
        """How green grass is: spring growth, then drying, more slowly where the ground is moist."""
        spring = 0.40 + 0.55 * _bell(self.day, 30 + 6 * self.patch, 62)
        return np.clip(spring + 0.10 * self.patch + 0.03 * self.texture, 0.05, 1)

    def mottle(self, number: int, amount: float) -> Any:
        """A shade that differs from plot to plot."""
        return 1 + amount * (hashed(self.plot, number) / 32767.5 - 1).astype(np.float32)


def _sea(p: _Pixels) -> Field:
    table = spectra()
    shallow = np.exp(-p.depth / 5.0)[None, :]
    mud = (0.75 * p.silt)[None, :]
    base = table["sea"][:, None] * (1 - shallow) + table["shallow"][:, None] * shallow
    values = base * (1 - mud) + table["silt"][:, None] * mud
    values = values * (1 + 0.04 * p.texture + 0.05 * p.patch)
    surf = (p.depth < 0.9) & (p.texture > 0.9)
    values[:, surf] += 0.5 * table["foam"][:, None]
    return np.asarray(values, np.float32)


def _grass(p: _Pixels) -> Field:
    return _mix("drygrass", "grass", np.clip(p.lush * p.mottle(1, 0.22), 0, 1)) * p.mottle(2, 0.08)


def _field(p: _Pixels) -> Field:
    """Crops by plot and year: cereal that ripens in January, roots that close in January, hay cut twice, fallow."""
    kind = (hashed(p.plot, 5).astype(int) + p.year) % 5
    shift = (hashed(p.plot, 6) / 65535.0 * 34 - 17).astype(np.float32)
    day = p.day + shift
    cereal_green = _bell(day, 18, 38)
    ripe = smoothstep(day, 35, 75) * (1 - smoothstep(day, 92, 104))
    root = smoothstep(day, 42, 88) * (1 - 0.5 * smoothstep(day, 112, 150))
    hay = np.clip(0.92 - 0.65 * _bell(day, 46, 13) - 0.6 * _bell(day, 98, 13), 0, 1)
    early = _mix("soil", "crop", np.where(kind <= 1, cereal_green, np.where(kind == 2, root, 0.12)))
    late = _mix("soil", "ripe", ripe)
    share = np.where(kind <= 1, smoothstep(day, 30, 60), 0)[None, :]
    values = early * (1 - share) + late * share
    meadow = kind == 3
    values[:, meadow] = _mix("drygrass", "crop", hay[meadow])
    fallow = kind == 4
    values[:, fallow] = _mix("soil", "grass", np.clip(0.45 + 0.3 * p.patch[fallow] + 0.2 * p.texture[fallow], 0, 1))
    return np.asarray(values * p.mottle(8, 0.16), np.float32)


def _fen(p: _Pixels) -> Field:
    cut = (hashed(p.plot, 9) % 7 == 0) & (p.flooded < 0.5)
    green = np.clip(0.25 + 0.55 * p.lush + 0.25 * p.moist - 0.45 * cut, 0, 1)
    dry = _mix("drypeat", "reed", green * p.mottle(3, 0.25))
    wet = spectra()["peatwater"][:, None]
    share = (0.94 * p.flooded * (1 - 0.25 * (p.texture > 1.4)))[None, :]
    return np.asarray(dry * (1 - share) + wet * share, np.float32)


def _ditch(p: _Pixels) -> Field:
    return _mix("reed", "peatwater", np.clip(0.55 + 0.4 * p.flooded, 0, 1))


def _wood(name: str, floor: float) -> Any:
    def paint(p: _Pixels) -> Field:
        shade = 1 + 0.10 * p.patch
        return np.asarray(_mix(name, "grass", np.full(p.patch.shape, floor)) * shade[None, :], np.float32)

    return paint


def _two(first: str, second: str, part: Any) -> Any:
    return lambda p: _mix(first, second, np.clip(part(p), 0, 1))


def _roof(p: _Pixels) -> Field:
    slate = (hashed(p.plot, 4) % 3 == 0).astype(np.float32)
    return np.asarray(_mix("roof", "slate", slate) * p.mottle(5, 0.22), np.float32)


_PAINT: dict[Cover, Any] = {
    Cover.SEA: _sea,
    Cover.LAKE: _two("lake", "silt", lambda p: 0.05 + 0.03 * p.patch),
    Cover.RIVER: _two("lake", "silt", lambda p: 0.62 + 0.05 * p.texture),
    Cover.SAND: _two("sand", "gravel", lambda p: 0.25 + 0.2 * p.patch),
    Cover.GRAVEL: _two("gravel", "sand", lambda p: 0.2 + 0.2 * p.texture),
    Cover.PASTURE: _grass,
    Cover.FIELD: _field,
    Cover.HEDGE: _wood("broadleaf", 0.25),
    Cover.BROADLEAF: _wood("broadleaf", 0.05),
    Cover.CONIFER: _wood("conifer", 0.03),
    Cover.HEATH: _two("heath", "heather", lambda p: 0.5 + 0.4 * p.patch),
    Cover.UPLAND: _two("drygrass", "heath", lambda p: 0.45 + 0.3 * p.patch + 0.1 * p.texture),
    Cover.ROCK: _two("rock", "heath", lambda p: 0.35 + 0.25 * p.patch + 0.15 * p.texture),
    Cover.FEN: _fen,
    Cover.DITCH: _ditch,
    Cover.ROOF: _roof,
    Cover.GARDEN: _two("grass", "broadleaf", lambda p: 0.4 + 0.35 * p.texture),
    Cover.ROAD: _two("road", "grass", lambda p: np.full(p.patch.shape, 0.12)),
    Cover.SALTMARSH: _two("marsh", "drygrass", lambda p: 0.3 + 0.3 * p.patch + 0.2 * p.texture),
}


def _light(ground: Layers, seen: Pass) -> Field:
    """Sunlight on sloping ground relative to flat ground.

    Source: cosine of the incidence angle as in B. K. P. Horn, Hill shading and the reflectance map (1981), damped
    as the diffuse light of the sky damps it.
    """
    east, north, up = seen.sun.vector
    p, q = ground.slope_x.astype(np.float32), ground.slope_y.astype(np.float32)
    incidence = (up - p * east + q * north) / np.sqrt(1 + p * p + q * q)
    return np.asarray(np.clip(incidence / up, 0.12, 1.8) ** 0.85, np.float32)


def blurred(band: Field, pixel_m: float) -> Field:
    """The lens spreads each point over about half a pixel (Gaussian)."""
    return np.asarray(scipy.ndimage.gaussian_filter(band, 0.55 * math.sqrt(pixel_m / 8), truncate=3), np.float32)


def noise(rng: np.random.Generator, shape: tuple[int, ...], band: int) -> Field:
    """Noise of the detector in reflectance."""
    return np.asarray(rng.standard_normal(shape, np.float32) * _NOISE[band], np.float32)
