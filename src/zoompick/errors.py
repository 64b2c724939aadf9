"""The one family of errors: each says what is wrong and what to do.

::

    ZoomPickError
    ├── UsageError            the person asked for something that cannot be meant
    │   ├── AreaError         coordinates or polygons
    │   ├── BriefError        a line of study.toml
    │   ├── FactsError        a file of facts of the user's own
    │   ├── UnknownNameError  a collection, band, recipe, source that does not exist (names the near ones)
    │   └── StudyError        no study here, or something in it is in the way
    │       └── BusyError     another run works in this study
    ├── NothingFoundError     a search, a shortlist or a selection came out empty
    ├── SourceError           a source did not answer, or not as its standard says
    ├── ClusterError          workers elsewhere do not answer, or are not such as ours
    ├── IncompleteError       a part of the work was done, the rest failed
    ├── DataError             a file is damaged, or not what its name says
    │   ├── FormatError       not readable as the format it claims
    │   │   ├── PlacelessError    an image that does not tell where it lies
    │   │   └── UnreadKindError   sound as far as is known, of a kind that is not read here
    │   ├── MissingFileError  there is no such file
    │   ├── ChecksumError     bytes differ from what was published
    │   └── GridError         rasters that do not fit together
    ├── DiskError             no room, no permission
    └── CancelledError        the person asked to stop
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from typing import Any

from zoompick.addresses import redacted
from zoompick.jsontypes import JsonObject


class ZoomPickError(Exception):
    """Base of every error this package raises on purpose.

    Parameters
    ----------
    what : str
        One sentence: what is wrong, with the offending value.
    todo : str
        One sentence: what to try. May be empty. What stands in backticks is a parameter; the command line shows
        it as an option.
    """

    def __init__(self, what: str, todo: str = "") -> None:
        what, todo = redacted(what), redacted(todo)
        super().__init__(what, todo)
        self.what = what
        self.todo = todo

    def __str__(self) -> str:
        return f"{self.what} {self.todo}".strip()

    def __reduce__(self) -> tuple[Any, ...]:
        # Some are made of more than these two: what they are travels, not how they were made.
        return _again, (type(self), self.args, self.__dict__)


def _again(kind: type[ZoomPickError], args: tuple[Any, ...], facts: JsonObject) -> ZoomPickError:
    error = kind.__new__(kind, *args)
    error.args = args
    error.__dict__.update(facts)
    return error


class UsageError(ZoomPickError):
    """The request itself cannot be meant as given."""


class AreaError(UsageError):
    """Coordinates out of range, or a polygon that is empty or crosses itself."""


class BriefError(UsageError):
    """A key of ``study.toml`` has a value that cannot be used."""


class StudyError(UsageError):
    """There is no study here, or something in it stands in the way."""


class BusyError(StudyError):
    """Another process works in the same study."""


class FactsError(UsageError):
    """A file of facts of the user's own (a band guide, recipes, sheet schemes) that cannot be used."""


class UnknownNameError(UsageError):
    """A name that nothing here bears; the message lists the near ones."""

    @classmethod
    def of(cls, kind: str, name: str, known: Iterable[str], todo: str = "") -> UnknownNameError:
        """Build the sentence for an unknown ``kind`` called ``name``."""
        names = sorted(set(known))
        near = difflib.get_close_matches(name.lower(), names, n=3, cutoff=0.5)
        if near:
            hint = f"Did you mean {' or '.join(near)}?"
        elif names:
            shown = ", ".join(names[:12]) + (" …" if len(names) > 12 else "")
            hint = f"There is {shown}."
        else:
            hint = ""
        return cls(f"There is no {kind} called '{name}'.", f"{hint} {todo}".strip())


class NothingFoundError(ZoomPickError):
    """A search or a selection came out empty."""


class SourceError(ZoomPickError):
    """A source could not be reached, or answered against its standard."""


class ClusterError(ZoomPickError):
    """Workers elsewhere do not answer, were lost, or have other versions."""


class IncompleteError(ZoomPickError):
    """Some of the work was done; the message tells what failed."""


class DataError(ZoomPickError):
    """A file is damaged, or is not what its name says."""


class FormatError(DataError):
    """Bytes that cannot be read as the format they claim to be."""


class PlacelessError(FormatError):
    """An image that does not tell where it lies."""


class UnreadKindError(FormatError):
    """A file, sound as far as is known, of a kind that is not read here."""


class MissingFileError(DataError):
    """A file that is not there."""

    @classmethod
    def at(cls, path: object) -> MissingFileError:
        """Build the sentence for a path."""
        return cls(f"There is no file {path}.", "Check the path.")


class ChecksumError(DataError):
    """Bytes that differ from the published digest or size."""


class GridError(DataError):
    """Rasters or areas that do not fit on one grid."""


class DiskError(ZoomPickError):
    """No room left, no permission, or a broken disk."""


class CancelledError(ZoomPickError):
    """Work was stopped on request before it ended."""
