"""One brief for many areas or many periods: a study for each, and a table of what came of them."""

from __future__ import annotations

import csv
import io
import platform
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import NamedTuple

from zoompick.area.model import Area
from zoompick.area.read import Each, read_each
from zoompick.errors import StudyError, UsageError, ZoomPickError
from zoompick.events import Noted, Report, ignore
from zoompick.files import unique_names, write_text
from zoompick.outgoing import csv_cell
from zoompick.raster import engine
from zoompick.scenes.period import Period
from zoompick.study.folder import Study, at_home
from zoompick.study.like import follow
from zoompick.study.new import NewStudy
from zoompick.study.run import RunOptions, StudyRun, run

SUMMARY = "summary.csv"
_FORMER = "each"


@dataclass(frozen=True)
class BatchOptions:
    """What a batch is made of.

    Attributes
    ----------
    layer : Path or None
        A file of polygons, each an area; None for the study's own area.
    column : str
        Attribute that names them.
    periods : tuple of str
        A study for each; all the brief's dates in one when empty.
    folder : Path or None
        Where the studies go; ``each`` in the study by default.
    """

    layer: Path | None = None
    column: str = ""
    periods: Sequence[str] = ()
    folder: Path | None = None
    run: RunOptions = field(default_factory=RunOptions)


class Unit(NamedTuple):
    """One study of a batch: its name, its folder, its area, its period where it has one; what keeps it from a run."""

    name: str
    folder: Path
    area: Area
    period: str
    problem: ZoomPickError | None = None


class Outcome(NamedTuple):
    """What came of one study: its run, or the error that kept it from being run."""

    unit: Unit
    done: StudyRun | None
    error: ZoomPickError | None

    @property
    def state(self) -> str:
        """``done``, ``in part``, ``checks failed`` or ``failed``."""
        if self.done is None:
            return "failed"
        if self.done.failed:
            return "in part"
        return "checks failed" if any(one.outcome == "fail" for one in self.done.findings) else "done"


def units_of(study: Study, options: BatchOptions) -> list[Unit]:
    """The studies of a batch, areas in the order of the layer, each with all periods.

    Raises
    ------
    UsageError
        A date cannot be read, or one stands there twice.
    AreaError
        The layer cannot be read, or does not name most of its polygons apart.
    """
    for period in options.periods:
        Period.parse(period)
    if len(set(options.periods)) < len(options.periods):
        raise UsageError("A period stands there twice.", "Name each once.")
    areas = read_each(options.layer, options.column) if options.layer else [Each(study.area())]
    told = [(one, period) for one in areas for period in options.periods or ("",)]
    words = [" ".join(part for part in (one.area.name if options.layer else "", period.replace("/", " to ")) if part)
             for one, period in told]  # fmt: skip
    folder = options.folder or study.root / _FORMER
    if _is_of_others(folder / SUMMARY):
        raise UsageError(
            f"{folder / SUMMARY} is no table of a batch.", "Move it, or give another folder: `to` FOLDER."
        )
    return [
        Unit(text, folder / name, one.area, period, one.problem)
        for text, name, (one, period) in zip(words, unique_names(words), told, strict=True)
    ]


def _is_of_others(path: Path) -> bool:
    """A table that no batch wrote is not written over."""
    return path.exists() and not path.read_bytes().startswith(",".join(ROW).encode())


def run_batch(study: Study, units: Sequence[Unit], options: RunOptions, report: Report = ignore) -> Iterator[Outcome]:
    """Carry out the brief for each unit; one that fails keeps no other from being done.

    On a cluster each study is a job of one worker: they need the study's folder, and its sources by address.
    """
    if engine.elsewhere() is not None:
        with engine.crew_of() as crew:
            outcomes = engine.each(crew.unrepeated, units, partial(_run_there, study, options))
            for number, outcome in enumerate(outcomes, 1):
                report(Noted(f"{outcome.unit.name} ({number} of {len(units)})"))
                yield outcome
        return
    for number, unit in enumerate(units, 1):
        report(Noted(f"{unit.name} ({number} of {len(units)})"))
        yield run_unit(study, unit, options, report)


@at_home
def run_unit(study: Study, unit: Unit, options: RunOptions, report: Report = ignore) -> Outcome:
    """Carry out the brief for one."""
    if unit.problem is not None:
        return Outcome(unit, None, unit.problem)
    dates = (unit.period,) if unit.period else ()
    try:
        own = follow(unit.folder, study, NewStudy(unit.name, unit.area, dates=dates))
        return Outcome(unit, run(own, report, options), None)
    except ZoomPickError as error:
        return Outcome(unit, None, error)


def _run_there(study: Study, options: RunOptions, unit: Unit) -> Outcome:
    """On a worker, which has to see the study."""
    if not study.brief_file.is_file():
        what = f"The worker {platform.node()} does not see {study.root}."
        return Outcome(unit, None, StudyError(what, "Put the study where all workers reach it."))
    return run_unit(study, unit, options, ignore)


ROW = ("name", "state", "scenes", "products", "made_new", "checks_passed", "checks", "area_km2", "folder", "reason")


def row_of(outcome: Outcome) -> dict[str, object]:
    """An outcome as a row of the summary."""
    unit, done, error = outcome
    facts: tuple[object, ...] = (0, 0, 0, 0, 0)
    if done is not None:
        passed = sum(one.outcome == "pass" for one in done.findings)
        new = sum(not one.was_current for one in done.made)
        facts = (len(done.entries), len(done.made), new, passed, len(done.findings))
        error = error or (done.failed[0].error if done.failed else None)
    reason = f"{error.what} {error.todo}".strip() if error else ""
    size_km2 = 0 if unit.area.polygon.is_empty else round(unit.area.size_km2, 4)
    told = (unit.name, outcome.state, *facts, size_km2, str(unit.folder), reason)
    return dict(zip(ROW, told, strict=True))


def write_summary(folder: Path, outcomes: Sequence[Outcome]) -> Path:
    """A table of the whole batch (CSV, RFC 4180), beside its studies."""
    stream = io.StringIO(newline="")
    table = csv.DictWriter(stream, ROW)
    table.writeheader()
    for outcome in outcomes:
        row = row_of(outcome) | {"folder": outcome.unit.folder.name}
        table.writerow({name: csv_cell(value) for name, value in row.items()})
    write_text(folder / SUMMARY, stream.getvalue())
    return folder / SUMMARY
