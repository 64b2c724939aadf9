"""Runs of the program inside the test process: streams, folder and environment of their own, no memory of others.

What a process keeps of files that it read (settings, facts of the user) is forgotten first; what only costs time and
cannot change between two runs, loaded libraries, stays.
"""

from __future__ import annotations

import contextlib
import io
import os
import signal
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

_alone = threading.Lock()


def run(words: list[str], cwd: Path, stdin: str, env: dict[str, str]) -> tuple[int, str, str] | None:
    """Exit code, output and messages of a run; None while another one is under way here."""
    if threading.current_thread() is not threading.main_thread() or not _alone.acquire(blocking=False):
        return None
    try:
        with _place(cwd, env), _streams(stdin) as (out, err), _manners(words):
            code = _code()
        return code, *(stream.buffer.getvalue().decode(errors="replace") for stream in (out, err))
    finally:
        _alone.release()


def _code() -> int:
    from zoompick.__main__ import main

    _forget()
    try:
        main()
    except SystemExit as end:
        if isinstance(end.code, str):
            sys.stderr.write(end.code)
        return end.code if isinstance(end.code, int) else int(end.code is not None)
    finally:
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
    return 0


def _forget() -> None:
    """Empty what functions of the program have kept; the archive's own are of another process."""
    for name, module in list(sys.modules.items()):
        if name.startswith("zoompick.") and not name.startswith("zoompick.standin"):
            for value in list(vars(module).values()):
                if callable(clear := getattr(value, "cache_clear", None)):
                    clear()


@contextlib.contextmanager
def _place(cwd: Path, env: dict[str, str]) -> Iterator[None]:
    before, folder = dict(os.environ), Path.cwd()
    os.environ.clear()
    os.environ.update(env)
    os.chdir(cwd)
    try:
        yield
    finally:
        os.chdir(folder)
        os.environ.clear()
        os.environ.update(before)


@contextlib.contextmanager
def _streams(stdin: str) -> Iterator[tuple[io.TextIOWrapper, io.TextIOWrapper]]:
    before = sys.stdin, sys.stdout, sys.stderr
    given = io.TextIOWrapper(io.BytesIO(stdin.encode(errors="surrogateescape")), encoding="utf-8")
    out, err = (io.TextIOWrapper(io.BytesIO(), encoding="utf-8") for _ in range(2))
    sys.stdin, sys.stdout, sys.stderr = given, out, err
    try:
        yield out, err
    finally:
        sys.stdin, sys.stdout, sys.stderr = before


@contextlib.contextmanager
def _manners(words: list[str]) -> Iterator[None]:
    """Arguments, signals and the stop that a run may leave behind."""
    argv, handlers = sys.argv, {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}
    sys.argv = ["zoompick", *words]
    try:
        yield
    finally:
        sys.argv = argv
        for number, handler in handlers.items():
            signal.signal(number, handler)
