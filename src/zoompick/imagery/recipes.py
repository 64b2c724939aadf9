"""Recipes by name: composites and indices, read from ``data/recipes.toml``."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import Any

from zoompick.errors import UnknownNameError, UsageError
from zoompick.imagery.formula import Formula


@dataclass(frozen=True, slots=True)
class CompositeRecipe:
    """Three bands for red, green and blue."""

    name: str
    title: str
    bands: tuple[str, str, str]


@dataclass(frozen=True, slots=True)
class IndexRecipe:
    """A formula over bands, and the paper it is from."""

    name: str
    title: str
    formula: Formula
    source: str


@cache
def _table() -> dict[str, Any]:
    text = resources.files("zoompick.imagery").joinpath("data/recipes.toml").read_text(encoding="utf-8")
    return tomllib.loads(text)


def composite_names() -> tuple[str, ...]:
    """All composite recipes."""
    return tuple(_table()["composite"])


def index_names() -> tuple[str, ...]:
    """All index recipes."""
    return tuple(_table()["index"])


def composite(name: str) -> CompositeRecipe:
    """The composite recipe called ``name``; UnknownNameError names the near ones."""
    if name not in _table()["composite"]:
        raise UnknownNameError.of("composite recipe", name, composite_names(), "Or give three `bands` of your own.")
    entry = _table()["composite"][name]
    return CompositeRecipe(name, entry["title"], tuple(entry["bands"]))


def own_composite(bands: tuple[str, ...]) -> CompositeRecipe:
    """A composite of three bands a person names."""
    if len(bands) != 3:
        raise UsageError(f"A composite takes three bands, not {len(bands)}.", "As `bands` swir16,nir,red.")
    return CompositeRecipe("-".join(bands), f"{bands[0]}, {bands[1]}, {bands[2]}", (bands[0], bands[1], bands[2]))


def index(name: str) -> IndexRecipe:
    """The index recipe called ``name``; UnknownNameError names the near ones."""
    if name not in _table()["index"]:
        raise UnknownNameError.of("index recipe", name, index_names())
    entry = _table()["index"][name]
    return IndexRecipe(name, entry["title"], Formula.parse(entry["formula"]), entry["source"])
