"""Measured parts of downloads, windows, tiles and archives, each a process of its own: ``getting.py NAME FOLDER``.

``make FOLDER`` writes the files that are fetched; ``serve FOLDER`` is the server they lie on (nginx where it is
installed, else uvicorn), and again 50 ms and 20 ms away.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import resource
import shutil
import socket
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

sys.path.insert(0, str(Path(__file__).parent))
from farserver import far_server

LARGE_MB, SIDE_PX, WINDOW_PX = 500, 10_980, 1000
TILES, PARALLEL = 1500, 6
MEMBERS, MEMBER_BYTES, WANTED = 400, 5 << 20, ("m010.tif", "m100.tif", "m200.tif", "m300.tif", "m399.tif")
WINDOW_S, TILE_S = 0.05, 0.02


def told(seconds: float, **facts: float) -> None:
    """The figures as the last line: seconds, processor seconds and peak memory of this process."""
    usage = resource.getrusage(resource.RUSAGE_SELF)
    own = {"cpu": usage.ru_utime + usage.ru_stime, "peak_mb": usage.ru_maxrss / 1024}
    print(json.dumps({"seconds": seconds} | own | facts), flush=True)


def make(folder: Path) -> None:
    """The files, and what the floors need to know of them."""
    import numpy as np

    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from helpers import Memory, grid
    from zoompick.raster.write import WriteOptions, write_geotiff

    rng = np.random.default_rng(3)
    block = rng.integers(0, 256, 1 << 20, np.uint8).tobytes()
    with (folder / "large.bin").open("wb") as out:
        for _ in range(LARGE_MB * 1_000_000 // len(block)):
            out.write(block)
    rows = np.arange(SIDE_PX, dtype=np.uint16)[:, None] // 7
    pixels = (rows + rng.integers(900, 1100, (SIDE_PX, SIDE_PX), np.uint16))[np.newaxis]
    raster, options = Memory(pixels, grid(SIDE_PX, SIDE_PX), 0), WriteOptions(compression="zstd", effort=1)
    write_geotiff(raster, folder / "band.tif", options)
    (folder / "tile.jpg").write_bytes(_tile(rng))
    with (folder / "many.tar").open("wb") as out:
        for number in range(MEMBERS):
            info = tarfile.TarInfo(f"m{number:03d}.tif")
            info.size = MEMBER_BYTES
            out.write(info.tobuf())
            out.seek(MEMBER_BYTES, 1)
        out.write(bytes(10240))
    with tarfile.open(folder / "local.tar.gz", "w:gz", compresslevel=1) as archive:
        for number in range(40):
            info = tarfile.TarInfo(f"{number}.tif")
            info.size = 4 << 20
            archive.addfile(info, io.BytesIO((block * 4)[: info.size]))


def _tile(rng: Any) -> bytes:
    import imagecodecs
    import numpy as np

    picture = np.repeat(np.repeat(rng.integers(0, 256, (64, 64, 3), np.uint8), 4, 0), 4, 1)
    return bytes(imagecodecs.jpeg8_encode(np.ascontiguousarray(picture), 80))


def serve(folder: Path) -> None:
    """Three addresses, printed as JSON, until standard input ends."""
    with contextlib.ExitStack() as stack:
        plain = stack.enter_context(_nginx(folder)) if shutil.which("nginx") else stack.enter_context(_app(folder))
        far, tiles = (stack.enter_context(far_server(folder, delay)) for delay in (WINDOW_S, TILE_S))
        print(json.dumps({"plain": plain, "far": far, "tiles": tiles}), flush=True)
        sys.stdin.read()


@contextlib.contextmanager
def _nginx(folder: Path) -> Iterator[str]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    work = tempfile.mkdtemp()
    text = (
        f"daemon off; user root; pid {work}/pid; error_log {work}/err; worker_processes 1; events {{}} "
        f"http {{ access_log off; sendfile on; client_body_temp_path {work}; "
        f"server {{ listen 127.0.0.1:{port}; root {folder}; }} }}"
    )
    (Path(work) / "conf").write_text(text)
    folder.chmod(0o755)
    process = subprocess.Popen(["nginx", "-c", f"{work}/conf"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(0.5)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait(10)


@contextlib.contextmanager
def _app(folder: Path) -> Iterator[str]:
    import threading

    import uvicorn
    from starlette.applications import Starlette
    from starlette.responses import FileResponse
    from starlette.routing import Route

    async def file(request: Any) -> Any:
        return FileResponse(folder / request.path_params["name"])

    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.bind(("127.0.0.1", 0))
    listener.listen(128)
    app = Starlette(routes=[Route("/{name}", file)])
    server = uvicorn.Server(uvicorn.Config(app, log_level="critical", access_log=False, lifespan="off"))
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{listener.getsockname()[1]}"
    server.should_exit = True
    thread.join(5)


# A whole file


def whole(folder: Path, given: dict[str, str]) -> None:
    """Ours without the digest: the client's bytes into a file."""
    from zoompick.net.client import Client

    client, target = Client(), folder / "ours.bin"
    before = resource.getrusage(resource.RUSAGE_SELF)
    began = time.perf_counter()
    with client.open(f"{given['plain']}/large.bin") as answer, target.open("wb", buffering=0) as out:
        for chunk in answer.chunks():
            out.write(chunk)
    told(time.perf_counter() - began, imports_cpu=before.ru_utime + before.ru_stime)
    target.unlink()


