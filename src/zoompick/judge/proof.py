"""Pictures of findings, into a folder: shifts of bands, values against a reference, the worst seam."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from zoompick.figures import proof
from zoompick.files import free_name
from zoompick.judge.borders import borders_of
from zoompick.judge.subject import Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import valid_mask
from zoompick.scenes.finding import Finding


def draw_findings(findings: Sequence[Finding], folder: Path, again: Callable[[str], Subject]) -> list[Path]:
    """Draw what can be drawn; a file that is there is not replaced.

    Parameters
    ----------
    again : callable
        What was judged, by the file that a finding tells.

    Returns
    -------
    list of Path
        The pictures.
    """
    drawn = []
    folder.mkdir(parents=True, exist_ok=True)
    for finding in findings:
        name = re.sub(r"[^A-Za-z0-9.]+", "-", f"{finding.subject}-{finding.key}").strip("-")
        target = free_name(folder / f"{name}.png")
        if "shifts" in finding.data and any(row["vectors"] for row in finding.data["shifts"].values()):
            size = tuple(finding.data["size"])
            proof.draw_shifts(finding.data["shifts"], finding.data["against"], size, finding.subject, target)
        elif "points" in next(iter(finding.data.get("bands", {}).values()), {}):
            proof.draw_scatter(finding.data["bands"], finding.data["reference"], finding.subject, target)
        elif "worst" in finding.data:
            _draw_seam(finding, again(finding.data["file"]), target)
        else:
            continue
        drawn.append(target)
    return drawn


_SEAM_PX = 192


def _draw_seam(finding: Finding, subject: Subject, target: Path) -> None:
    """The ground about the worst place of the worst seam."""
    raster, borders = subject.raster, borders_of(subject)
    assert borders is not None
    width, height = (min(_SEAM_PX, side) for side in (raster.grid.width, raster.grid.height))
    at = finding.data["worst"]["at"]
    col = min(max(0, at[0] - width // 2), raster.grid.width - width)
    row = min(max(0, at[1] - height // 2), raster.grid.height - height)
    window = Window(col, row, width, height)
    stored = raster.read(window)
    scales = np.array([band.scale for band in raster.bands])[:, None, None]
    bright = np.mean(np.where(valid_mask(stored, raster.nodata), stored * scales, np.nan), axis=0)
    words = f"{finding.subject}: {finding.figure}, between {finding.data['worst']['between']}"
    proof.draw_seam(bright, borders.read(window), words, (col, row), target)
