"""Make what a study's brief asks for."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from zoompick.errors import CancelledError, ClusterError, DiskError, NothingFoundError, StudyError, ZoomPickError
from zoompick.events import Report, ignore
from zoompick.jsontypes import JsonMap
from zoompick.products.how import Making
from zoompick.products.kinds.table import KINDS
from zoompick.products.step import Made, Step
from zoompick.study.folder import Study, at_home
from zoompick.study.plan import plan_study
from zoompick.study.shortlist import shortlist
from zoompick.vouched import Vouched


@at_home
def make_in_study(
    study: Study,
    kind: str,
    recipe: Sequence[object] | None = None,
    told: JsonMap | None = None,
    report: Report = ignore,
) -> list[Made]:
    """Make one kind of product for every day of a study's shortlist.

    Parameters
    ----------
    recipe : sequence of object, optional
        In place of those that the brief names.
    told : mapping, optional
        Values of the kind's rules by field, in place of the brief's.

    Raises
    ------
    NothingFoundError
        No scene is picked.
    StudyError
        A step before this one was not carried out.
    """
    brief, area = study.brief(), study.area()
    if told:
        rules = next(one.rules for one in KINDS if one.name == kind)
        brief = brief.changed(replace(brief.one(rules), **told))
    plan = plan_study(study, brief, area, [entry.scene for entry in shortlist(study)], kind, recipe)
    if not plan.days:
        raise NothingFoundError("No scene is picked.", "Search, then pick by number: 'zoompick pick 1'.")
    with study.locked():
        return make_steps(study, plan.steps, report)


def make_steps(
    study: Study,
    steps: Sequence[Step],
    report: Report = ignore,
    failed: list[Failed] | None = None,
    is_thorough: bool = False,
    codecs: Mapping[Path, str] | None = None,
) -> list[Made]:
    """Make the products that are not up to date; study products are the brief's to replace.

    Parameters
    ----------
    failed : list, optional
        Takes what cannot be made, and all else is made; without it the first that cannot be made ends all.
    is_thorough : bool
        Every file is read for its digest, whatever size and time stamp say.
    codecs : mapping, optional
        What products have to be pressed with; see :class:`~zoompick.products.how.Making`.

    Raises
    ------
    StudyError
        An input is not here.
    """
    made = []
    with Vouched(study.vouched_file, trusts=not is_thorough) as vouched:
        how = Making(True, report, vouched.digest, codecs=codecs or {})
        # Products of the same files are made in one pass over them.
        for _, group in itertools.groupby(steps, key=lambda step: (step.inputs, step.output.parent)):
            chosen = list(group)
            try:
                made += _made(study, chosen, how, failed or ())
            except (CancelledError, ClusterError, DiskError):
                raise
            except ZoomPickError as error:
                if failed is None:
                    raise
                failed += [Failed(step.output, error) for step in chosen]
    return made


def _made(study: Study, steps: Sequence[Step], how: Making, failed: Sequence[Failed]) -> list[Made]:
    """Products of the same files, of which none failed."""
    from zoompick.products.making import make_group

    for step in steps:
        _refuse_missing(step)
        _refuse_failed(step, failed)
    names = [step.output.relative_to(study.root).as_posix() for step in steps]
    return make_group(steps, how, study.journal_file, names)


class Failed(NamedTuple):
    """What could not be fetched or made, and why."""

    path: Path
    error: ZoomPickError


def _refuse_failed(step: Step, failed: Sequence[Failed]) -> None:
    """What is made of a product that could not be made anew would be of the old one."""
    bad = {one.path for one in failed} & set(step.inputs)
    if bad:
        raise StudyError(f"It is made of {next(iter(bad)).name}, which could not be made.", "Look at that first.")


def _refuse_missing(step: Step) -> None:
    missing: list[Path] = [path for path in step.inputs if not path.is_file()]
    if missing or not step.inputs:
        name = missing[0].name if missing else "a band"
        raise StudyError(
            f"The {step.name} {step.output.parent.name}/{step.output.name} needs {name}, which is not here.",
            "Run 'zoompick run', or the steps before it: download, stack, clip.",
        )
