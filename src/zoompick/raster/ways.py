"""How bands are resampled: one way for all, or another for some by name."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.errors import UnknownNameError, UsageError

WAYS = ("bilinear", "nearest", "cubic", "lanczos", "average", "majority")
"""``average`` is the mean over the ground of each target pixel, ``majority`` the value that most of it has. The first
four take means of that ground too where target pixels are larger than the source's; ``nearest`` never does."""
WAYS_WORDS = f"{', '.join(WAYS[:-1])} or {WAYS[-1]}; by band: cubic,nir=average"
_FOR_CLASSES = ("nearest", "majority")
CLASS = "class"
"""Of classes for which nothing is said: nearest upwards, majority downwards."""


@dataclass(frozen=True)
class Ways:
    """A way for every band.

    Attributes
    ----------
    every : str
        One of WAYS; classes are resampled as classes.
    by_band : tuple of (str, str)
        Band names, and their own ways.
    """

    every: str = "bilinear"
    by_band: tuple[tuple[str, str], ...] = ()

    @classmethod
    def parse(cls, text: str) -> Ways:
        """Read ``cubic``, or ``cubic,nir=average,classes=nearest``.

        Raises
        ------
        UnknownNameError
            No such way.
        UsageError
            A band, or the way for all, is told twice.
        """
        every, by_band = "", {}
        for part in filter(None, (piece.strip() for piece in text.split(","))):
            name, sign, way = (piece.strip() for piece in part.rpartition("="))
            if way not in WAYS:
                raise UnknownNameError.of("way to resample", way, WAYS)
            if name in by_band or (not sign and every):
                raise UsageError(f"'{text}' tells twice how {name or 'all bands'} are resampled.", "Tell it once.")
            if sign:
                by_band[name] = way
            else:
                every = way
        return cls(every or "bilinear", tuple(by_band.items()))

    @property
    def text(self) -> str:
        """As a person writes it."""
        return ",".join([self.every, *(f"{band}={way}" for band, way in self.by_band)])

    def of(self, band: str, is_class: bool) -> str:
        """The way of a band; ``class`` for classes of which nothing is said.

        Raises
        ------
        UsageError
            Classes would be averaged.
        """
        named = dict(self.by_band).get(band)
        if is_class and named is not None and named not in _FOR_CLASSES:
            raise UsageError(
                f"{band} holds classes: {named} would make codes that mean nothing.",
                f"Classes are resampled by {' or '.join(_FOR_CLASSES)}.",
            )
        return named or (CLASS if is_class else self.every)


BILINEAR = Ways()
"""What is done where nothing is said."""
