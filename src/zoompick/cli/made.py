"""Products that a command makes, of plain files or of a study, and how they are shown."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.cli import show
from zoompick.cli.options import Output
from zoompick.cli.show import Column, place, table
from zoompick.errors import UsageError
from zoompick.files import human_bytes
from zoompick.jsontypes import JsonMap
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.products.step import Made, Step
    from zoompick.raster.grid import Grid


def grid_for(
    files: Sequence[Path], bands: Sequence[str], area: Area | None, crs: str, pixel: float | None, like: Path | None
) -> Grid:
    """The grid asked for: another file's, or one around the area or all of the files."""
    from zoompick.products import together

    if like is not None:
        if area is not None or pixel is not None or crs:
            raise UsageError("--like gives the whole grid.", "Leave out --area, --box, --crs and --pixel.")
        return together.grid_of(like)
    if pixel is not None and pixel <= 0:
        raise UsageError(f"The pixel size {pixel:g} is not above 0.", "As --pixel 8.")
    return together.grid_for(files, bands, area, crs, pixel)


def make_plain(steps: Sequence[Step], output: Output) -> None:
    """Make products of plain files, all of the same, in one pass."""
    from zoompick.products.away import make_anywhere
    from zoompick.products.how import Making

    for step in steps:
        if step.output.suffix.lower() not in (".tif", ".tiff"):
            raise UsageError(f"{step.output.name}: products are GeoTIFFs.", "Give --out FILE.tif.")

    with show.progress() as report:
        made = make_anywhere(steps, Making(output.overwrite, report, compression=output.compression), journal_here())
    _show(output.as_json, made, of_study=False)


def journal_here() -> Path | None:
    """The journal of the study that the current folder belongs to."""
    study = Study.find(Path.cwd())
    return study.journal_file if study else None


def make_for_study(
    name: str, as_json: bool, recipe: Sequence[object] | None = None, told: JsonMap | None = None
) -> None:
    """Make one kind of product for every day of the study's shortlist, as the brief says or as named here."""
    from zoompick.study.making import make_in_study

    study = Study.need(Path.cwd())
    with show.progress() as report:
        made = make_in_study(study, name, recipe, told, report)
    _show(as_json, made)


def _show(as_json: bool, made: Sequence[Made], of_study: bool = True) -> None:
    if as_json:
        facts = [{"step": m.step, "path": str(m.path), "was_current": m.was_current} | dict(m.facts) for m in made]
        show.as_json(facts)
        return
    show_made(made, of_study)
    new = [product.path for product in made if not product.was_current]
    if not new:
        show.note("All is up to date; nothing was made.")
    elif len(made) == 1:
        show.note(f"Made {show.place(new[0])}.")
    else:
        show.note(
            f"Made {len(new)} of {len(made)} products; the others are up to date."
            if len(new) < len(made)
            else f"Made {len(new)} products."
        )


def show_made(made: Sequence[Made], of_study: bool = True) -> None:
    """A table of products: those of a study by day and name, others by their path."""
    columns = [
        Column("step"),
        Column("product", flexible=True),
        Column("what"),
        Column("valid %", "right"),
        Column("size", "right"),
    ]
    rows = []
    for product in made:
        path = product.path
        label = f"{path.parent.name}/{path.name}" if of_study else place(path)
        if product.was_current:
            rows.append([product.step, label, "up to date", "", human_bytes(path.stat().st_size)])
            continue
        facts = product.facts
        if "bands" not in facts:
            size = f"{facts['width']} x {facts['height']} px"
            rows.append([product.step, label, f"a picture, {size}", "", human_bytes(facts["bytes"])])
            continue
        count = len(facts["bands"])
        size = f"{facts['width']} x {facts['height']} px of {facts['pixel']}"
        what = f"{count} band{'s' if count > 1 else ''}, {size}"
        rows.append([product.step, label, what, f"{facts['valid_percent']:.1f}", human_bytes(facts["bytes"])])
    table(columns, rows)
