"""Run the archive on a port of this machine."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import uvicorn

from zoompick.errors import UsageError
from zoompick.standin import world
from zoompick.standin.faults import NAMES, Faults
from zoompick.standin.rude import server as rude
from zoompick.standin.server import application

_HOST = "127.0.0.1"


@contextmanager
def archive(
    cache: Path, port: int = 0, faults: tuple[str, ...] = (), synthetic: int = 0, is_rude: bool = False
) -> Iterator[str]:
    """Serve the archive on loopback for the length of a block and give its address.

    Parameters
    ----------
    cache : Path
        Where made scenes are kept.
    port : int
        0 takes a free one.
    faults : tuple of str
        Troubles as ``name:amount``.
    synthetic : int
        Scenes of a made-up collection for load tests; 0 for none.
    is_rude : bool
        The archive without manners in its place; it knows neither troubles nor made-up scenes.

    Raises
    ------
    UsageError
        The port is taken, or a trouble is not known.
    """
    try:
        troubles = Faults.parse(faults)
    except ValueError as error:
        raise UsageError(
            f"A trouble cannot be read: {error}.",
            f"There is {', '.join(NAMES)}; 'zoompick standin troubles' explains them.",
        ) from error
    listener = _listen(port)
    app = rude.application(cache) if is_rude else application(cache, troubles, synthetic)
    config = uvicorn.Config(app, log_level="critical", access_log=False, lifespan="off")
    if not is_rude:
        # The world is needed at the first pixel, whatever is asked before.
        threading.Thread(target=world.layers, args=(cache,), daemon=True, name="world").start()
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True, name="standin")
    thread.start()
    try:
        while not server.started and thread.is_alive():
            time.sleep(0.01)
        yield f"http://{_HOST}:{listener.getsockname()[1]}"
    finally:
        server.should_exit = True
        server.force_exit = True
        thread.join(timeout=10)
        listener.close()


def _listen(port: int) -> socket.socket:
    # Named as TCP, so that asyncio switches off the delay of small packets: 40 ms an answer otherwise.
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((_HOST, port))
    except (OSError, OverflowError) as error:
        listener.close()
        raise UsageError(
            f"The archive cannot listen on port {port}: {error}.", "Give another --port, or 0 for a free one."
        ) from error
    listener.listen(128)
    return listener
