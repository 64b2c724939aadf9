"""Writes docs/checks.md out of the registry of checks. Run it after a check is added or changed."""

from __future__ import annotations

from pathlib import Path

from zoompick.given import LIMIT_WORDS
from zoompick.judge import registry
from zoompick.judge.limits import Limits

PAGE = Path(__file__).parents[1] / "docs" / "checks.md"
_HEAD = """\
# What `verify` checks

Each check measures a figure, holds it against a limit, and says in a sentence what is wrong and what to do.
`pass`, `warn` (probably wrong) and `fail`, or `not judged`: a check that applies and could not look, with its
reason. The exit code is 1 when one fails, with `--strict` also when one warns; 5 when nothing was judged, or a
check that `--checks` names itself was not. Each finding tells what it saw, and how much of it. `--checks` and
`--skip` take names of checks or of groups; `--explain CHECK` tells what stands here. Limits are those of the
brief (`[verify]`) or of `--threshold NAME=NUMBER`. All blocks are decoded once; every check takes its measures
in that one pass. This page is made of the registry: `python scripts/checks.py`.

Inside a study `zoompick verify` judges scenes and products against the brief; `zoompick verify FILE …` judges
any raster, with its record and the scenes it is of where they lie beside it.

Products are made again by the judge's own code (outlines by shapely, distances by SciPy, ranks by NumPy;
readers, reference systems and resampling are shared, and held by tests of their own) in nine windows of up to
192 x 192 pixels, the same each time: of 10 million pixels they are 3.3 %, of a million a third. What is wrong
all over, in a band, or in half of a product, shows; a patch only where it touches a window. In a product of
1000 x 1000 pixels strips of 135 pixels at the edges and of 77 between the windows are not looked at, in a large
one a sixth of its width at the edges and a third between. `--thorough` makes all of it again.

How many faults of each sort are told, planted in each kind of product with its record made to agree, stands in
[benchmarks/MUTATIONS.md](../benchmarks/MUTATIONS.md). What of a study follows from a file that is damaged, changed
or gone is not judged: that file tells how many findings it is. Of a file a block of which does not decode nothing
but files and records is judged.
"""
_AREA = {"valid": "percent of the area with valid pixels", "cloud": "percent of the area under cloud"}


def page() -> str:
    """The page on all checks."""
    parts, group = [_HEAD], ""
    for check in registry.explained("all"):
        if check.group != group:
            group = check.group
            parts.append(f"\n## {group.capitalize()}\n")
        told = registry.facts(check)
        parts.append(f"\n### `{check.name}`: {check.title}\n\n{check.measures}\n\n")
        parts.append(f"- needs: {check.needs}\n")
        parts += [f"- {key}: {told[key]}\n" for key in ("limit", "cannot see", "source") if told[key]]
    parts.append("\n## Limits\n\n| name | usual | |\n|---|---|---|\n")
    for name, words in (_AREA | LIMIT_WORDS).items():
        parts.append(f"| `{name}` | {getattr(Limits(), name):g} | {words} |\n")
    return "".join(parts)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
