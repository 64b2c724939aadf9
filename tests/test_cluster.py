"""Blocks on a Dask cluster: the same bytes, whatever happens to workers; few bytes through the coordinator."""

from __future__ import annotations

import json
import os
import pickle
import re
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import Executor
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest

import zoompick
from conftest import copied, knows
from helpers import Memory, grid, noise
from test_repeating import layer
from test_running import products
from zoompick.errors import ClusterError, MissingFileError, UnknownNameError, UsageError
from zoompick.net.refusals import AnsweredError, TransientError
from zoompick.products.stack import build_stack
from zoompick.raster import cluster, engine
from zoompick.raster.cluster import on_cluster
from zoompick.raster.opening import open_raster
from zoompick.raster.write import WriteOptions, write_geotiff
from zoompick.scenes.deliveries import open_layers
from zoompick.scenes.scenelist import from_collection
from zoompick.study.edit import with_values
from zoompick.versions import versions

pytestmark = pytest.mark.slow

_SERVE = """
import sys
from distributed import LocalCluster
if __name__ == "__main__":
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as made:
        print(made.scheduler_address, flush=True)
        sys.stdin.read()
"""


def served(folder: Path) -> Iterator[tuple[str, subprocess.Popen]]:
    script = folder / "serve_cluster.py"
    script.write_text(_SERVE)
    process = subprocess.Popen(
        [sys.executable, str(script)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        text=True, start_new_session=True,
    )  # fmt: skip
    try:
        yield process.stdout.readline().strip(), process
    finally:
        process.stdin.close()
        with suppress(subprocess.TimeoutExpired):
            process.wait(10)
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)


@pytest.fixture(scope="module")
def address(tmp_path_factory) -> Iterator[str]:
    for found, _ in served(tmp_path_factory.mktemp("cluster")):
        yield found


@pytest.fixture
def study(clean_study, archive, tmp_path) -> Path:
    return knows(copied(clean_study, tmp_path / "s"), archive)


def test_a_whole_study_has_the_same_bytes_on_two_workers(study, address, program):
    before = products(study)
    checks = json.loads((study / "checks.json").read_text())["findings"]
    shutil.rmtree(study / "products")
    done = program("run", "--cluster", address, cwd=study)
    assert done.code == 0, done.err
    told = re.search(r"(\d+) jobs on 2 workers of .*: ([\d.]+) kB went out, ([\d.]+) MB came back", done.err)
    assert told, done.err
    assert products(study) == before
    judged = program("verify", "--json", cwd=study, env={"ZOOMPICK_CLUSTER": address})
    assert judged.code == 0 and judged.json["findings"] == checks and "on 2 workers" in judged.err


@pytest.mark.parametrize(
    "words",
    [
        ("mosaic", "--bands", "red,nir"), ("blend", "--bands", "red,nir"), ("stack", "--bands", "red,nir"),
        ("blend", "--by", "highest=ndvi", "--bands", "red,nir"),
        ("mask", "--where", "cloud or shadow"),
    ],
    ids=" ".join,
)  # fmt: skip
def test_products_of_files_have_the_same_bytes(study, address, program, words, tmp_path):
    files = sorted(
        path for path in study.glob("scenes/*/*/*/*.tif") if re.search(r"-(red|nir|classes)\.tif", path.name)
    )
    files = [path for path in files if path.parent == files[0].parent] if words[0] == "mask" else files
    for name, more in (("here.tif", ()), ("there.tif", ("--cluster", address))):
        made = program(*words, *files, *more, "--out", tmp_path / name, cwd=tmp_path)
        assert made.code == 0, made.err
    assert (tmp_path / "here.tif").read_bytes() == (tmp_path / "there.tif").read_bytes()


def test_stretches_indices_and_composites_of_one_file(study, address, program, tmp_path):
    stack = study / "products" / "2025-12-15" / "stack.tif"
    other = next(path for path in study.glob("products/*/stack.tif") if path != stack)
    aligned = ("align", "--reference", other, "--band", "red", "--shift-min", 0)
    for words in (("composite", "--recipe", "natural"), ("index", "--recipe", "ndvi"), aligned):
        for name, more in (("here.tif", ()), ("there.tif", ("--cluster", address))):
            assert program(words[0], stack, *words[1:], *more, "--out", tmp_path / name).code == 0
        assert (tmp_path / "here.tif").read_bytes() == (tmp_path / "there.tif").read_bytes()
        for path in tmp_path.glob("*here*"), tmp_path.glob("*there*"):
            for one in path:
                one.unlink()


def bands(folder: Path, side: int) -> list[Path]:
    paths = [folder / f"b{number}.tif" for number in range(3)]
    for number, path in enumerate(paths):
        write_geotiff(Memory(noise((1, side, side), "uint16", 1, 9000, number), grid(side, side), 0), path)
    return paths


