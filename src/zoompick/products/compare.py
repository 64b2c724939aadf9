"""Two dates compared: side by side, blinking, and the ground that changed."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zoompick.events import Report, ignore
from zoompick.figures.canvas import animated
from zoompick.figures.face import Classes, Panel, Paper, Sheet, draw_sheet
from zoompick.files import writing
from zoompick.jsontypes import JsonMap
from zoompick.later import np
from zoompick.products import recipes
from zoompick.products.change import Rule
from zoompick.products.how import Making
from zoompick.products.kinds.compare import ChangeStep, DifferenceStep
from zoompick.products.making import make_files
from zoompick.products.sidebyside import Comparison, change_shown, panels_of

_BLINK_MS = 900


@dataclass(frozen=True)
class Compared:
    """What was made.

    Attributes
    ----------
    rows : tuple of mapping
        For each class of change its name, hectares, square kilometres and percent of what both dates show.
    """

    files: tuple[Path, ...]
    rows: tuple[JsonMap, ...] = ()
    sentences: tuple[str, ...] = ()


def compared(
    wish: Comparison,
    target: Path,
    blink: Path | None,
    paper: Paper,
    overwrite: bool = False,
    report: Report = ignore,
    journal: Path | None = None,
) -> Compared:
    """Draw the two side by side, and make difference and change where a rule is given.

    Raises
    ------
    UsageError
        They show different things, or the rule is none.
    GridError
        They do not lie on each other.
    """
    face_px = max(200, round(paper.width_px * 0.42))
    panels, legend = panels_of(wish, face_px)
    files, rows, sentences, second = [target], (), (), None
    if wish.above is not None or wish.by is not None:
        made, rows, sentences, panel, classes = _changed(wish, target, face_px, Making(overwrite, report), journal)
        files += made
        panels, second, legend = [*panels, panel], legend, classes
    outline = wish.area.polygon if wish.area else None
    sheet = Sheet(
        tuple(panels), wish.title, wish.caption or " ".join(sentences), legend, second, outline, where=False
    )
    draw_sheet(sheet, target, paper)
    if blink is not None:
        _write_blink(panels[:2], blink)
        files.append(blink)
    return Compared(tuple(files), tuple(rows), tuple(sentences))


def _changed(
    wish: Comparison, target: Path, face_px: int, how: Making, journal: Path | None
) -> tuple[list[Path], Any, Any, Panel, Classes]:
    """Difference and change on disk, the ground of each class, and the face that shows them."""
    rule = Rule(wish.above, wish.by)
    recipe = recipes.index(wish.index) if wish.index else None
    inputs = (wish.before, wish.after)
    step = ChangeStep(inputs, target.with_name(f"{target.stem}-change.tif"), recipe, rule=rule)
    difference = DifferenceStep(inputs, target.with_name(f"{target.stem}-difference.tif"), recipe)
    make_files([difference, step], how, journal)
    return [difference.output, step.output], *change_shown(wish, step.output, face_px)


def _write_blink(panels: list[Panel], path: Path) -> None:
    """The two faces one after the other, as an animated PNG."""
    frames = [np.where(p.pixels[..., 3:] > 0, p.pixels[..., :3], 255).astype(np.uint8) for p in panels]
    buffer = io.BytesIO()
    animated(frames, buffer, _BLINK_MS)
    with writing(path) as out:
        out.write(buffer.getvalue())
