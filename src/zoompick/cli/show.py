"""The only place that writes to the terminal: tables, JSON, notes, progress."""

from __future__ import annotations

import io
import json
import pydoc
import re
import shutil
import sys
import textwrap
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, redirect_stdout
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NamedTuple

from rich.box import SIMPLE_HEAD
from rich.console import Console
from rich.table import Table
from rich.text import Text

from zoompick.addresses import is_remote, redacted, restored
from zoompick.cli.voice import VOICE
from zoompick.errors import ZoomPickError
from zoompick.events import Advanced, Event, Finished, Noted, Report, Retrying, Started
from zoompick.files import human_bytes, json_bytes
from zoompick.jsontypes import JsonObject
from zoompick.net.vault import Sorting
from zoompick.outgoing import seen
from zoompick.settings import BRIEF_NAME, whole

if TYPE_CHECKING:
    from rich.progress import Progress
    from rich.tree import Tree

    from zoompick.study.folder import Study

_WIDEST = 100
_NARROWEST, _MOST = 60, 200
_FLEXIBLE = 24
"""Columns that a flexible column keeps at least in a pipe."""
_BETWEEN_LINES_S = 10.0
_LONGEST_TASK = 24
_LONGEST_CELL = 60


class Column(NamedTuple):
    """Heading and alignment; a flexible column gives way when the terminal is narrow."""

    name: str
    justify: Literal["left", "right"] = "left"
    flexible: bool = False


def plain(text: str) -> str:
    """A text as a terminal may see it: names and titles come from outside, and so may what they hold.

    Addresses show no secrets.
    """
    return redacted(seen(text))


def width() -> int:
    """Columns of the terminal, between 60 and 200; 100 where there is none."""
    if not sys.stdout.isatty():
        return _WIDEST
    return min(_MOST, max(_NARROWEST, shutil.get_terminal_size((_WIDEST, 24)).columns))


def _console(to_stderr: bool = False, least: int = 0) -> Console:
    class Piped(Console):
        """A console whose reader may go away."""

        def on_broken_pipe(self) -> None:
            """Let it be told where all errors are."""
            raise BrokenPipeError

    stream = sys.stderr if to_stderr else sys.stdout
    wide = None if to_stderr and stream.isatty() else width() if stream.isatty() else max(_WIDEST, least)
    return Piped(file=stream, width=wide, highlight=False, markup=False, emoji=False)


def line(text: str = "") -> None:
    """One line of what was asked for, to standard output."""
    sys.stdout.write(plain(text) + "\n")


def sentence(words: str) -> None:
    """A sentence of what was asked for, broken at words, to standard output."""
    line(_wrapped(words))


def fact(label: str, words: str) -> None:
    """A label and what belongs to it, broken at words under one another, to standard output."""
    lead = f"  {label:<12} "
    line(textwrap.fill(words, min(width(), _WIDEST), initial_indent=lead, subsequent_indent=" " * len(lead)))


def text(parts: Iterable[str], is_json: bool = False) -> None:
    """Text in pieces to standard output; in JSON what a terminal may not see is escaped, and stays as it is."""
    sys.stdout.writelines(map(_escaped if is_json else plain, parts))


def _escaped(text: str) -> str:
    return "".join(one if one == seen(one) else f"\\u{ord(one):04x}" for one in text) if seen(text) != text else text


def old_words(study: Study) -> None:
    """Tell keys of a study's brief that are called otherwise now."""
    for sentence in study.brief().old_words:
        note(f"{BRIEF_NAME}: {sentence}")


def note(text: str) -> None:
    """A sentence about the work, to standard error, after what was asked for; to the log, too."""
    VOICE.keep(plain(text))
    if VOICE.is_quiet:
        return
    sys.stdout.flush()
    sys.stderr.write(_wrapped(text) + "\n")
    sys.stderr.flush()


def as_json(value: object) -> None:
    """A JSON document to standard output."""
    text = json_bytes(Sorting("").public(value), 2).decode()
    sys.stdout.write((_escaped(text) if _is_utf8() else _ascii(text)) + "\n")


def _ascii(text: str) -> str:
    """JSON for a terminal of few letters."""
    return text if text.isascii() else json.dumps(json.loads(text), indent=2)


