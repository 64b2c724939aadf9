"""Recipes as lists: what each is for, the bands it needs, and whether they are here."""

from __future__ import annotations

from pathlib import Path

from zoompick.cli import show
from zoompick.jsontypes import JsonObject
from zoompick.products import recipes
from zoompick.scenes.deliveries import open_layers
from zoompick.study.folder import Study


def list_recipes(file: Path | None, as_json: bool, is_index: bool) -> None:
    """Print the composites or the indices.

    Parameters
    ----------
    file : Path or None
        Whose bands are looked at; the study's stack by default, nothing outside a study.
    """
    have = _bands_here(file)
    rows = _indices() if is_index else _composites()
    for row in rows:
        lacking = [band for band in row["bands"] if have is not None and band not in have]
        row |= {} if have is None else {"here": not lacking, "lacking": lacking}
    if as_json:
        show.as_json(rows)
        return
    for row in rows:
        state = "" if have is None else "  (here)" if row["here"] else f"  (lacks {', '.join(row['lacking'])})"
        show.line(f"{row['name']:<10} {row['title']}: {', '.join(row['bands'])}{state}")
        colours = ", ".join(f"{ground} {colour}" for ground, colour in row.get("meaning", {}).items())
        use = f"good for: {row['use']}" if row.get("use") else ""
        for text in filter(None, (row.get("formula"), row["shows"], colours, use, row.get("source"))):
            show.line(f"{'':<10} {text}")


def _bands_here(file: Path | None) -> set[str] | None:
    if file is not None:
        return {layer.name for layer in open_layers([file])}
    study = Study.find(Path.cwd())
    return None if study is None else set(study.brief().bands)


def _composites() -> list[JsonObject]:
    found = map(recipes.composite, recipes.composite_names())
    return [
        {"name": one.name, "title": one.title, "bands": list(one.bands), "shows": one.shows, "use": one.use,
         "meaning": dict(one.meaning)}
        for one in found
    ]  # fmt: skip


def _indices() -> list[JsonObject]:
    found = map(recipes.index, recipes.index_names())
    return [
        {"name": one.name, "title": one.title, "bands": list(one.formula.bands), "formula": one.formula.text,
         "shows": one.shows, "source": one.source}
        for one in found
    ]  # fmt: skip
