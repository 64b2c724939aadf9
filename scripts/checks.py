"""Writes docs/checks.md out of the registry of checks. Run it after a check is added or changed."""

from __future__ import annotations

from pathlib import Path

from zoompick.given import LIMIT_WORDS
from zoompick.judge import registry
from zoompick.judge.limits import Limits

PAGE = Path(__file__).parents[1] / "docs" / "checks.md"
_HEAD = """\
# What `verify` checks

Each check measures a figure, holds it against a limit, and says in a sentence what is wrong and what to do. `pass`,
`warn` (probably wrong, or nobody can tell) and `fail`; the exit code is 1 when one fails, with `--strict` also when
one warns. `--checks` and `--skip` take names of checks or of groups; `--explain CHECK` tells what stands here. Limits
are those of the brief (`[verify]`) or of `--threshold NAME=NUMBER`. All blocks are decoded once; every check takes
its measures in that one pass. This page is made of the registry: `python scripts/checks.py`.

Inside a study `zoompick verify` judges scenes and products against the brief; `zoompick verify FILE …` judges any
raster, with its record and the scenes it is of where they lie beside it.
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
        parts += [f"- {key}: {told[key]}\n" for key in ("limit", "source") if told[key]]
    parts.append("\n## Limits\n\n| name | usual | |\n|---|---|---|\n")
    for name, words in (_AREA | LIMIT_WORDS).items():
        parts.append(f"| `{name}` | {getattr(Limits(), name):g} | {words} |\n")
    return "".join(parts)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
