"""A part of the ground that is wanted: told from others by a key, drawn when it is needed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

from zoompick.geo.shapes import Shape


@dataclass(frozen=True, eq=False)
class Region:
    """A polygon in longitude/latitude; whether two are the same their keys tell, or their shapes.

    Attributes
    ----------
    key : str
        Equal keys mean the same polygon; empty when only the polygon itself tells.
    outline : callable
        Draws it.
    """

    key: str
    outline: Callable[[], Shape] = field(repr=False)

    @cached_property
    def shape(self) -> Shape:
        """The polygon."""
        return self.outline()

    @classmethod
    def of(cls, shape: Shape) -> Region:
        """A polygon that is there."""
        return cls("", lambda: shape)
