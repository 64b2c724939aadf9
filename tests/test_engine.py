"""The block engine: order, bounds, failures; the pyramid's bookkeeping; the cache of blocks."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from helpers import Memory, grid, noise
from zoompick.raster import engine
from zoompick.raster.blockcache import BlockCache
from zoompick.raster.pyramid import Gatherer, Pyramid, TileKey
from zoompick.raster.statistics import BandStatistics
from zoompick.raster.tilework import along_curve
from zoompick.raster.write import WriteOptions, write_geotiff


class Gauge:
    """Counts how many jobs are in flight."""

    def __init__(self):
        self.now = self.most = 0
        self._lock = threading.Lock()

    def work(self, job):
        with self._lock:
            self.now += 1
            self.most = max(self.most, self.now)
        time.sleep(0.001)
        with self._lock:
            self.now -= 1
        return job


def test_results_come_in_order_and_only_so_many_are_ahead():
    gauge, seen = Gauge(), []
    pulled = 0

    def jobs():
        nonlocal pulled
        for number in range(100):
            pulled += 1
            assert pulled - len(seen) <= 5
            yield number

    with ThreadPoolExecutor(8) as executor:
        for number in engine.each(engine.Crew(executor, 4), jobs(), gauge.work):
            seen += [number]
    assert seen == list(range(100))
    assert gauge.most <= 4


def test_following_jobs_run_before_new_ones():
    seen = []

    def consume(job):
        seen.append(job)
        return [job + 100] if job < 100 and job % 10 == 9 else []

    with ThreadPoolExecutor(2) as executor:

        def call(job):
            return engine.Call(executor, int, job)

        engine.drive(map(call, range(30)), lambda job: map(call, consume(job)), 3)
    assert sorted(seen) == [*range(30), 109, 119, 129]
    assert seen.index(109) < seen.index(15)


def test_a_failing_job_stops_the_rest():
    done = []

    def work(job):
        if job == 3:
            raise ValueError("three")
        done.append(job)
        return job

    with ThreadPoolExecutor(1) as executor, pytest.raises(ValueError, match="three"):
        engine.drive((engine.Call(executor, work, job) for job in range(1000)), lambda result: [], 4)
    assert len(done) < 20


@pytest.mark.parametrize("size", [(1, 1), (64, 64), (65, 64), (500, 130), (130, 700)])
def test_the_curve_meets_every_tile_once_and_parents_complete(size):
    pyramid = Pyramid(grid(*size), 64)
    gatherer = Gatherer(pyramid, 0)
    waiting_most, per_level = 0, [0] * len(pyramid.levels)
    half = np.ones((1, 32, 32), "uint8")

    def climb(key):
        nonlocal waiting_most
        per_level[key.level] += 1
        if key.level + 1 < len(pyramid.levels):
            whole = gatherer.add(key, [half])
            waiting_most = max(waiting_most, len(gatherer._waiting))
            if whole:
                climb(whole[0])

    for row, col in along_curve(*pyramid.counts(0)):
        climb(TileKey(0, row, col, (0,)))
    assert per_level == [rows * cols for rows, cols in map(pyramid.counts, range(len(pyramid.levels)))]
    assert waiting_most <= len(pyramid.levels)
    assert not gatherer._waiting


def test_levels_end_when_one_tile_holds_all():
    pyramid = Pyramid(grid(1000, 300), 128)
    assert [(g.width, g.height) for g in pyramid.levels] == [(1000, 300), (500, 150), (250, 75), (125, 38)]
    assert pyramid.children(TileKey(1, 0, 3, (0,))) == 4
    assert pyramid.children(TileKey(1, 1, 3, (0,))) == 2
    assert pyramid.window(TileKey(0, 2, 7, (0,))).width == 1000 - 7 * 128


def test_sources_in_strips_are_read_band_by_band_and_row_by_row(tmp_path):
    seen = []

    class Watched(Memory):
        def read(self, window, bands=None, level=0):
            seen.append((tuple(bands), window.row, window.col))
            return super().read(window, bands, level)

    raster = Watched(noise((2, 128, 200)), grid(200, 128), 0, block=(4, 200))
    write_geotiff(raster, tmp_path / "a.tif", WriteOptions(side=64, workers=1))
    assert seen == sorted(seen)


def test_cache_keeps_what_was_used_last_within_its_bytes():
    cache = BlockCache(10_000)
    blocks = {number: np.zeros(1000, "uint8") for number in range(12)}
    for number, block in blocks.items():
        cache.put(number, block)
        cache.get(0)
    assert cache.get(0) is blocks[0]
    assert cache.get(1) is None
    assert sum(cache.get(number) is not None for number in blocks) == 10
    cache.put("large", np.zeros(9000, "uint8"))
    assert cache.get("large") is None


def test_statistics_merge_exactly():
    values = noise((5000,), "float64", -50, 80)
    values[::7] = np.nan
    parts = [BandStatistics.of(part, None) for part in np.split(values, [13, 900, 901, 4000])]
    merged = BandStatistics()
    for part in parts:
        merged = merged.merged(part)
    good = values[~np.isnan(values)]
    assert (merged.count, merged.total) == (good.size, 5000)
    assert merged.mean == pytest.approx(good.mean(), rel=1e-12)
    assert merged.stddev == pytest.approx(good.std(), rel=1e-12)
    assert (merged.minimum, merged.maximum) == (good.min(), good.max())
