"""Commands of the user's own that are called when something is done; no shell reads them."""

from __future__ import annotations

import json
import shlex
import subprocess

from zoompick.errors import IncompleteError, UsageError


def words_of(command: str) -> list[str]:
    """The words of a command.

    Raises
    ------
    UsageError
        A quote is not closed.
    """
    try:
        return shlex.split(command)
    except ValueError as error:
        raise UsageError(f"'{command}' cannot be split into words: {error}.", "Close its quotes.") from error


def call(command: list[str], done: str, told: object = None) -> None:
    """Carry out a command; its failure is ours.

    Parameters
    ----------
    done : str
        A sentence on what is done already.
    told : object, optional
        It gets this on its standard input, as JSON.

    Raises
    ------
    UsageError
        It cannot be run.
    IncompleteError
        It fails.
    """
    text = None if told is None else json.dumps(told).encode()
    try:
        code = subprocess.run(command, check=False, input=text).returncode
    except OSError as error:
        raise UsageError(f"'{command[0]}' cannot be run: {error.strerror}.", done) from error
    if code:
        raise IncompleteError(f"{done} But '{command[0]}' ended with {code}.", "Look at what it says.")
