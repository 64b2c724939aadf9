"""How much is said: notes or none, every step, a log with times. Set once, by the options before the command."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path


@dataclass
class Voice:
    """What the options before the command asked for."""

    is_quiet: bool = False
    is_verbose: bool = False
    log: Path | None = None

    def keep(self, text: str) -> None:
        """Add a line with its time to the log, where one is kept.

        Raises
        ------
        OSError
            The log cannot be written.
        """
        if self.log is not None:
            when = datetime.now(UTC).isoformat(timespec="milliseconds")
            with self.log.open("a", encoding="utf-8", errors="replace") as stream:
                stream.write(f"{when} {' '.join(text.split())}\n")


VOICE = Voice()
