"""Shadows that a class layer calls clear, found on the side of its clouds that lies away from the sun."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from helpers import Memory, grid
from zoompick.judge.checks.classes import classes_fit
from zoompick.judge.checks.shade import shade_of
from zoompick.raster.raster import Band
from zoompick.sensors.classes import ClassTable

SHAPE, PIXEL_M = (420, 500), 20.0
TABLE = ClassTable(fill=frozenset({0}), clear=frozenset({1}), shadow=frozenset({3}), cloud=frozenset({9}))


def scene(seed: int, azimuth: float, away_m: float = 700, has_lake: bool = False):
    """Near infrared and codes of ground with fields, clouds, and their shadows where the sun throws them."""
    rng = np.random.default_rng(seed)

    def blobs(size: float, share: float) -> np.ndarray:
        field = ndimage.gaussian_filter(rng.standard_normal(SHAPE), size, mode="wrap")
        return field > np.quantile(field, 1 - share)

    cloud = blobs(9, 0.06)
    ground = 0.25 + 0.12 * blobs(14, 0.5) + 0.02 * rng.standard_normal(SHAPE)
    lake = blobs(25, 0.06) if has_lake else np.zeros(SHAPE, bool)
    ground[lake] = 0.03
    turn = np.radians(azimuth)
    shadow = ndimage.shift(cloud.astype(float), (away_m / PIXEL_M * np.cos(turn), -away_m / PIXEL_M * np.sin(turn)),
                           order=0) > 0.5  # fmt: skip
    shadow &= ~cloud
    ground = np.where(shadow, ground * 0.35, ground)
    return np.where(cloud, 0.7, ground), cloud, shadow, lake


@pytest.mark.parametrize("azimuth", [30, 57, 135, 190, 280, 350])
def test_shadows_called_clear_are_found_wherever_the_sun_stands(azimuth):
    for seed in range(6):
        values, cloud, _, _ = scene(seed, azimuth)
        found = shade_of(values, cloud, ~cloud, azimuth, (PIXEL_M, PIXEL_M))
        assert found.is_shadow and found.away_m == pytest.approx(700, abs=120), (seed, found)


def test_honest_layers_are_hardly_ever_accused():
    """Of 60 scenes, a third with lakes that are called clear, none."""
    told = []
    for seed in range(60):
        azimuth = 6.0 * seed
        values, cloud, shadow, _ = scene(seed, azimuth, has_lake=seed % 3 == 0)
        found = shade_of(values, cloud, ~cloud & ~shadow, azimuth, (PIXEL_M, PIXEL_M))
        told += [seed] if found is not None and found.is_shadow else []
    assert told == []


def test_pixels_may_be_longer_than_wide():
    values, cloud, _, _ = scene(1, 60)
    found = shade_of(values[:, ::2], cloud[:, ::2], ~cloud[:, ::2], 60, (2 * PIXEL_M, PIXEL_M))
    assert found.is_shadow and found.away_m == pytest.approx(700, abs=120)


def test_the_finding_tells_distance_and_cure():
    values, cloud, shadow, _ = scene(2, 57)
    place = grid(SHAPE[1], SHAPE[0], PIXEL_M)
    nir = Memory((values / 0.0001).round().astype("uint16")[None], place, 0, (Band("nir", 0.0001),))
    for codes, outcome in (
        (np.where(cloud, 9, np.where(shadow, 3, 1)), "pass"), (np.where(cloud, 9, 1), "warn")
    ):  # fmt: skip
        layer = Memory(codes.astype("uint8")[None], place, 0, (Band("classes", is_class=True),))
        [found] = [one for one in classes_fit({"nir": nir}, layer, TABLE, "s", 57) if one.check == "shadows called"]
        assert found.outcome == outcome, found
    assert "m from clouds, away from the sun" in found.note and "--grow" in found.note
    assert not [one for one in classes_fit({"nir": nir}, layer, TABLE, "s") if one.check == "shadows called"]
