"""The first page of the help: options, then the commands in panels, in the order of the work.

Drawn here with what Rich needs for it and no more, since everybody meets this page first.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

_WIDEST = 100


def front_page(about: str, options: Sequence[Any], panels: Mapping[str, Mapping[str, str]], end: str) -> None:
    """Print the page.

    Parameters
    ----------
    about : str
        What the program does.
    options : sequence
        Parameters of the root.
    panels : mapping
        Title of each panel to its commands and what they do.
    end : str
        What to try first.
    """
    from rich.console import Console
    from rich.padding import Padding
    from rich.text import Text

    console = Console(highlight=False, emoji=False)
    console.width = min(console.width, _WIDEST)
    console.print(Padding(Text("Usage: zoompick [OPTIONS] COMMAND [ARGS]…", style="bold"), (0, 1)))
    console.print(Padding(Text(about), (0, 1)))
    rows = {", ".join(sorted(param.opts, key=len, reverse=True)): str(param.help or "") for param in options}
    console.print(_panel("Options", rows))
    widest = max(len(name) for commands in panels.values() for name in commands)
    for title, commands in panels.items():
        console.print(_panel(title, commands, widest))
    console.print(Padding(Text(end), (0, 1)))


def _panel(title: str, rows: Mapping[str, str], width: int = 0) -> Any:
    from rich.panel import Panel
    from rich.table import Table
    from rich.text import Text

    table = Table.grid(padding=(0, 2), expand=True)
    table.add_column(no_wrap=True, min_width=width)
    table.add_column(ratio=1)
    for name, text in rows.items():
        table.add_row(Text(name, style="bold cyan"), Text(text))
    return Panel(table, title=title, title_align="left", border_style="dim")
