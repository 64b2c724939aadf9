"""How products are made, whatever they are."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.events import Report, ignore
from zoompick.files import multihash_of
from zoompick.products.step import RasterStep, Step

if TYPE_CHECKING:
    from zoompick.raster.codec import Codec


@dataclass(frozen=True)
class Making:
    """How products are made.

    Attributes
    ----------
    may_replace : bool
        Whether a file of that name that was made otherwise may be overwritten.
    digest : callable
        Multihash of a file; what remembers it need not read the file again.
    compression : str
        In place of the usual one.
    is_asked : bool
        A person wants files of that name replaced: one that was pressed otherwise than it would be now is another.
    codecs : mapping
        For products that have to be pressed just so, as texts of :class:`~zoompick.raster.codec.Codec`.
    """

    may_replace: bool = False
    report: Report = ignore
    digest: Callable[[Path], str] = multihash_of
    compression: str = ""
    is_asked: bool = False
    codecs: Mapping[Path, str] = field(default_factory=dict)

    def codec_of(self, step: Step) -> Codec | None:
        """The codec that a product must have to count as made; None where any will do."""
        fixed = self.codecs.get(step.output)
        if fixed is None and not (self.is_asked and isinstance(step, RasterStep)):
            return None

        from zoompick.raster.codec import Codec
        from zoompick.raster.write import WriteOptions, as_told

        if fixed is not None:
            return Codec.of_text(fixed)
        form = as_told(WriteOptions(), self.compression) if self.compression else WriteOptions()
        return Codec.usual(form.compression, form.effort)