@pytest.mark.parametrize("what", [signal.SIGKILL, signal.SIGSTOP], ids=["killed", "stands still"])
def test_a_worker_that_fails_costs_no_byte(tmp_path, monkeypatch, what):
    monkeypatch.setattr(cluster, "_LOOK_S", 0.1)
    monkeypatch.setattr(cluster, "_LEAST_SLOW_S", 1.0)
    monkeypatch.setattr(cluster, "_SLOW_TIMES", 3)
    paths = bands(tmp_path, 2600)
    raster = build_stack(open_layers(paths), ())
    usual = write_geotiff(raster, tmp_path / "usual.tif", WriteOptions())
    found = next(serving := served(tmp_path))[0]
    with on_cluster(found) as crew:
        first, killed, plain = crew.submit(os.getpid).result(), list[int](), crew.submit

        def submit(*words):
            if not killed and crew.traffic.jobs >= 3:
                killed.append(first)
                os.kill(first, what)
            return plain(*words)

        crew.submit = submit
        made = write_geotiff(raster, tmp_path / "made.tif", WriteOptions(), executor=crew)
        assert killed and made.multihash == usual.multihash
        assert crew.traffic.received < 1.05 * made.size and crew.traffic.sent < 0.01 * made.size
        assert what == signal.SIGKILL or crew.traffic.repeated >= 1
    serving.close()


def test_only_what_may_be_done_twice_is_given_to_another_worker(address, monkeypatch):
    monkeypatch.setattr(cluster, "_LOOK_S", 0.05)
    monkeypatch.setattr(cluster, "_LEAST_SLOW_S", 0.2)
    monkeypatch.setattr(cluster, "_SLOW_TIMES", 0)
    with on_cluster(address) as crew:
        assert crew.submit(divmod, 7, 2).result() == (3, 1)
        assert crew.unrepeated.submit(time.sleep, 1).result() is None and crew.traffic.repeated == 0
        slow = crew.submit(time.sleep, 1)
        assert slow.result() is None and crew.traffic.repeated == 1
        plain, tried = crew._inner.submit, []

        def submit(*words, **named):
            if "workers" in named:
                tried.append(named)
                raise RuntimeError("no more jobs")
            return plain(*words, **named)

        crew._inner.submit = submit
        assert crew.submit(time.sleep, 1).result(timeout=20) is None and tried, "the first copy goes on"
        dropped = crew.submit(time.sleep, 1)
        dropped.cancel()
        assert not crew._flights


def test_a_scheduler_that_goes_away_is_told(tmp_path):
    for found, process in served(tmp_path):
        with pytest.raises(ClusterError, match="does not answer any more"), on_cluster(found) as crew:
            waiting = [crew.submit(time.sleep, 5) for _ in range(3)]
            os.killpg(process.pid, signal.SIGKILL)
            for one in waiting:
                one.result(timeout=60)


def test_a_cluster_whose_last_worker_has_left_is_given_up(tmp_path, monkeypatch):
    """Told when it happens, and ended after a while in place of waiting for ever."""
    monkeypatch.setenv("ZOOMPICK_CLUSTER_WAIT_S", "3")
    notes = []
    for found, process in served(tmp_path):
        with on_cluster(found, notes.append) as crew:
            workers = list(crew._client.nthreads())
            waiting = [crew.submit(time.sleep, 60) for _ in range(3)]
            time.sleep(1)
            crew._client.retire_workers(workers, close_workers=True)
            with pytest.raises(ClusterError, match=r"No worker of .* has been there for"):
                waiting[0].result(timeout=90)
        assert any("All workers of" in note.text for note in notes)
        os.killpg(process.pid, signal.SIGKILL)


def test_files_that_a_worker_does_not_see_are_named_before_the_first_block(address, tmp_path, monkeypatch):
    path = tmp_path / "a.bin"
    path.write_bytes(b"abc")
    with on_cluster(address) as crew:
        crew.refuse_missing({str(path): 3})
        with pytest.raises(ClusterError, match=r"The worker tcp://.* does not see .*a\.bin as it is here"):
            crew.refuse_missing({str(path): 4})
        with engine.computed_on(lambda: crew):
            engine.refuse_missing([path, tmp_path / "none"])


def test_files_are_not_at_fault_where_a_cluster_is(study, tmp_path):
    """Neither a finding of verify nor a failed product: the cluster is named, and the run ends."""

    class Gone(Executor):
        _max_workers = 2

        def submit(self, work, /, *args, **named):
            raise ClusterError("The cluster is gone.", "")

    with engine.computed_on(Gone), pytest.raises(ClusterError, match="is gone"):
        zoompick.verify_files([study / "products" / "2025-12-15" / "stack.tif"])
    shutil.rmtree(study / "products")
    with engine.computed_on(Gone), pytest.raises(ClusterError, match="is gone"):
        zoompick.run(zoompick.Study(study), options=zoompick.RunOptions())


