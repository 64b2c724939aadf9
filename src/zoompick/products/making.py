"""Make products of files, in one pass over them; a journal tells of them."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path

from zoompick.journal import act
from zoompick.products.how import Making
from zoompick.products.maker import make_together
from zoompick.products.step import Made, Step


def make_files(steps: Sequence[Step], how: Making, journal: Path | None = None) -> list[Made]:
    """Make products of the same plain files, in one pass; a journal tells of them, where there is one."""
    names = [_name(step.output, journal) for step in steps]
    return make_group(steps, replace(how, is_asked=how.may_replace), journal, names)


def _name(path: Path, journal: Path | None) -> str:
    """A path as a journal tells it: from the study where it lies in it, so that the study can move."""
    home, there = journal.parent.resolve() if journal else None, path.resolve()
    return there.relative_to(home).as_posix() if home is not None and there.is_relative_to(home) else str(path)


def make_group(steps: Sequence[Step], how: Making, journal: Path | None, names: Sequence[str]) -> list[Made]:
    """Make products of the same files in one pass, a line of the journal each, under these names."""
    with ExitStack() as stack:
        # What is entered last ends first: the lines come in the order of the steps.
        pairs = list(zip(steps, names, strict=True))[::-1]
        acts = [stack.enter_context(act(journal, step.name, product=name)) for step, name in pairs][::-1]
        made = make_together(steps, how)
        for doing, product in zip(acts, made, strict=True):
            doing.note(**product.facts)
            if product.was_current:
                doing.nothing_done()
    return made