def _is_utf8() -> bool:
    return (sys.stdout.encoding or "").lower().replace("-", "") == "utf8"


def error(problem: ZoomPickError) -> None:
    """What is wrong, and what to do."""
    lead = "zoompick: "
    lines = [_wrapped(problem.what, lead)]
    if problem.todo:
        lines.append(_wrapped(problem.todo, " " * len(lead)))
    VOICE.keep(plain(f"error: {problem.what} {problem.todo}"))
    sys.stdout.flush()
    sys.stderr.write("\n".join(lines) + "\n")


def place(path: Path) -> str:
    """A path as a person standing here would write it: from this folder where it lies below."""
    if is_remote(path):
        return restored(path)
    here = Path.cwd()
    if path == here:
        return "this folder"
    return str(path.relative_to(here)) if path.is_absolute() and path.is_relative_to(here) else str(path)


def counted(count: int, word: str) -> str:
    """A number and what it counts: ``1 file``, ``3 files``."""
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


_OPTION = re.compile(r"`([a-z][a-z-]*)`")


def in_options(text: str) -> str:
    """A sentence of the core as the command line says it: what stands in backticks is an option here."""
    return _OPTION.sub(r"--\1", text)


def _wrapped(text: str, lead: str = "") -> str:
    return textwrap.fill(
        plain(in_options(text)),
        min(width(), _WIDEST),
        initial_indent=lead,
        subsequent_indent=" " * len(lead),
        break_long_words=False,
        break_on_hyphens=False,
    )


def table(columns: Sequence[Column], rows: Sequence[Sequence[str]], title: str = "") -> None:
    """A table to standard output, as wide as the terminal; in a pipe 100 columns, and more where ids need them.

    Flexible columns give way first; what has to be cut is folded, never shortened.
    """
    grid = Table(box=SIMPLE_HEAD, pad_edge=False, title=title or None, title_justify="left", show_edge=False)
    shown = [[plain(cell) for cell in row] for row in rows]
    longest = [
        max(len(column.name), *(len(row[place]) for row in shown)) if shown else len(column.name)
        for place, column in enumerate(columns)
    ]
    # A cell longer than any that is meant gives way, too: else others would be cut for it.
    columns = [
        column._replace(flexible=column.flexible or size > _LONGEST_CELL)
        for column, size in zip(columns, longest, strict=True)
    ]
    for column in columns:
        grid.add_column(
            column.name,
            justify=column.justify,
            no_wrap=not column.flexible,
            overflow="fold",
        )
    for row in shown:
        grid.add_row(*(Text(cell, style=_STYLES.get(cell, "")) for cell in row))
    fixed = [min(size, _FLEXIBLE) if column.flexible else size for size, column in zip(longest, columns, strict=True)]
    _console(least=sum(fixed) + 2 * len(fixed)).print(grid)


class Branch(NamedTuple):
    """A line of a tree and what hangs below it."""

    text: str
    below: tuple[Branch, ...] = ()


def tree(roots: Sequence[Branch]) -> None:
    """Trees to standard output, one below the other."""
    from rich.tree import Tree

    def grown(branch: Branch, stem: Tree) -> None:
        for one in branch.below:
            grown(one, stem.add(Text(plain(one.text))))

    for root in roots:
        stem = Tree(Text(plain(root.text)))
        grown(root, stem)
        _console().print(stem)


@contextmanager
def paged(rows: int) -> Iterator[None]:
    """What is printed inside comes page by page, when it is longer than the terminal; elsewhere all at once."""
    if not sys.stdout.isatty() or rows < shutil.get_terminal_size().lines - 4 or not whole("page_lists"):
        yield
        return

    held = io.StringIO()
    with redirect_stdout(held):
        yield
    pydoc.pager(held.getvalue())


_STYLES = {"pass": "green", "warn": "yellow", "fail": "bold red"}


@contextmanager
def progress() -> Iterator[Report]:
    """A hook that draws events as bars on a terminal, and as plain lines elsewhere, on standard error."""
    if VOICE.is_quiet or VOICE.is_verbose or VOICE.log or not sys.stderr.isatty():
        yield _Log()
        return
    with _bars() as bars:
        yield _Drawn(bars)


