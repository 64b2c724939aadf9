"""Attributes of variables in containers, read by one rule for data and coordinates alike.

Source: CF conventions 1.11, sections 2.5.1 (missing data) and 8.1 (packed data); NetCDF User's Guide, appendix
"Attribute conventions" (``_Unsigned``, types of ``valid_range``) and "Fill values" (defaults by type).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from zoompick.arrays import Mask, Numbers, Pixels, PixelType
from zoompick.jsontypes import JsonMap
from zoompick.later import np

DEFAULT_FILLS = {
    "i2": -32767, "u2": 65535, "i4": -2147483647, "u4": 4294967295, "i8": -9223372036854775806,
    "u8": 18446744073709551614, "f4": 9.969209968386869e36, "f8": 9.969209968386869e36,
}  # fmt: skip
"""What never-written values hold in netCDF; bytes have none that counts."""


class Dataset(Protocol):
    """A variable of a container: HDF5's own, or what looks like one."""

    @property
    def name(self) -> str:
        """Group and name."""

    @property
    def shape(self) -> tuple[int, ...]:
        """Sizes of its dimensions."""

    @property
    def dtype(self) -> PixelType:
        """Type of the stored values."""

    @property
    def attrs(self) -> JsonMap:
        """Its attributes."""

    @property
    def chunks(self) -> tuple[int, ...] | None:
        """Sizes of what is stored together; None where all is."""

    @property
    def parent(self) -> Group:
        """Its group."""

    @property
    def dims(self) -> Sequence[Sequence[Dataset]]:
        """For each dimension the variables that are its scale."""

    def __getitem__(self, place: object) -> Pixels:
        """Stored values."""


class Group(Protocol):
    """A group of a container, or all of it."""

    def get(self, name: str) -> Dataset | None:
        """What has a name; None for nothing."""


def plain(value: Any) -> Any:
    """A scalar out of an array with one element, text out of bytes; other values as they are."""
    if isinstance(value, np.ndarray | np.generic):
        if value.size != 1:
            return value
        value = value.reshape(-1)[0] if isinstance(value, np.ndarray) else value
        value = value.item() if isinstance(value, np.generic) else value
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else value


def text_of(entry: Dataset, key: str) -> str:
    """An attribute as text; empty where there is none."""
    value = plain(entry.attrs.get(key, ""))
    return str(value[0] if isinstance(value, np.ndarray) and value.size else value).strip("\0 ")


def numbers_of(entry: Dataset, key: str) -> tuple[float, ...]:
    """An attribute as numbers, whole ones exact; none where there are none."""
    value = entry.attrs.get(key)
    try:
        array = np.ravel(np.asarray(value if value is not None else []))
        array = array if array.dtype.kind in "iuf" else array.astype(np.float64)
    except (TypeError, ValueError):
        return ()
    return tuple(array.tolist())


def number_of(entry: Dataset, key: str) -> float | None:
    """The first number of an attribute; None where there is none."""
    return next(iter(numbers_of(entry, key)), None)


