"""Stopping: Ctrl-C or a request of the system ends any command within a second, whatever waits on the network."""

from __future__ import annotations

import os
import signal
import sys
import threading
from types import FrameType

from zoompick.cli import exits

_PATIENCE_S = 0.7
_asked = threading.Event()


def listen() -> None:
    """Take SIGINT and SIGTERM from now on; one that whoever started us had ignored stays ignored."""
    for number in (signal.SIGINT, signal.SIGTERM):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _stop)
    sys.unraisablehook = _untold


def _untold(told: sys.UnraisableHookArgs) -> None:
    """A stop that hit one of the interpreter's own callbacks is lost there: the timer ends us all the same."""
    if not (was_asked() and told.exc_type is KeyboardInterrupt):
        sys.__unraisablehook__(told)


def was_asked() -> bool:
    """True once a person or the system has asked to stop: whatever goes wrong afterwards comes of that."""
    return _asked.is_set()


def _stop(number: int, frame: FrameType | None) -> None:
    if not _asked.is_set():
        _asked.set()
        timer = threading.Timer(_PATIENCE_S, end)
        timer.daemon = True
        timer.start()
    raise KeyboardInterrupt


def end() -> None:
    """Say so and leave at once: a thread may still wait for a source, and nobody wants to wait with it."""
    _asked.set()
    if journal := sys.modules.get("zoompick.journal"):
        journal.close_all()
    for stream, text in ((sys.stdout, ""), (sys.stderr, "zoompick: stopped. The same command goes on from here.\n")):
        try:
            stream.write(text)
            stream.flush()
        except (OSError, ValueError):
            continue
    os._exit(exits.STOPPED)