class _Log:
    """Events as plain lines: notes as they come, and of long work a line now and then."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._totals: dict[str, float] = {}
        self._units: dict[str, str] = {}
        self._done: dict[str, float] = {}
        self._old: dict[str, float] = {}
        self._began: dict[str, float] = {}
        self._told: dict[str, float] = {}

    def __call__(self, event: Event) -> None:
        if VOICE.is_verbose and isinstance(event, Started | Finished):
            note(f"{'Begun' if isinstance(event, Started) else 'Done'}: {event.task}")
        if isinstance(event, Noted):
            note(event.text)
        elif isinstance(event, Retrying):
            note(_retry_text(event))
        elif isinstance(event, Started) and event.total:
            now = time.monotonic()
            self._totals[event.task], self._done[event.task] = event.total, 0.0
            self._units[event.task] = event.unit
            self._old[event.task] = 0.0
            self._began[event.task] = self._told[event.task] = now
        elif isinstance(event, Advanced) and event.task in self._totals:
            self._advance(event)

    def _advance(self, event: Advanced) -> None:
        with self._lock:
            self._done[event.task] += event.amount
            self._old[event.task] += event.amount if event.is_old else 0
            now, done, total = time.monotonic(), self._done[event.task], self._totals[event.task]
            if now - self._told[event.task] < _BETWEEN_LINES_S:
                return
            self._told[event.task] = now
        rate = (done - self._old[event.task]) / (now - self._began[event.task])
        left = f", {max(0.0, total - done) / rate:.0f} s left" if rate > 0 else ""
        note(f"{event.task}: {_amount(done, total, rate, self._units[event.task])}{left}")


def _retry_text(event: Retrying) -> str:
    return f"{event.why} Trying again in {event.wait_s:.1f} s (attempt {event.attempt + 1})."


def _bars() -> Progress:
    from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeRemainingColumn

    return Progress(
        TextColumn("{task.description}"),
        BarColumn(bar_width=18),
        TaskProgressColumn(),
        TextColumn("{task.fields[amount]}"),
        TimeRemainingColumn(compact=True),
        console=_console(to_stderr=True),
        transient=True,
    )


def _shortened(task: str) -> str:
    """The end of a long name, where names of files differ: the bar beside it needs its room."""
    return task if len(task) <= _LONGEST_TASK else "…" + task[1 - _LONGEST_TASK :]


class _Drawn:
    """Events as bars."""

    def __init__(self, bars: Progress) -> None:
        self._bars = bars
        self._tasks: JsonObject = {}
        self._units: dict[str, str] = {}

    def __call__(self, event: Event) -> None:
        if isinstance(event, Started):
            self._units[event.task] = event.unit
            self._tasks[event.task] = self._bars.add_task(
                plain(_shortened(event.task)), total=event.total or None, amount=""
            )
        elif isinstance(event, Advanced):
            self._advance(event)
        elif isinstance(event, Finished):
            if event.task in self._tasks:
                self._bars.remove_task(self._tasks.pop(event.task))
        elif isinstance(event, Noted):
            self._bars.console.print(plain(in_options(event.text)))
        else:
            self._bars.console.print(plain(_retry_text(event)))

    def _advance(self, event: Advanced) -> None:
        task = self._tasks.get(event.task)
        if task is None:
            return
        if event.is_old:
            # What was done before tells no rate: the clock begins anew.
            before = next(entry for entry in self._bars.tasks if entry.id == task)
            self._bars.reset(task, completed=int(before.completed + event.amount))
        else:
            self._bars.advance(task, event.amount)
        state = next(entry for entry in self._bars.tasks if entry.id == task)
        self._bars.update(task, amount=_amount(state.completed, state.total, state.speed, self._units[event.task]))


def _amount(done: float, total: float | None, speed: float | None, unit: str) -> str:
    if unit == "B":
        rate = f", {human_bytes(speed)}/s" if speed else ""
        return f"{human_bytes(done)}{f' of {human_bytes(total)}' if total else ''}{rate}"
    return f"{done:.0f}{f' of {total:.0f}' if total else ''} {unit}"
