"""A long trial of downloads: faults of the network and kills at random moments.

    python benchmarks/soak.py [--downloads 1000] [--kills 200]

Prints how many files were lost or wrong at the end (goal: none), and which share of the bytes was sent twice (goal:
at most 5 %). A server of its own cuts a tenth of the transfers, and answers a tenth of the requests with 429 or 500.
"""

from __future__ import annotations

import argparse
import asyncio
import hashlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

FILE_BYTES, TOGETHER = 8_000_000, 50
PIECE_BYTES, PIECE_S = 65536, 0.004
"""A connection carries 16 MB/s: the way is the bottleneck, as it is outside of a laboratory."""


class Server:
    """Files made of their number, troubles in front, and a count of the bytes that were sent twice."""

    def __init__(self, rng: random.Random) -> None:
        self.rng, self.sent, self.again = rng, {}, 0
        self.total = 0

    @staticmethod
    def data(name: str) -> bytes:
        seed = hashlib.sha256(name.encode()).digest()
        return b"II*\0" + (seed * (FILE_BYTES // len(seed) + 1))[: FILE_BYTES - 4]

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        roll, name = self.rng.random(), scope["path"].rpartition("/")[2]
        headers = {key.decode(): value.decode() for key, value in scope["headers"]}
        if roll < 0.1:
            status, extra = (429, [(b"retry-after", b"0")]) if roll < 0.05 else (500, [])
            told = [(b"content-length", b"0"), *extra]
            await send({"type": "http.response.start", "status": status, "headers": told})
            await send({"type": "http.response.body"})
            return
        body, etag = self.data(name), f'"{name}"'
        start = 0
        if headers.get("if-range") == etag:
            start = int(headers["range"].removeprefix("bytes=").rstrip("-"))
        told = [(b"content-length", str(len(body) - start).encode()), (b"etag", etag.encode())]
        told += [(b"content-range", f"bytes {start}-{len(body) - 1}/{len(body)}".encode())] if start else []
        await send({"type": "http.response.start", "status": 206 if start else 200, "headers": told})
        if scope["method"] == "HEAD":
            await send({"type": "http.response.body"})
            return
        stop = len(body) if self.rng.random() > 0.1 else self.rng.randrange(start, len(body))
        self.again += max(0, self.sent.get(name, 0) - start)
        place, gone = start, asyncio.create_task(_disconnected(receive))
        while place < stop and not gone.done():
            piece = body[place : min(stop, place + PIECE_BYTES)]
            await send({"type": "http.response.body", "body": piece, "more_body": True})
            place += len(piece)
            self.sent[name] = max(self.sent.get(name, 0), place)
            self.total += len(piece)
            await asyncio.sleep(PIECE_S)
        is_gone = gone.done()
        gone.cancel()
        if stop < len(body) or is_gone:
            raise ConnectionResetError("cut on purpose")
        await send({"type": "http.response.body"})


async def _disconnected(receive: Any) -> None:
    """End when the client has gone: what is written then goes nowhere, and is not counted."""
    while (await receive())["type"] != "http.disconnect":
        pass


def served(server: Server) -> str:
    """Serve on a free port until the process ends; send buffers are small, as over a long way."""
    import uvicorn

    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 32768)
    listener.bind(("127.0.0.1", 0))
    listener.listen(128)
    made = uvicorn.Server(uvicorn.Config(server, log_level="critical", access_log=False, lifespan="off"))
    threading.Thread(target=made.run, kwargs={"sockets": [listener]}, daemon=True).start()
    return f"http://127.0.0.1:{listener.getsockname()[1]}"


def items(url: str, first: int) -> str:
    """An ItemCollection of scenes with a file each; no digest is told, so that only the way can keep it right."""
    square = {"type": "Polygon", "coordinates": [[[0, 0], [1, 0], [1, 1], [0, 1], [0, 0]]]}
    found = [
        {
            "type": "Feature", "stac_version": "1.1.0", "id": f"scene-{number:05d}", "collection": "c",
            "geometry": square, "properties": {"datetime": "2025-12-15T00:00:00Z"}, "links": [],
            "assets": {"red": {"href": f"{url}/f{number:05d}.bin", "type": "image/tiff", "roles": ["data"]}},
        }
        for number in range(first, first + TOGETHER)
    ]  # fmt: skip
    return json.dumps({"type": "FeatureCollection", "features": found})


def main() -> None:
    """Round after round of downloads, each killed some times before it may end."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--downloads", type=int, default=1000)
    parser.add_argument("--kills", type=int, default=200)
    given = parser.parse_args()
    rng = random.Random(11)
    server = Server(random.Random(12))
    url = served(server)
    rounds, kills, lost, wrong, runs = given.downloads // TOGETHER, 0, 0, 0, 0
    environment = os.environ | {"ZOOMPICK_RETRY_WAIT_MAX_S": "1"}
    with tempfile.TemporaryDirectory() as folder:
        for number in range(rounds):
            piped, target = items(url, number * TOGETHER), Path(folder) / str(number)
            words = [sys.executable, "-m", "zoompick", "download", "-", "--to", str(target)]
            left = round(given.kills * (number + 1) / rounds) - kills
            while True:
                process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
                                           stderr=subprocess.DEVNULL, env=environment)  # fmt: skip
                process.stdin.write(piped.encode())
                process.stdin.close()
                runs += 1
                if left and _killed(process, rng.uniform(0.8, 2.2)):
                    kills, left = kills + 1, left - 1
                    wrong += _wrong(target)
                    continue
                if process.wait() == 0:
                    break
            here = {path.name for path in target.rglob("*.bin")}
            lost += TOGETHER - len(here)
            wrong += _wrong(target)
    share = 100 * server.again / (rounds * TOGETHER * FILE_BYTES)
    print("| downloads | kills | runs | lost | wrong | sent twice | goal |")
    print("|---|---|---|---|---|---|---|")
    print(f"| {rounds * TOGETHER} | {kills} | {runs} | {lost} | {wrong} | {share:.2f} % | 0, 0, 5 % |")


def _killed(process: subprocess.Popen[bytes], after_s: float) -> bool:
    """Kill a process after a while; False when it had ended before."""
    until = time.monotonic() + after_s
    while time.monotonic() < until:
        if process.poll() is not None:
            return False
        time.sleep(0.02)
    process.send_signal(signal.SIGKILL)
    process.wait()
    return True


_right: set[tuple[Path, int]] = set()


def _wrong(target: Path) -> int:
    """Files with their final name that are not what they should be; what was right is read again when it changed."""
    count = 0
    for path in target.rglob("*.bin"):
        key = path, path.stat().st_mtime_ns
        if path.name[0] != "." and key not in _right:
            is_right = path.read_bytes() == Server.data(path.name)
            count += not is_right
            _right.update([key] if is_right else [])
    return count


if __name__ == "__main__":
    main()
