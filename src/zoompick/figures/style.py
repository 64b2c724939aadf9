"""The house's look for drawn things: figures that need no display, written atomically."""

from __future__ import annotations

import io
import math
import warnings
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.files import writing
from zoompick.outgoing import seen

if TYPE_CHECKING:
    from matplotlib.figure import Figure

INK, PAPER, AREA, SCENE = "#20303a", "#fbfaf6", "#c2410c", "#2f6f8f"
FAINT, WARM = "#a8b3b8", "#d98b2b"
LAND, WATER, SHORE, TABLE = "#f3f0e4", "#d3e3ea", "#8fa9b3", "#b9c0c2"
NOTHING = "#c8cac8"
"""Where nothing is: not white, which is cloud."""
DPI = 110


def figure(width_in: float, height_in: float) -> Figure:
    """A new figure that needs no screen."""
    import matplotlib
    from matplotlib.figure import Figure

    matplotlib.rcParams.update({
        "font.family": ["DejaVu Sans", "sans-serif"], "font.size": 9.5, "text.color": INK, "axes.edgecolor": FAINT,
        "axes.labelcolor": INK, "xtick.color": INK, "ytick.color": INK, "axes.linewidth": 0.8,
        # The same figure is the same bytes.
        "svg.hashsalt": "zoompick",
        # Words stay words, to be found and copied.
        "svg.fonttype": "none", "pdf.fonttype": 42,
    })  # fmt: skip
    return Figure(figsize=(width_in, height_in), dpi=DPI, facecolor=PAPER)


def save(drawn: Figure, path: Path) -> None:
    """Write a figure as PNG under its name once it is whole."""
    buffer = io.BytesIO()
    with warnings.catch_warnings():
        # A letter that the font lacks is drawn as a box.
        warnings.filterwarnings("ignore", "Glyph .* missing", UserWarning)
        drawn.savefig(buffer, format="png", facecolor=drawn.get_facecolor())
    with writing(path) as out:
        out.write(buffer.getvalue())


def nice_step(span: float, wanted: int = 5) -> float:
    """A round step (1, 2 or 5 times a power of ten) that cuts ``span`` into about ``wanted`` pieces."""
    raw = span / wanted
    power = 10 ** math.floor(math.log10(raw))
    return next(factor * power for factor in (1, 2, 5, 10) if raw <= factor * power)


def degrees_text(value: float, letters: str, step: float) -> str:
    """A degree value with its letter, with as many digits as the step between two needs."""
    digits = max(0, -math.floor(math.log10(step) + 1e-9))
    return f"{abs(value):.{digits}f}° {letters[0] if value >= 0 else letters[1]}"


def plain(text: str) -> str:
    """Words as they stand: in the drawing library a dollar sign begins a formula, and control signs have no shape."""
    return seen(text).replace("$", r"\$")
