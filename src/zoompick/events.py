"""Events by which the core tells what happens; it never prints.

They are named tuples, which are made in a sixth of the time that frozen dataclasses take: every command loads them.

A :data:`Report` is any callable that takes one event. The command line draws them as bars and lines, tests
collect them in a list, and :func:`ignore` drops them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple


class Started(NamedTuple):
    """A piece of work begins. ``total`` counts ``unit`` (``"B"`` for bytes); 0 when not known."""

    task: str
    total: int = 0
    unit: str = ""


class Advanced(NamedTuple):
    """``amount`` more units of ``task`` are done; ``is_old`` for those of an earlier run, which tell no rate."""

    task: str
    amount: int
    is_old: bool = False


class Finished(NamedTuple):
    """``task`` ended; ``outcome`` says in a few words what came of it."""

    task: str
    outcome: str = ""


class Retrying(NamedTuple):
    """A request failed and is tried again after ``wait_s`` seconds."""

    what: str
    why: str
    attempt: int
    wait_s: float


class Noted(NamedTuple):
    """Something a person should know that is no error."""

    text: str


Event = Started | Advanced | Finished | Retrying | Noted
Report = Callable[[Event], None]


def ignore(event: Event) -> None:
    """Drop an event: the default hook."""
