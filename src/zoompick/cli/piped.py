"""Scenes that another command gives through a pipe."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from zoompick.errors import DataError, NothingFoundError, UsageError
from zoompick.files import parse_json
from zoompick.scenes.scenelist import from_collection

if TYPE_CHECKING:
    from zoompick.scenes.scenelist import Entry

_HOW = "Pipe 'zoompick search … --json' into it."


def piped_scenes() -> list[Entry]:
    """The ItemCollection on standard input.

    Raises
    ------
    UsageError
        Standard input is a terminal: nothing is piped.
    NothingFoundError
        Nothing came: the command before found nothing, or failed.
    DataError
        No ItemCollection.
    """
    if sys.stdin.isatty():
        raise UsageError("'-' stands for scenes from a pipe, and there is none.", _HOW)
    try:
        text = sys.stdin.read()
        if not text.strip():
            raise NothingFoundError("Nothing came through the pipe.", "See what the command before it says.")
        return from_collection(parse_json(text), "Standard input")
    except ValueError as error:
        raise DataError(f"Standard input is not JSON: {error}.", _HOW) from error
