"""Writes what is published of the brief's keys: the JSON Schema in the package, and the page docs/brief.md.

Run it after a change of the keys.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from zoompick.study.schema import brief_schema

ROOT = Path(__file__).parents[1]
SCHEMA = ROOT / "src" / "zoompick" / "study" / "data" / "study.schema.json"
PAGE = ROOT / "docs" / "brief.md"
_HEAD = """\
# The brief, `study.toml`

What is sought and what is made. Every key has a default; what is wrong in a brief is told with its line before
anything is fetched. `study.schema.json` beside each brief is its JSON Schema, which editors of TOML read. `zoompick
run --plan` shows what is made of what. This page is made of the same tables as the reader: `python
scripts/schema.py`.

A section in double brackets may stand there as often as wanted, each with a `name` of its own: a product is called
after it. Masks are made of each day; mosaics, blends and comparisons of all the study's days; a picture of whatever
it shows. `of` names a product that something is made of. `[align]` moves the bands of each day, and what is made of
them.
"""


def page() -> str:
    """The page on all keys."""
    parts = [_HEAD]
    for section, told in brief_schema()["properties"].items():
        several = "anyOf" in told
        keys = (told["anyOf"][1] if several else told)["properties"]
        parts.append(f"\n## `[[{section}]]`\n" if several else f"\n## `[{section}]`\n")
        parts.append("\n| key | default | |\n|---|---|---|\n")
        parts += [
            f"| `{key}` | {_default(row)} | {row.get('description', '').replace('|', '/')} |\n"
            for key, row in keys.items()
        ]
    return "".join(parts)


def _default(row: dict[str, Any]) -> str:
    return f"`{json.dumps(row['default'], ensure_ascii=False)}`" if "default" in row else ""


if __name__ == "__main__":
    SCHEMA.write_text(json.dumps(brief_schema(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    PAGE.write_text(page(), encoding="utf-8")
