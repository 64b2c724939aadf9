"""Runs of the program: a process that has loaded it once forks itself for each of them.

Each run is a process of its own, with its own folder, environment and streams, and ends by itself; what is saved is
loading the same libraries a thousand times. Only modules are loaded before: no setting is read, no thread begun.
"""

from __future__ import annotations

import atexit
import contextlib
import gc
import importlib
import json
import os
import pkgutil
import select
import shlex
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

LIBRARIES = """
    PIL.JpegImagePlugin PIL.PngImagePlugin annotated_types blake3 cv2 filelock h5py imagecodecs jinja2
    matplotlib.backends.backend_agg matplotlib.figure matplotlib.font_manager msgspec numpy pydantic pyproj
    rich.console rich.progress rich.table scipy.ndimage scipy.spatial shapely tifffile typer urllib3
"""
MOST_S = 180


class Launcher:
    """Starts runs; several at once when threads ask for them.

    Parameters
    ----------
    folder : Path
        For what goes into runs and comes out of them.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._idle: list[subprocess.Popen[bytes]] = []
        self._listening: subprocess.Popen[bytes] | None = None
        self._count = 0
        self._lock = threading.Lock()

    def run(self, words: list[str], cwd: Path, stdin: str, env: dict[str, str]) -> tuple[int, str, str]:
        """Exit code, output and messages of a run."""
        if not hasattr(os, "pidfd_open"):
            done = subprocess.run([sys.executable, "-m", "zoompick", *words], cwd=cwd, input=stdin, env=env,
                                  capture_output=True, text=True, timeout=MOST_S)  # fmt: skip
            return done.returncode, done.stdout, done.stderr
        with self._lock:
            self._count += 1
            own = self._folder / str(self._count)
            server = self._idle.pop() if self._idle else None
        server = server or subprocess.Popen([sys.executable, __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        own.mkdir()
        streams = [own / name for name in ("stdin", "out", "err")]
        for path, text in zip(streams, (stdin, "", ""), strict=True):
            path.write_text(text)
        job = {"words": words, "cwd": str(cwd), "env": env, "streams": [*map(str, streams)]}
        server.stdin.write(json.dumps(job).encode() + b"\n")
        server.stdin.flush()
        code = json.loads(server.stdout.readline())
        with self._lock:
            self._idle.append(server)
        assert code is not None, f"{words} did not end in {MOST_S} s"
        return code, streams[1].read_text(), streams[2].read_text()

    def command(self) -> str:
        """The program as a shell calls it: words that take a run's own, with its streams, folder and environment."""
        place = self._folder / "asked"
        if not place.exists():
            self._listening = subprocess.Popen(
                [sys.executable, __file__, "listen", str(place)], stdin=subprocess.PIPE
            )
        return f"{shlex.quote(sys.executable)} -S -E {shlex.quote(__file__)} ask {shlex.quote(str(place))}"

    def end(self) -> None:
        """Let the processes go."""
        for server in (*self._idle, *filter(None, [self._listening])):
            server.stdin.close()
            server.wait(10)


def load() -> None:
    """All modules of the program, and the libraries that it loads when they are needed."""
    import zoompick

    for name in LIBRARIES.split():
        importlib.import_module(name)
    for found in pkgutil.walk_packages(zoompick.__path__, "zoompick."):
        if not found.name.endswith("__main__"):
            importlib.import_module(found.name)


def become(job: dict, handles: list[int]) -> None:
    """In the child: the folder, environment, words and streams of a run."""
    os.chdir(job["cwd"])
    os.environ.clear()
    os.environ.update(job["env"])
    for number, handle in enumerate(handles):
        os.dup2(handle, number)
        os.close(handle)
    sys.stdin, sys.stdout, sys.stderr = (
        os.fdopen(number, "r" if number == 0 else "w", encoding="utf-8", closefd=False) for number in range(3)
    )
    sys.argv = ["zoompick", *job["words"]]


def ended(pid: int) -> int | None:
    """The code of a child; None for one that did not end in time, which is stopped."""
    handle = os.pidfd_open(pid)
    try:
        in_time, _, _ = select.select([handle], [], [], MOST_S)
        if not in_time:
            os.kill(pid, 9)
        _, status = os.waitpid(pid, 0)
    finally:
        os.close(handle)
    return os.waitstatus_to_exitcode(status) if in_time else None


def serve() -> bool:
    """Carry runs out, one a line of JSON; True in a child, which goes on as the program."""
    load()
    gc.freeze()
    orders = os.fdopen(os.dup(0), "rb", buffering=0)
    answers = os.fdopen(os.dup(1), "wb", buffering=0)
    for line in iter(orders.readline, b""):
        pid = os.fork()
        if not pid:
            orders.close()
            answers.close()
            job = json.loads(line)
            flags = os.O_RDONLY, os.O_WRONLY, os.O_WRONLY
            become(job, [os.open(path, flag) for path, flag in zip(job["streams"], flags, strict=True)])
            return True
        answers.write(json.dumps(ended(pid)).encode() + b"\n")
    return False


def listen(place: str) -> bool:
    """The same for whoever asks at a socket, several at once, until the input ends; True in a child."""
    load()
    gc.freeze()
    with socket.socket(socket.AF_UNIX) as door:
        door.bind(f"{place}.new")
        door.listen()
        os.rename(f"{place}.new", place)  # noqa: PTH104
        while True:
            ready, _, _ = select.select([door, 0], [], [])
            if door not in ready:
                return False
            asked, _ = door.accept()
            if not os.fork():
                break
            asked.close()
            with contextlib.suppress(ChildProcessError):
                while os.waitpid(-1, os.WNOHANG)[0]:
                    pass
    data, handles, _, _ = socket.recv_fds(asked, 1 << 20, 3)
    while not data.endswith(b"\n"):
        data += asked.recv(1 << 20)
    pid = os.fork()
    if not pid:
        asked.close()
        become(json.loads(data), list(handles))
        return True
    asked.sendall(json.dumps(ended(pid)).encode())
    os._exit(0)


def ask(place: str, words: list[str]) -> int:
    """Have a run made with this process's streams, folder and environment."""
    while not os.path.exists(place):  # noqa: PTH110
        time.sleep(0.05)
    with socket.socket(socket.AF_UNIX) as line:
        line.connect(place)
        job = {"words": words, "cwd": os.getcwd(), "env": dict(os.environ)}  # noqa: PTH109
        socket.send_fds(line, [json.dumps(job).encode() + b"\n"], [0, 1, 2])
        return json.loads(line.recv(100) or "1")


def run() -> int:
    """The program, and what the interpreter does at its end but for taking every module apart; gives its code."""
    from zoompick.__main__ import main

    try:
        main()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else int(end.code is not None)
        if isinstance(end.code, str):
            sys.stderr.write(end.code)
    threading._shutdown()
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError):
            stream.flush()
    return code


if __name__ == "__main__":
    how = sys.argv[1:2]
    if how == ["ask"]:
        sys.exit(ask(sys.argv[2], sys.argv[3:]))
    if listen(sys.argv[2]) if how == ["listen"] else serve():
        os._exit(run())