def whole_curl(folder: Path, given: dict[str, str]) -> None:
    """The floor."""
    target = folder / "curl.bin"
    began = time.perf_counter()
    subprocess.run(["curl", "-sf", "-o", target, f"{given['plain']}/large.bin"], check=True)
    seconds = time.perf_counter() - began
    usage = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(json.dumps({"seconds": seconds, "cpu": usage.ru_utime + usage.ru_stime}), flush=True)
    target.unlink()


def checked(folder: Path, given: dict[str, str]) -> None:
    """Ours as it is used: resumable, digest computed, on the disk at the end."""
    from zoompick.fetch.whole import fetch_whole
    from zoompick.net.client import Client
    from zoompick.scenes.fetchplan import Fetch

    client, work = Client(), Path(tempfile.mkdtemp(dir=folder))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    began = time.perf_counter()
    fetch_whole(Fetch("s", "b", f"{given['plain']}/large.bin", work / "a.bin", None, None), client)
    seconds = time.perf_counter() - began
    told(seconds, above_mb=resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024 - before)
    shutil.rmtree(work)


def digest(folder: Path, given: dict[str, str]) -> None:
    """SHA-256 of the same bytes alone."""
    data = (folder / "large.bin").read_bytes()
    began = time.perf_counter()
    hashlib.sha256(data).hexdigest()
    told(time.perf_counter() - began)


# A window


def _region() -> Any:
    import shapely

    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from helpers import grid
    from zoompick.geo.crs import LONLAT
    from zoompick.geo.region import Region
    from zoompick.geo.shapes import project

    place = grid(SIDE_PX, SIDE_PX)
    west, north = place.west + 5000 * place.pixel_x, place.north - 5000 * place.pixel_y
    side = (WINDOW_PX - 8) * place.pixel_x
    return Region.of(project(shapely.box(west, north - side, west + side, north), LONLAT, place.crs))