@dataclass(frozen=True)
class Packing:
    """How stored values of a variable are to be read.

    Attributes
    ----------
    dtype : dtype
        Of the stored values, in this machine's order; unsigned where the variable says that its numbers are.
    scale, offset : float
        Value = stored value * scale + offset.
    missing : tuple of number
        Stored values that stand for "missing", the first is the one that is shown.
    valid : (number, number) or None
        Least and greatest stored value that counts.
    """

    dtype: PixelType
    scale: float = 1.0
    offset: float = 0.0
    missing: tuple[float, ...] = ()
    valid: tuple[float, float] | None = None

    @classmethod
    def of(cls, entry: Dataset) -> Packing:
        """What the attributes of a variable tell, and the default fill of a file that uses defaults."""
        stored = entry.dtype.newbyteorder("=")
        dtype = _signed(stored, text_of(entry, "_Unsigned").lower())
        scale, offset = number_of(entry, "scale_factor"), number_of(entry, "add_offset")
        scale, offset = float(scale or 1.0), float(offset or 0.0)
        told = [*numbers_of(entry, "_FillValue")[:1], *numbers_of(entry, "missing_value")]
        if "_FillValue" not in entry.attrs:
            told += _default(entry, dtype)
        missing = [own for value in told if (own := _own(value, dtype)) is not None]
        # NaN says nothing of floats that is not so without it, yet it is what a writer wants to be written.
        valid = _valid(entry, dtype, scale, offset)
        return cls(dtype, scale, offset, tuple(dict.fromkeys(missing)), valid)

    @property
    def nodata(self) -> float | None:
        """The stored value that all that is missing takes; None where nothing can be missing but NaN."""
        if self.missing:
            return self.missing[0]
        if self.valid is None:
            return None
        if self.dtype.kind == "f":
            return float("nan")
        least, most = int(np.iinfo(self.dtype).min), int(np.iinfo(self.dtype).max)
        return least if least < self.valid[0] else most if most > self.valid[1] else None

    def own(self, stored: Pixels) -> Pixels:
        """Values of a dataset in the type that they have."""
        native = stored.astype(stored.dtype.newbyteorder("="), copy=False)
        if native.dtype == self.dtype:
            return native
        same = native.dtype.itemsize == self.dtype.itemsize and native.dtype.kind in "iu"
        return native.view(self.dtype) if same else native.astype(self.dtype)

    def is_missing(self, values: Pixels) -> Mask:
        """True where a stored value stands for "missing", lies outside the valid range, or is NaN."""
        out = np.isnan(values) if values.dtype.kind == "f" else np.zeros(values.shape, bool)
        for value in self.missing:
            if value == value:
                out |= values == self.dtype.type(value)
        if self.valid is not None:
            out |= (values < self.valid[0]) | (values > self.valid[1])
        return out

    def settled(self, stored: Pixels) -> Pixels:
        """Stored values; all that is missing holds :attr:`nodata`."""
        values, nodata = self.own(stored), self.nodata
        rules = len(self.missing) + (self.valid is not None)
        if nodata is None or (rules == 1 and self.missing):
            return values
        return np.where(self.is_missing(values), self.dtype.type(nodata), values)

    def decoded(self, stored: Pixels) -> Numbers:
        """True values as 64-bit floats, NaN where one is missing."""
        values = self.own(stored)
        return np.where(self.is_missing(values), np.nan, values.astype(np.float64) * self.scale + self.offset)


def _signed(dtype: PixelType, unsigned: str) -> PixelType:
    """The type that ``_Unsigned`` makes of one."""
    if dtype.kind == "i" and unsigned == "true":
        return np.dtype(f"u{dtype.itemsize}")
    return np.dtype(f"i{dtype.itemsize}") if dtype.kind == "u" and unsigned == "false" else dtype


def _own(value: float, dtype: PixelType) -> float | None:
    """A number as a variable's type holds it; None for one that it cannot hold."""
    if dtype.kind == "f":
        with np.errstate(over="ignore"):
            return float(dtype.type(value))
    if value != value or value != int(value):
        return None
    value, bits = int(value), 8 * dtype.itemsize
    if dtype.kind == "u" and -(1 << (bits - 1)) <= value < 0:
        value += 1 << bits
    return value if np.iinfo(dtype).min <= value <= np.iinfo(dtype).max else None


def _default(entry: Dataset, dtype: PixelType) -> list[float]:
    """The default fill, where the file itself was told to fill with it."""
    usual = DEFAULT_FILLS.get(f"{entry.dtype.kind}{entry.dtype.itemsize}")
    used = plain(getattr(entry, "fillvalue", None))
    if usual is None or used is None:
        return []
    return [usual] if entry.dtype.type(used) == entry.dtype.type(usual) else []


_ROUNDING = 1e-6
"""What a packed end of a valid range may be off."""


def _valid(entry: Dataset, dtype: PixelType, scale: float, offset: float) -> tuple[float, float] | None:
    """Range of stored values that count; one told in true values is packed first."""
    keys = ("valid_range",) if "valid_range" in entry.attrs else ("valid_min", "valid_max")
    if keys == ("valid_range",):
        low, high = (*numbers_of(entry, "valid_range"), None, None)[:2]
    else:
        low, high = number_of(entry, "valid_min"), number_of(entry, "valid_max")
    if low is None and high is None:
        return None
    told = next(np.asarray(entry.attrs[key]).dtype for key in keys if key in entry.attrs)
    if dtype.kind in "iu" and told.kind == "f" and (scale, offset) != (1.0, 0.0):
        low, high = (None if value is None else (value - offset) / scale for value in (low, high))
        low, high = (high, low) if scale < 0 else (low, high)
        low, high = (None if low is None else low - _ROUNDING), (None if high is None else high + _ROUNDING)
    elif dtype.kind == "u" and told.kind == "i":
        low, high = (None if value is None else _own(value, dtype) for value in (low, high))
    return (-np.inf if low is None else low, np.inf if high is None else high)
