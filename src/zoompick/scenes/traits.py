"""What a kind of product is to those who judge and tell of it, who know none by its name."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Traits:
    """What is so of every product of a step.

    Attributes
    ----------
    holds : str
        ``reflectance`` (bands of scenes), ``index``, ``difference``, ``classes``, ``change`` (classes of change),
        ``count``, ``picture``; empty where nobody knows.
    judged : str
        The check that computes it again; empty for none.
    is_whole : bool
        Every pixel of the area should be there: nothing was taken out on purpose.
    is_of_one_time : bool
        Its scenes are meant to show one moment: dates, sun and view far apart are told.
    is_cut : bool
        Cut out of another, on which it lies: its own place is not looked at again.
    is_moved : bool
        Its first input, laid where the second lies.
    is_between : bool
        On the way to others: in a report it is listed, not shown.
    """

    holds: str = ""
    judged: str = ""
    is_whole: bool = False
    is_of_one_time: bool = False
    is_cut: bool = False
    is_moved: bool = False
    is_between: bool = False


UNTOLD = Traits("reflectance", is_whole=True)
"""Of files that no record tells of."""