def test_what_a_worker_meets_is_told_with_its_name(address, tmp_path):
    with on_cluster(address) as crew:
        with pytest.raises(MissingFileError, match=r"On the worker .*There is no file") as told:
            crew.submit(open_raster, tmp_path / "gone.tif").result()
        assert "all of them reach them" in told.value.todo
        with pytest.raises(ZeroDivisionError):
            crew.submit(divmod, 1, 0).result()
        assert crew.submit(divmod, 7, 2).result() == (3, 1)
        with engine.computed_on(lambda: crew), engine.crew_of() as chosen:
            assert chosen.is_far and chosen.at_once == 4


def test_cloud_inside_the_area_is_read_on_the_workers(study, address, program):
    words = ("search", "--inside", "--dates", "2025-12-13/2025-12-16", "--cloud", 100, "--json")
    here, there = program(*words, cwd=study), program(*words, "--cluster", address, cwd=study)
    assert here.code == there.code == 0, there.err
    assert "1 job on 2 workers" in there.err and "on 2 workers" not in here.err
    told = [
        {entry.scene.key: entry.cloud_area_percent for entry in from_collection(one.json, "what was printed")}
        for one in (here, there)
    ]
    assert told[0] == told[1] and len(told[0]) >= 2 and None not in told[0].values()


def test_studies_of_a_batch_are_spread_over_the_workers(study, address, program, tmp_path):
    for path in (study / "scenes", study / "products"):
        shutil.rmtree(path)
    text = (study / "study.toml").read_text().partition("\n[[mask]]")[0] + "\n"
    given = {("search", "dates"): ["2025-12"], ("download", "window"): True, ("composite", "recipes"): []}
    (study / "study.toml").write_text(with_values(text, given))
    areas = layer(tmp_path / "areas.geojson")
    done = program("run", "--each", areas, "--column", "code", "--cluster", address, "--json", cwd=study)
    assert [row["state"] for row in done.json] == ["done", "done", "failed"], done.err
    assert "No scene touches the area" in done.json[2]["reason"] and "3 jobs on 2 workers" in done.err
    there = products(study / "each" / "N-2")
    shutil.rmtree(study / "each")
    assert program("run", "--each", areas, "--column", "code", cwd=study).code == 5
    assert products(study / "each" / "N-2") == there


@pytest.mark.parametrize(
    "error",
    [AnsweredError("what", "todo", 404), TransientError("what", "todo", "3", 503), MissingFileError.at("x"),
     UnknownNameError.of("band", "redd", ["red"])],
    ids=lambda error: type(error).__name__,
)  # fmt: skip
def test_errors_travel_whole(error):
    came = pickle.loads(pickle.dumps(error))
    assert type(came) is type(error) and str(came) == str(error) and came.__dict__ == error.__dict__


def test_clusters_that_cannot_be_used_are_refused(program, monkeypatch, tmp_path):
    (tmp_path / "a").mkdir()
    [path, *_] = bands(tmp_path / "a", 64)
    refused = program("index", path, "--formula", "b0", "--cluster", "somewhere", "--out", tmp_path / "x.tif")
    assert refused.code == 2 and "no address" in refused.err, refused.err
    for wrong in ("local:0", "nowhere", "local:x"):
        refused = program("search", "--cluster", wrong)
        assert refused.code == 2 and f"'{wrong}' is no address" in refused.err, refused.err
    monkeypatch.setattr(cluster, "_PATIENCE_S", 1)
    with pytest.raises(UsageError, match=r"tls://127.0.0.1:9 wants certificates"), on_cluster("tls://127.0.0.1:9"):
        pass
    with pytest.raises(ClusterError, match="No cluster answers at"), on_cluster("tcp://127.0.0.1:9"):
        pass

    class Client:
        def __init__(self, told):
            self.told = told

        def nthreads(self):
            return dict.fromkeys(self.told, 1)

        def run(self, work):
            if self.told["w"] is None:
                raise ModuleNotFoundError("No module named 'zoompick'")
            return self.told

    for told, said in (
        ({"w": None}, "does not know this program"),
        ({"w": versions() | {"numpy": "1.0"}}, "worker w has other versions: numpy 1.0"),
    ):  # fmt: skip
        with pytest.raises(ClusterError, match=said):
            cluster._refuse_others(Client(told), "a")
    cluster._refuse_others(Client({"w": versions()}), "a")
    monkeypatch.setenv("ZOOMPICK_CLUSTER_WAIT_S", "0.05")
    notes = []
    with pytest.raises(ClusterError, match=r"No worker of a has been there for"):
        cluster._await_workers(Client({}), "a", notes.append)
    assert "has no worker yet" in notes[0].text
    assert cluster._size(np.zeros(1000, np.uint8)) == pytest.approx(1000, rel=0.3)
