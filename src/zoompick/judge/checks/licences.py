"""May a product be made of these scenes and handed on, and whom does it have to name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib import resources

from zoompick.records import read_facts
from zoompick.scenes.finding import Finding

TITLE = "licence allows it"


@dataclass(frozen=True)
class Family:
    """Licences that ask the same.

    Attributes
    ----------
    credit : bool
        Who made the data has to be named.
    asks : str
        What it asks beside that; empty for nothing.
    limits : str
        What it forbids; empty for nothing.
    """

    begins: str
    credit: bool = False
    asks: str = ""
    limits: str = ""


@dataclass(frozen=True)
class _File:
    family: list[Family] = field(default_factory=list)


@cache
def _families() -> tuple[Family, ...]:
    place = resources.files("zoompick.judge") / "data" / "licences.toml"
    with resources.as_file(place) as path:
        return tuple(sorted(read_facts(path, _File).family, key=lambda one: -len(one.begins)))


def family_of(licence: str) -> Family | None:
    """The family of a licence by its SPDX identifier; None for one that is not known."""
    return next((one for one in _families() if licence.lower().startswith(one.begins.lower())), None)


def licence_allows(collection: str, terms: Mapping[str, str] | None) -> Finding:
    """What the licence of a collection asks of products.

    Parameters
    ----------
    terms : mapping or None
        ``licence``, ``credit``, and ``terms``, the address of its text; None where the source told nothing.
    """
    licence, credit, text = ((terms or {}).get(key, "") for key in ("licence", "credit", "terms"))
    label, family = (terms or {}).get("title") or collection, family_of(licence)
    told = licence or "not told"
    if family is None:
        read = f"Read its terms before you hand anything on: {text}." if text else "Ask its provider."
        note = f"Nothing is known here of what this licence allows. {read}"
        return Finding(TITLE, label, "warn", told, "known", note, data={"credit": credit})
    if family.limits:
        return Finding(TITLE, label, "warn", told, "no limits", f"Of it {family.limits}.", data={"credit": credit})
    if family.credit and not credit:
        note = "It asks to name who made the data, and the source does not tell who that is. Ask its provider."
        return Finding(TITLE, label, "warn", f"{told}, credit not told", "credit told", note)
    figure = f"{told}, credit {credit}" if family.credit else told
    return Finding(TITLE, label, "pass", figure, family.asks or "no limits", data={"credit": credit})
