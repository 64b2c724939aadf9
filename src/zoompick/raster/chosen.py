"""A part of a container, chosen in its address: ``sea.nc#temperature?depth=10``.

Before the question mark stands a variable (its path in the file, or its name where that is clear), behind it
dimensions with the coordinate that is wanted; each may be left out.
Source of the marks: RFC 3986, sections 3.4 (query) and 3.5 (fragment).
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from zoompick.bytesource import ByteSource, Identity
from zoompick.errors import UnknownNameError, UsageError
from zoompick.raster.variables import Variable

MARK = "#"
CONTAINERS = (".nc", ".nc4", ".cdf", ".h5", ".hdf5", ".he5", ".hdf", ".hdf4")
_NEAR = 1e-6
_SHOWN = 12


def parted(address: str) -> tuple[str, str]:
    """Address of a container, and what is chosen in it; all of another address, and nothing."""
    outer, mark, part = address.rpartition(MARK)
    if mark and part and re.split(r"[?#]", outer)[0].lower().endswith(CONTAINERS):
        return outer, part
    return address, ""


@dataclass(frozen=True)
class Part:
    """The bytes of a container, with what is wanted of it."""

    outer: ByteSource
    wanted: str

    @property
    def address(self) -> str:
        """That of the container, with the part."""
        return f"{self.outer.address}{MARK}{self.wanted}"

    @property
    def size(self) -> int:
        """Length of the container."""
        return self.outer.size

    @property
    def identity(self) -> Identity:
        """That of the container, with the part."""
        outer = self.outer.identity
        return Identity(f"{outer.address}{MARK}{self.wanted}", outer.size, outer.stamp)

    def read(self, offset: int, length: int) -> bytes:
        """Exactly ``length`` bytes of the container, fewer only at the end."""
        return self.outer.read(offset, length)

    def confirm(self) -> None:
        """The container is what it was."""
        self.outer.confirm()


def chosen(variables: Sequence[Variable], source: ByteSource) -> list[Variable]:
    """Those of the variables that an address wants; the only one of a dataset goes by the dataset's name.

    Raises
    ------
    UnknownNameError, UsageError
        There is no such variable, dimension or coordinate.
    """
    if not isinstance(source, Part):
        return list(variables)
    name, _, query = source.wanted.partition("?")
    found = [one for one in variables if not name or name.strip("/") in (one.path, one.path.rpartition("/")[2])]
    if not found:
        names = list(dict.fromkeys(one.path for one in variables))
        raise UnknownNameError.of("variable", name, names)
    for term in query.split("&") if query else ():
        found = _at(found, term)
    alone = len(found) == 1
    return [replace(one, band=replace(one.band, name=one.path.rpartition("/")[2])) if alone else one for one in found]


def _at(variables: Sequence[Variable], term: str) -> list[Variable]:
    """Those that lie at a coordinate of a dimension."""
    dimension, equals, text = term.partition("=")
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not equals or math.isnan(value):
        raise UsageError(f"'{term}' is no place along a dimension.", "Give it as depth=10.")
    held = {place[0]: place for one in variables for place in one.at}
    if dimension not in held:
        raise UnknownNameError.of("dimension", dimension, list(held))
    found = [one for one in variables for place in one.at
             if place[0] == dimension and math.isclose(place[1], value, rel_tol=_NEAR, abs_tol=_NEAR)]  # fmt: skip
    if not found:
        there = sorted({place[1] for one in variables for place in one.at if place[0] == dimension})
        more = f" and {len(there) - _SHOWN} more" if len(there) > _SHOWN else ""
        raise UsageError(
            f"{dimension} has no place {value:g}.",
            f"There are {', '.join(f'{one:g}' for one in there[:_SHOWN])}{more}.",
        )
    return found
