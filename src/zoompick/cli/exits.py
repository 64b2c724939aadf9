"""Exit codes: what came of a command, for scripts."""

from __future__ import annotations

from zoompick import errors

DONE, CHECK_FAILED, WRONG_USE, NOTHING_FOUND, SOURCE_FAILED, IN_PART, STOPPED = 0, 1, 2, 3, 4, 5, 130

_CODES: dict[type[errors.ZoomPickError], int] = {
    errors.UsageError: WRONG_USE,
    errors.NothingFoundError: NOTHING_FOUND,
    errors.SourceError: SOURCE_FAILED,
    errors.ClusterError: SOURCE_FAILED,
    errors.IncompleteError: IN_PART,
    errors.DataError: CHECK_FAILED,
    errors.GridError: WRONG_USE,
    errors.MissingFileError: WRONG_USE,
    errors.DiskError: CHECK_FAILED,
    errors.CancelledError: STOPPED,
}


def code_of(error: errors.ZoomPickError) -> int:
    """Exit code of an error: that of the nearest class in its family that has one."""
    return next((_CODES[kind] for kind in type(error).__mro__ if kind in _CODES), CHECK_FAILED)
