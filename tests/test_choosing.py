"""Choosing scenes: exact covers against brute force, constraints, rules, pairs."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
import shapely

from zoompick.discovery import choosing as rules
from zoompick.discovery import cover
from zoompick.discovery.cover import CoverOptions
from zoompick.errors import UnknownNameError
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import geojson_of
from zoompick.geo.sizes import area_km2
from zoompick.scenes.scene import Scene

AREA = shapely.box(-12.1, -38.65, -12.0, -38.6)
DAY = datetime(2025, 12, 15, 11, tzinfo=UTC)


def made(number: int, ground, days: float = 0, **told) -> Scene:
    when = (DAY + timedelta(days=days)).strftime("%Y-%m-%dT%H:%M:%SZ")
    properties = {"datetime": when, "platform": "lapwing-a", "eo:cloud_cover": 0.0} | told
    item = {"id": f"s{number}", "collection": "c", "properties": properties, "geometry": geojson_of(ground)}
    return Scene.from_item(item, "x")


def at(number: int, west: float, width: float = 0.05, days: float = 0, **told) -> Scene:
    return made(number, shapely.box(west, -38.7, west + width, -38.5), days, **told)


def ids(found) -> set[str]:
    return {scene.id for scene in found.scenes}


def random_scenes(seed: int) -> list[Scene]:
    rng = np.random.default_rng(seed)
    found = []
    for number in range(9):
        west, south = rng.uniform(-12.13, -12.02), rng.uniform(-38.68, -38.62)
        ground = shapely.box(west, south, west + rng.uniform(0.03, 0.09), south + rng.uniform(0.03, 0.07))
        found.append(made(number, ground, rng.uniform(0, 40), **{"eo:cloud_cover": float(rng.integers(0, 60))}))
    return found


def cost_of(scenes, pieces, wish) -> float:
    total = 0.0
    for number, scene in scenes:
        ground = sum(p.size_km2 for p in pieces if number in p.scenes)
        total += wish.scene_cost + (wish.cloud_cost * scene.cloud_percent if ground else 0)
        total += wish.day_cost * abs((scene.when - wish.near).total_seconds()) / 86400
    return total


@pytest.mark.parametrize("seed", range(6))
def test_the_cover_is_the_cheapest_there_is(seed):
    scenes, wish = random_scenes(seed), CoverOptions(near=DAY)
    pieces = cover.pieces_of(AREA, [scene.footprint for scene in scenes])
    assert sum(piece.size_km2 for piece in pieces) == pytest.approx(area_km2(AREA), rel=1e-3)
    found = cover.choose_cover(AREA, scenes, wish)
    need = [piece for piece in pieces if piece.scenes]
    best = min(
        cost_of([(n, scenes[n]) for n in group], pieces, wish)
        for size in range(1, 10)
        for group in itertools.combinations(range(9), size)
        if all(piece.scenes & set(group) for piece in need)
    )
    assert found.cost == pytest.approx(best, rel=1e-9)
    assert found.gap == 0
    together = shapely.union_all([scene.footprint for scene in found.scenes])
    assert found.covered_percent == pytest.approx(100 * AREA.intersection(together).area / AREA.area, abs=0.1)
    assert bool(found.reason) == (found.covered_percent < 99.999)


def test_greedy_takes_more_than_needed():
    # The middle one covers most at first, and is not needed in the end.
    scenes = [at(1, -12.1, 0.051), at(2, -12.051, 0.052), at(3, -12.08, 0.06)]
    assert ids(cover.choose_cover(AREA, scenes, CoverOptions())) == {"s1", "s2"}


@pytest.mark.parametrize(
    ("wish", "chosen", "covered", "reason"),
    [
        (CoverOptions(), {"s1", "s2"}, 100, ""),
        (CoverOptions(one_platform=True), {"s1", "s3"}, 100, ""),
        (CoverOptions(within_days=3), {"s1", "s3"}, 100, ""),
        (CoverOptions(most=1), {"s1"}, 55, "out of reach with at most 1 scene"),
        (CoverOptions(cloud_max=5), {"s1", "s2"}, 100, ""),
        (CoverOptions(cloud_max=-1), set(), 0, "every scene has more than"),
        (CoverOptions(one_platform=True, cloud_max=5), {"s1"}, 55, "one platform"),
        (CoverOptions(near=DAY + timedelta(days=1), day_cost=1), {"s1", "s3"}, 100, ""),
        (CoverOptions(crs=Crs(32728)), {"s1", "s4"}, 100, ""),
    ],
)
def test_constraints(wish, chosen, covered, reason):
    scenes = [
        at(1, -12.1, 0.055),
        at(2, -12.05, days=9, platform="lapwing-b", **{"proj:code": "EPSG:32729"}),
        at(3, -12.05, days=2, **{"eo:cloud_cover": 10.0, "proj:code": "EPSG:32729"}),
        at(4, -12.05, days=20, platform="lapwing-b", **{"eo:cloud_cover": 0.5, "proj:code": "EPSG:32728"}),
    ]
    found = cover.choose_cover(AREA, scenes, wish)
    assert ids(found) == chosen
    assert found.covered_percent == pytest.approx(covered, abs=0.1)
    assert reason in found.reason


def test_cloud_over_each_piece_decides():
    scenes = [at(1, -12.1, 0.1), at(2, -12.1, 0.05), at(3, -12.05, 0.05)]
    pieces = cover.pieces_of(AREA, [scene.footprint for scene in scenes])
    west = next(n for n, piece in enumerate(pieces) if 1 in piece.scenes)
    east = next(n for n, piece in enumerate(pieces) if 2 in piece.scenes)
    cloud = {(scenes[0].key, west): 40.0, (scenes[0].key, east): 0.0}
    found = cover.choose_cover(AREA, scenes, CoverOptions(cloud_max=20), cloud, pieces)
    assert "s2" in ids(found) and len(found.scenes) == 2
    assert ids(cover.choose_cover(AREA, scenes, CoverOptions(), {}, pieces)) == {"s1"}


def test_ground_that_no_scene_reaches_is_told():
    found = cover.choose_cover(AREA, [at(1, -12.1, 0.08)], CoverOptions())
    assert found.covered_percent == pytest.approx(80, abs=0.1)
    assert "20.00 % lies under no scene" in found.reason


def test_clearest_per_month_and_pairs():
    told = {"grid:code": "OST-A", "view:sun_elevation": 60.0}
    clouds = [(1, -400, 5.0), (2, -395, 1.0), (3, -365, 3.0), (4, 0, 2.0), (5, 6, 30.0)]
    scenes = [at(n, -12.1, 0.1, days, **told, **{"eo:cloud_cover": cloud}) for n, days, cloud in clouds]
    cloud, whole = (lambda scene: scene.cloud_percent), (lambda scene: 100.0)
    assert [s.id for s in rules.clearest_per(scenes, "month", AREA, cloud, whole)] == ["s2", "s3", "s4"]
    assert [s.id for s in rules.clearest_per(scenes, "year", AREA, cloud, whole)] == ["s2", "s4"]
    with pytest.raises(UnknownNameError, match="Did you mean month"):
        rules.clearest_per(scenes, "months", AREA, cloud, whole)
    found = rules.pairs(scenes, DAY - timedelta(days=100), AREA, cloud, whole)
    assert len(found) == 6
    assert (found[0].before.scenes[0].id, found[0].after.scenes[0].id) == ("s3", "s4")
    assert found[0].season_days == pytest.approx(0.25)
    some = lambda s: 100.0 if s.id in ("s1", "s5") else 50.0  # noqa: E731
    narrow = rules.pairs(scenes, DAY - timedelta(days=100), AREA, cloud, some)
    assert [(pair.before.scenes[0].id, pair.after.scenes[0].id) for pair in narrow] == [("s1", "s5")]


def test_sets_that_cover_together_are_compared_where_no_scene_covers_alone():
    """Three overpasses of two half scenes without a tile code: they pair as sets, and the clearest is a set."""
    scenes = [
        at(10 * number + half, -12.1 + 0.05 * half, 0.05, days, **{"eo:cloud_cover": cloud})
        for number, days, cloud in ((1, -400, 8.0), (2, -370, 2.0), (3, 0, 3.0))
        for half in (0, 1)
    ]
    cloud, half = (lambda scene: scene.cloud_percent), (lambda scene: 50.0)
    found = rules.pairs(scenes, DAY - timedelta(days=100), AREA, cloud, half)
    assert [len(pair.before.scenes) + len(pair.after.scenes) for pair in found] == [4, 4]
    assert {scene.id for scene in found[0].before.scenes} == {"s20", "s21"}
    assert {s.id for s in rules.clearest_per(scenes, "year", AREA, cloud, half)} == {"s20", "s21", "s30", "s31"}