def window(folder: Path, given: dict[str, str]) -> None:
    """Ours: header, merged ranges, a file of its own; tells bytes, requests, blocks and rows of blocks."""
    import cv2  # noqa: F401
    import imagecodecs  # noqa: F401
    import tifffile  # noqa: F401

    from zoompick.fetch.windows import fetch_window, survey
    from zoompick.net.client import Client
    from zoompick.scenes.fetchplan import DownloadPlan, Fetch

    region, client, work = _region(), Client(), Path(tempfile.mkdtemp(dir=folder))
    entry = Fetch("s", "red", f"{given['far']}/band.tif", work / "w.tif", None, None, region=region)
    began = time.perf_counter()
    found = survey(DownloadPlan((entry,), (), ()), client)
    opened = found.opened[entry.path]
    received = fetch_window(found.plan.fetch[0], opened)
    seconds = time.perf_counter() - began
    blocks = opened.cut.raster.stretches(opened.cut.window)
    rows = (
        len({start // 10**9 for start, _ in blocks})
        and -(-(opened.cut.window.stop_row) // 512) - opened.cut.window.row // 512
    )
    told(
        seconds, received=received, blocks=sum(length for _, length in blocks), rows=rows,
        requests=opened.source.cost.requests,
    )  # fmt: skip
    (folder / "spans.json").write_text(json.dumps([[span.start, span.length] for span in opened.spans]))
    shutil.rmtree(work)


def window_raw(folder: Path, given: dict[str, str]) -> None:
    """The floor: the header, then the same merged ranges in parallel, over bare sockets."""
    spans, parts = json.loads((folder / "spans.json").read_text()), urlsplit(f"{given['far']}/band.tif")

    def fetch(start: int, length: int) -> None:
        with socket.create_connection((parts.hostname, parts.port)) as wire:
            stretch = f"Range: bytes={start}-{start + length - 1}"
            words = f"GET {parts.path} HTTP/1.1\r\nHost: x\r\n{stretch}\r\nConnection: close\r\n\r\n"
            wire.sendall(words.encode())
            while wire.recv(1 << 20):
                pass

    began = time.perf_counter()
    fetch(0, 32 << 10)
    with ThreadPoolExecutor(len(spans)) as pool:
        list(pool.map(lambda span: fetch(*span), spans))
    told(time.perf_counter() - began)


# Tiles


def tiles(folder: Path, given: dict[str, str]) -> None:
    """Ours: 1,500 tiles into a store."""
    from zoompick.geo.tilegrid import TileKey, web_mercator
    from zoompick.net.client import Client
    from zoompick.tiles.getting import fetch_tiles, plan_tiles
    from zoompick.tiles.tilestore import TileStore

    matrix = web_mercator().level("14")
    keys = [TileKey(5000 + number // 50, 7000 + number % 50) for number in range(TILES)]
    path = folder / "t.mbtiles"
    path.unlink(missing_ok=True)
    began = time.perf_counter()
    with TileStore(path) as store:
        plan = plan_tiles(matrix, 14, keys, store.known(14, matrix.rows))
        outcome = fetch_tiles(
            plan, lambda key: f"{given['tiles']}/t-{key.row}-{key.col}", "image/jpeg", store, Client(), PARALLEL
        )
        told_of = (matrix.pixel, matrix.west, matrix.north, 256, 256, matrix.cols, matrix.rows)
        store.describe({"name": "t", "zoompick:crs": "EPSG:3857", "zoompick:level:14": ",".join(map(repr, told_of))})
    if outcome.done != TILES:
        raise SystemExit(f"{outcome.done} of {TILES} tiles came")
    told(time.perf_counter() - began, ideal=TILES * TILE_S / PARALLEL)


def tiles_curl(folder: Path, given: dict[str, str]) -> None:
    """curl in parallel."""
    work = Path(tempfile.mkdtemp(dir=folder))
    lines = [f'url = "{given["tiles"]}/t-{n}-0"\noutput = "{work}/{n}"' for n in range(TILES)]
    (folder / "curl.txt").write_text("\n".join(lines))
    began = time.perf_counter()
    command = ["curl", "-sf", "--parallel", "--parallel-max", str(PARALLEL), "-K", str(folder / "curl.txt")]
    subprocess.run(command, check=True)
    told(time.perf_counter() - began)
    shutil.rmtree(work)


def joined(folder: Path, given: dict[str, str]) -> None:
    """Ours: the stored tiles as one file."""
    from zoompick.geo.tilegrid import TileKey
    from zoompick.raster.write import WriteOptions, write_geotiff
    from zoompick.tiles.tiles import picture_of, stored_matrix
    from zoompick.tiles.tilestore import TileStore

    with TileStore(folder / "t.mbtiles", must_exist=True) as store:
        crs, matrix, level = stored_matrix(store, "")
        keys = [TileKey(5000, 7000), TileKey(5029, 7049)]
        # Taking the place of an old file waits for the disk, which is not what is measured.
        (folder / "joined.tif").unlink(missing_ok=True)
        began = time.perf_counter()
        picture = picture_of(store, crs, matrix, level, keys)
        write_geotiff(picture, folder / "joined.tif", WriteOptions(is_rgb=True))
        told(time.perf_counter() - began)


def joined_bare(folder: Path, given: dict[str, str]) -> None:
    """The floor: decode every tile, halve and encode what a file with all its levels holds, on as many threads."""
    import os

    import imagecodecs
    import numpy as np

    data = (folder / "tile.jpg").read_bytes()

    def one(number: int) -> int:
        block = np.empty((512, 512, 3), np.uint8)
        count = 0
        for row in (0, 256):
            for col in (0, 256):
                block[row : row + 256, col : col + 256] = imagecodecs.jpeg8_decode(data)
        for level in range(2):
            if level == 0 or number % 3 == 0:
                predicted = imagecodecs.delta_encode(block, axis=-2)
                count += len(imagecodecs.deflate_encode(predicted, 6))
        return count

    began = time.perf_counter()
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(one, range(TILES // 4)))
    told(time.perf_counter() - began)


# Archives


def members(folder: Path, given: dict[str, str]) -> None:
    """Five members out of a remote tar of 2 GB; tells bytes over the members, and headers passed."""
    from zoompick.fetch.unpack import Choice, opened, unpack

    work = Path(tempfile.mkdtemp(dir=folder))
    began = time.perf_counter()
    with opened(f"{given['plain']}/many.tar") as archive:
        done = unpack(archive, Choice(only="m[0-3][019][09].tif"), work / "out")
    wanted = [path for path in done.files if path.name in WANTED]
    extra = done.received - len(done.files) * MEMBER_BYTES
    told(time.perf_counter() - began, kb_a_header=extra / 1024 / (MEMBERS + 1), found=len(wanted))
    shutil.rmtree(work)


def unpacked(folder: Path, given: dict[str, str]) -> None:
    """Ours: a local tar.gz."""
    from zoompick.fetch.unpack import Choice, opened, unpack

    work = Path(tempfile.mkdtemp(dir=folder))
    began = time.perf_counter()
    with opened(str(folder / "local.tar.gz")) as archive:
        unpack(archive, Choice(), work / "out")
    told(time.perf_counter() - began)
    shutil.rmtree(work)


def unpacked_bare(folder: Path, given: dict[str, str]) -> None:
    """The standard library's own extraction."""
    work = Path(tempfile.mkdtemp(dir=folder))
    began = time.perf_counter()
    with tarfile.open(folder / "local.tar.gz") as archive:
        archive.extractall(work, filter="data")
    told(time.perf_counter() - began)
    shutil.rmtree(work)


PARTS: dict[str, Callable[[Path, dict[str, str]], None]] = {
    part.__name__: part
    for part in (
        whole, whole_curl, checked, digest, window, window_raw, tiles, tiles_curl, joined, joined_bare, members,
        unpacked, unpacked_bare,
    )
}  # fmt: skip

if __name__ == "__main__":
    name, folder = sys.argv[1], Path(sys.argv[2])
    if name == "make":
        make(folder)
        told(0.0)
    elif name == "serve":
        serve(folder)
    else:
        PARTS[name](folder, json.loads(sys.argv[3]))
