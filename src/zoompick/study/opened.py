"""A study with its verbs, for Python."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick.area.model import Area
from zoompick.events import Report, ignore
from zoompick.journal import history
from zoompick.jsontypes import JsonMap, JsonObject
from zoompick.orders.desk import Limit, Terms
from zoompick.orders.queue import Order
from zoompick.products.step import Made
from zoompick.scenes.finding import Finding
from zoompick.scenes.scenelist import Entry
from zoompick.study import batch, choosing, folder, like, orders, run, shortlist, watch
from zoompick.study.areas import as_area, change_area, set_area
from zoompick.study.locking import Lock, lock_study
from zoompick.study.making import make_in_study
from zoompick.study.reporting import StudyReport, report_of
from zoompick.study.run import RunOptions, StudyRun
from zoompick.study.status import StudyState, state_of
from zoompick.study.verify import CheckOptions, judge_study

if TYPE_CHECKING:
    from zoompick.study.new import NewStudy

Ground = Area | str | os.PathLike[str]


@dataclass(frozen=True)
class Study(folder.Study):
    """A study by its folder; each verb is the function of the package that the command calls.

    All of them work in the folder under the study's lock, and write into its history, as their commands do.
    """

    def state(self, with_products: bool = True) -> StudyState:
        """How far it is: ``zoompick status``."""
        return state_of(self, with_products)

    def run(self, options: RunOptions | None = None, report: Report = ignore) -> StudyRun:
        """Carry out its brief; see :func:`zoompick.study.run.run`."""
        return run.run(self, report, options)

    def run_each(self, options: batch.BatchOptions, report: Report = ignore) -> Iterator[batch.Outcome]:
        """Carry out its brief for many areas or spans of time, one after the other as they are asked for."""
        return batch.run_batch(self, batch.units_of(self, options), options.run, report)

    def watch(
        self,
        options: watch.WatchOptions,
        how: RunOptions | None = None,
        wait: Callable[[float], None] = time.sleep,
        report: Report = ignore,
    ) -> Iterator[watch.Round]:
        """Search again and again, and carry out its brief for what is new.

        Parameters
        ----------
        wait : callable
            Waits so many seconds between two rounds.
        """
        return watch.watch(self, options, how or RunOptions(), wait, report)

    def begin_like(self, where: str | os.PathLike[str], options: NewStudy) -> Study:
        """Begin another study with its brief, area, sources and facts; the options' values take their place."""
        return Study(like.study_like(Path(where), self, options).root)

    def set_area(self, area: Ground) -> None:
        """Make this its area: an Area, a file, a place, coordinates."""
        set_area(self, as_area("area", area))

    def change_area(
        self, grow: str = "", simplify: str = "", add: Sequence[Ground] = (), cut: Sequence[Ground] = ()
    ) -> Area:
        """Widen its area (``500m``; below 0 it shrinks), simplify it, add other ground to it, cut some out."""
        more, less = ([as_area("area", one) for one in several] for several in (add, cut))
        return change_area(self, grow, simplify, more, less)

    def shortlist(self) -> list[Entry]:
        """The picked scenes."""
        return shortlist.shortlist(self)

    def pick(
        self, add: Sequence[Entry] = (), drop: Sequence[Entry] = (), only: bool = False, verb: str = "pick"
    ) -> list[Entry]:
        """Change the shortlist; what is picked then. See :func:`zoompick.study.choosing.change_shortlist`."""
        return choosing.change_shortlist(self, add, drop, only, verb)

    def undo(self) -> list[Entry]:
        """The shortlist before its last change."""
        return choosing.undo_shortlist(self)

    def make(
        self,
        kind: str,
        told: JsonMap | None = None,
        report: Report = ignore,
        recipe: Sequence[object] | None = None,
    ) -> list[Made]:
        """Make one kind of product for every day, as the brief says or as told here."""
        return make_in_study(self, kind, recipe, told, report)

    def verify(self, options: CheckOptions | None = None, report: Report = ignore) -> list[Finding]:
        """Judge all its products."""
        return judge_study(self, report, options)

    def report(self) -> StudyReport:
        """What a person would hand over."""
        return report_of(self)

    def lock(self) -> tuple[Any, Lock]:
        """Write down scenes, files and products with their digests."""
        return lock_study(self)

    def history(self, name: str = "", last: int = 0) -> Sequence[JsonObject]:
        """What was done, when, and how it ended."""
        return history(self.journal_file, name, last)

    def order_terms(self, report: Report = ignore) -> list[Terms]:
        """The terms of what the shortlist would buy; :meth:`accept_terms` accepts them by their digest."""
        return orders.order_terms(self, report)

    def accept_terms(self, sha256: str) -> Terms:
        """Accept the terms of this digest."""
        return orders.accept_terms(self, sha256)

    def plan_orders(self) -> orders.OrderPlan:
        """What would be ordered, how long it takes and what it costs."""
        return orders.plan_orders(self)

    def submit_orders(self, price_max: Limit | Sequence[Limit] = ()) -> list[Order]:
        """Hand in what is planned, up to a price that is accepted."""
        return orders.submit_orders(self, price_max)

    def orders(self) -> list[Order]:
        """Its orders, as the source tells them now."""
        return orders.refresh_orders(self)

    def wait_for_orders(
        self, every_s: float = 30, limit_s: float = 0, report: Report = ignore, hand_in: bool = False
    ) -> tuple[list[Order], int]:
        """Wait for its orders and fetch what is ready; see :func:`zoompick.study.orders.wait_for_orders`."""
        return orders.wait_for_orders(self, every_s, limit_s, report, hand_in)

    def cancel_orders(self, numbers: Sequence[int], not_taken: bool = False) -> list[Order]:
        """Cancel some; see :func:`zoompick.study.orders.cancel_orders`."""
        return orders.cancel_orders(self, numbers, not_taken)

    def adopt_order(self, number: int, job: str) -> list[Order]:
        """Say which job of the source an order is, whose connection broke while it was handed in."""
        return orders.adopt_order(self, number, job)
