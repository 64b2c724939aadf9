"""Recipes by name, composites and indices: those of ``data/recipes.toml``, and the user's own."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache, lru_cache
from importlib import resources
from pathlib import Path
from typing import NamedTuple

from zoompick.errors import UnknownNameError, UsageError
from zoompick.products.formula import Formula
from zoompick.records import read_facts, refuse
from zoompick.settings import own_files


class CompositeRecipe(NamedTuple):
    """Three bands for red, green and blue.

    Attributes
    ----------
    shows : str
        What stands out.
    meaning : tuple of (str, str)
        What vegetation, water, bare, burnt and built ground look like.
    use : str
        What it is good for.
    """

    name: str
    title: str
    bands: tuple[str, str, str]
    shows: str = ""
    meaning: tuple[tuple[str, str], ...] = ()
    use: str = ""


class IndexRecipe(NamedTuple):
    """A formula over bands, what its values mean, and the paper it is from."""

    name: str
    title: str
    formula: Formula
    source: str
    shows: str = ""


@dataclass(frozen=True)
class _Composite:
    title: str
    bands: tuple[str, ...]
    shows: str = ""
    meaning: dict[str, str] = field(default_factory=dict)
    use: str = ""


@dataclass(frozen=True)
class _Index:
    title: str
    formula: str
    source: str = ""
    shows: str = ""


@dataclass(frozen=True)
class _File:
    """Recipes as a file tells them."""

    composite: dict[str, _Composite] = field(default_factory=dict)
    index: dict[str, _Index] = field(default_factory=dict)


class _Table(NamedTuple):
    composites: dict[str, CompositeRecipe]
    indices: dict[str, IndexRecipe]


def _table() -> _Table:
    """The recipes that come with the package, and the user's own."""
    own = own_files("recipes")
    return _joined(tuple((path, path.stat().st_mtime_ns) for path in own)) if own else _shipped()


@cache
def _shipped() -> _Table:
    with resources.as_file(resources.files("zoompick.products").joinpath("data/recipes.toml")) as path:
        return _read(path)


@lru_cache(maxsize=4)
def _joined(own: tuple[tuple[Path, int], ...]) -> _Table:
    found = _Table(dict(_shipped().composites), dict(_shipped().indices))
    for path, _ in own:
        more = _read(path)
        for kind, known, new in (
            ("composite", found.composites, more.composites),
            ("index", found.indices, more.indices),
        ):
            for name in new.keys() & known.keys():
                raise refuse(path, f"$.{kind}.{name}", f"There is a recipe {name} already.", "Give it another name.")
            known.update(new)  # type: ignore[arg-type]
    return found


def _read(path: Path) -> _Table:
    told = read_facts(path, _File)
    composites, indices = {}, {}
    for name, entry in told.composite.items():
        if len(entry.bands) != 3:
            what = f"A composite takes three bands, not {len(entry.bands)}."
            raise refuse(path, f"$.composite.{name}.bands", what, "For red, green and blue.")
        bands = (entry.bands[0], entry.bands[1], entry.bands[2])
        composites[name] = CompositeRecipe(
            name, entry.title, bands, entry.shows, tuple(entry.meaning.items()), entry.use
        )
    for name, row in told.index.items():
        try:
            indices[name] = IndexRecipe(name, row.title, Formula.parse(row.formula), row.source, row.shows)
        except UsageError as error:
            raise refuse(path, f"$.index.{name}.formula", error.what, error.todo) from error
    return _Table(composites, indices)


def composite_names() -> tuple[str, ...]:
    """All composite recipes."""
    return tuple(_table().composites)


def index_names() -> tuple[str, ...]:
    """All index recipes."""
    return tuple(_table().indices)


def composite(name: str) -> CompositeRecipe:
    """The composite recipe called ``name``; UnknownNameError names the near ones."""
    found = _table().composites.get(name)
    if found is None:
        raise UnknownNameError.of("composite recipe", name, composite_names(), "Or give three `bands` of your own.")
    return found


def own_composite(bands: tuple[str, ...]) -> CompositeRecipe:
    """A composite of three bands a person names."""
    if len(bands) != 3:
        raise UsageError(f"A composite takes three bands, not {len(bands)}.", "As `bands` swir16,nir,red.")
    return CompositeRecipe("-".join(bands), f"{bands[0]}, {bands[1]}, {bands[2]}", (bands[0], bands[1], bands[2]))


def index(name: str) -> IndexRecipe:
    """The index recipe called ``name``; UnknownNameError names the near ones."""
    found = _table().indices.get(name)
    if found is None:
        raise UnknownNameError.of("index recipe", name, index_names())
    return found


def own_index(formula: str) -> IndexRecipe:
    """An index of a formula a person gives."""
    return IndexRecipe("index", formula, Formula.parse(formula), "")
