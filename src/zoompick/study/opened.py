"""A study with its verbs, for Python."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from zoompick.area.model import Area
from zoompick.events import Report, ignore
from zoompick.journal import history
from zoompick.products.step import Made
from zoompick.scenes.finding import Finding
from zoompick.scenes.scenelist import Entry
from zoompick.study import folder, run
from zoompick.study.areas import set_area
from zoompick.study.choosing import change_shortlist, undo_shortlist
from zoompick.study.locking import Lock, lock_study
from zoompick.study.making import make_in_study
from zoompick.study.reporting import StudyReport, report_of
from zoompick.study.run import RunWish, StudyRun
from zoompick.study.shortlist import shortlist
from zoompick.study.status import StudyState, state_of
from zoompick.study.verify import Wish, judge_study


@dataclass(frozen=True)
class Study(folder.Study):
    """A study by its folder; each verb is the function of the package that the command calls."""

    def state(self, with_products: bool = True) -> StudyState:
        """How far it is."""
        return state_of(self, with_products)

    def run(self, wish: RunWish | None = None, report: Report = ignore) -> StudyRun:
        """Carry out its brief."""
        return run.run(self, report, wish)

    def shortlist(self) -> list[Entry]:
        """The picked scenes."""
        return shortlist(self)

    def pick(self, add: Sequence[Entry] = (), drop: Sequence[Entry] = (), only: bool = False) -> list[Entry]:
        """Change the shortlist; what is picked then."""
        return change_shortlist(self, add, drop, only)

    def undo(self) -> list[Entry]:
        """The shortlist before its last change."""
        return undo_shortlist(self)

    def make(self, kind: str, told: Mapping[str, Any] | None = None, report: Report = ignore) -> list[Made]:
        """Make one kind of product for every day, as the brief says or as told here."""
        return make_in_study(self, kind, None, told, report)

    def verify(self, wish: Wish | None = None, report: Report = ignore) -> list[Finding]:
        """Judge all its products."""
        return judge_study(self, report, wish)

    def report(self) -> StudyReport:
        """What a person would hand over."""
        return report_of(self)

    def lock(self) -> tuple[Any, Lock]:
        """Write down scenes, files and products with their digests."""
        return lock_study(self)

    def history(self, name: str = "", last: int = 0) -> Sequence[dict[str, Any]]:
        """What was done, when, and how it ended."""
        return history(self.journal_file, name, last)

    def set_area(self, area: Area) -> None:
        """Make this its area."""
        set_area(self, area)
