"""Which part of a study's process is carried out: from one stage, up to one, or some alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zoompick.errors import UnknownNameError, UsageError
from zoompick.products.kinds.table import KINDS

SEARCH, DOWNLOAD, VERIFY = "search", "download", "verify"
ORDER = (SEARCH, DOWNLOAD, *(kind.name for kind in KINDS), VERIFY)
"""Search and download, the kinds of products in the order in which they are made, and verify."""


@dataclass(frozen=True)
class Stages:
    """Stages that are carried out."""

    names: frozenset[str] = frozenset(ORDER)

    @classmethod
    def of(cls, first: str = "", last: str = "", only: Sequence[str] = ()) -> Stages:
        """From the first to the last named; or some alone.

        Raises
        ------
        UnknownNameError, UsageError
            No such stage, or the last comes before the first.
        """
        for name in (first, last, *only):
            if name and name not in ORDER:
                raise UnknownNameError.of("stage", name, ORDER)
        if only and (first or last):
            raise UsageError(
                "Both a span of stages and some alone are asked for.", "Give `only`, or `from` and `until`."
            )
        if only:
            return cls(frozenset(only))
        start, stop = ORDER.index(first or ORDER[0]), ORDER.index(last or ORDER[-1])
        if start > stop:
            raise UsageError(f"{last} comes before {first}.", f"The order is {', '.join(ORDER)}.")
        return cls(frozenset(ORDER[start : stop + 1]))

    def has(self, name: str) -> bool:
        """Whether a stage is carried out."""
        return name in self.names

    @property
    def is_whole(self) -> bool:
        """True when nothing is left out."""
        return self.names == frozenset(ORDER)
