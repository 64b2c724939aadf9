"""The journal: one JSON line per act."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from zoompick.addresses import redacted
from zoompick.errors import CancelledError
from zoompick.files import disk_errors, parse_json
from zoompick.jsontypes import JsonObject


class Act:
    """What is being done; ``note`` adds facts to its line."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.facts: JsonObject = {}
        self.is_kept = True
        self.outcome = "done"

    def nothing_done(self) -> None:
        """What was to be done was done before: it gets no line."""
        self.is_kept = False

    def failed(self) -> None:
        """It was carried out, and what it found is bad."""
        self.outcome = "failed"

    def note(self, **facts: object) -> None:
        """Add facts that JSON can hold."""
        self.facts |= facts


_under_way: list[Callable[[], None]] = []
"""What writes the lines of the acts that are going on in this process."""


def close_all() -> None:
    """Write the lines of all acts that are going on, as stopped: the process ends now."""
    while _under_way:
        _under_way.pop()()


@contextmanager
def act(journal: Path | None, name: str, **facts: object) -> Iterator[Act]:
    """Write one line when the block ends, however it ends; nothing when there is no journal."""
    doing = Act(name)
    doing.note(**facts)
    began, clock = datetime.now(UTC), time.monotonic()
    outcome = ""

    def write(outcome: str = "stopped") -> None:
        line: JsonObject = {"time": began.isoformat(timespec="seconds"), "act": name, "outcome": outcome}
        line |= {"seconds": round(time.monotonic() - clock, 3)} | doing.facts
        if journal is not None and doing.is_kept:
            _append(journal, redacted(json.dumps(line, ensure_ascii=True, default=str)))

    _under_way.append(write)
    try:
        yield doing
    except BaseException as error:
        outcome = "stopped" if isinstance(error, KeyboardInterrupt | CancelledError) else "failed"
        doing.note(reason=getattr(error, "what", type(error).__name__))
        raise
    finally:
        if write in _under_way:
            _under_way.remove(write)
            write(outcome or doing.outcome)


def acts(journal: Path | None) -> Iterator[JsonObject]:
    """Lines of a journal from the first to the last; one that cannot be read is left out."""
    if journal is None or not journal.exists():
        return
    with journal.open(encoding="utf-8", errors="replace") as lines:
        for line in lines:
            try:
                found = parse_json(line)
            except ValueError:
                continue
            if isinstance(found, dict):
                yield found


def history(journal: Path | None, name: str = "", last: int = 0) -> Sequence[JsonObject]:
    """Acts of the journal, oldest first.

    Parameters
    ----------
    name : str
        Only those whose name begins so.
    last : int
        At most so many, the newest; 0 for all.
    """
    found = [line for line in acts(journal) if str(line.get("act", "")).startswith(name)]
    return found[-last:] if last else found


def _append(path: Path, line: str) -> None:
    """One write to a file opened for appending: lines of two processes do not mix."""
    with disk_errors(path):
        handle = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o666)
        try:
            os.write(handle, (line + "\n").encode())
        finally:
            os.close(handle)
