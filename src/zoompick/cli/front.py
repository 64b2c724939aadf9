"""The first page of the help: options, then the commands in the order of the work, as all other help looks.

It loads nothing, since everybody meets this page first.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from zoompick.cli import show


def front_page(about: str, options: Sequence[Any], sections: Mapping[str, Mapping[str, str]], end: str) -> None:
    """Print the page.

    Parameters
    ----------
    about : str
        What the program does.
    options : sequence
        Parameters of the root.
    sections : mapping
        Title of each part to its commands and what they do.
    end : str
        What to try first.
    """
    show.line("Usage: zoompick [OPTIONS] COMMAND [ARGS]...\n")
    show.line(f"  {about}\n")
    rows = {
        " ".join(filter(None, (", ".join(sorted(param.opts, key=len)), param.metavar))): str(param.help or "")
        for param in options
    }
    parts = {"Options": rows, **sections}
    for title, listed in parts.items():
        width = max(map(len, rows if title == "Options" else [name for part in sections.values() for name in part]))
        show.line(f"{title}:")
        for line in _listed(listed, width):
            show.line(line)
        show.line()
    show.line(end)


def _listed(rows: Mapping[str, str], width: int) -> Iterator[str]:
    for name, text in rows.items():
        lead = f"  {name:<{width}}  "
        yield textwrap.fill(text, show.width(), initial_indent=lead, subsequent_indent=" " * len(lead))
