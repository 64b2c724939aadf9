"""Pictures of findings, into a folder: where bands are shifted, how values lie against a reference."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from zoompick.files import free_name
from zoompick.verification.finding import Finding


def draw_findings(findings: Sequence[Finding], folder: Path) -> list[Path]:
    """Draw what can be drawn; a file that is there is not replaced.

    Returns
    -------
    list of Path
        The pictures.
    """
    from zoompick.figures import proof

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
        else:
            continue
        drawn.append(target)
    return drawn
