"""What a TIFF tells about its bands beyond the standard's tags: names, scale and offset, statistics, no-data.

Two private tags that many programs read and write carry it: 42112 holds an XML list of items, 42113 the no-data
value as text. Neither is in TIFF 6.0; the layout here is the one in common use.
"""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import defusedxml
from defusedxml import ElementTree

from zoompick.arrays import PixelType
from zoompick.later import np, saxutils
from zoompick.raster.raster import Band
from zoompick.raster.statistics import BandStatistics, Histogram

METADATA_TAG, NODATA_TAG = 42112, 42113
_ROOT = "GDALMetadata"
"""Name of the root element: fixed by the convention, other readers look for it."""


_KIND, _THEMATIC = "LAYER_TYPE", "thematic"
"""By which many programs tell codes of classes from measured values."""
_OPTICS = ("CENTER_WAVELENGTH_UM", "FULL_WIDTH_HALF_MAX_UM")
"""A band's wavelength and width, by the words of the STAC extension for electro-optical data."""
_OWN, _CLASSES = "OWN_NAME", "CLASS_NAMES"
"""What others call the band; codes of its classes and their names, as ``0=fill|1=clear_land``."""


@dataclass(frozen=True)
class Metadata:
    """The two tags, read.

    Attributes
    ----------
    items : mapping
        (sample, key) to text; sample None for the whole file. Keys are in capitals.
    nodata : float or None
    """

    items: Mapping[tuple[int | None, str], str] = field(default_factory=dict)
    nodata: float | None = None

    @classmethod
    def parse(cls, xml: str, nodata: str) -> Metadata:
        """Read the tags' texts; what cannot be read counts as missing."""
        return cls(_items(xml), _nodata(nodata))

    def bands_of(self, samples: int, names: Sequence[str] = ()) -> tuple[Band, ...]:
        """Bands of a file with ``samples`` samples a pixel; ``names`` take the place of the file's."""
        return tuple(self._band(sample, names[sample] if sample < len(names) else "") for sample in range(samples))

    def _band(self, sample: int, name: str) -> Band:
        scale, offset = (
            _number(self.items.get((sample, "SCALE"), "")),
            _number(self.items.get((sample, "OFFSET"), "")),
        )
        kind = self.items.get((sample, _KIND), "")
        return Band(
            name or self.items.get((sample, "DESCRIPTION"), "").strip() or f"band{sample + 1}",
            scale if scale and math.isfinite(scale) else 1.0,
            offset if offset is not None and math.isfinite(offset) else 0.0,
            self.items.get((sample, "UNITTYPE"), ""),
            kind.strip().lower() == _THEMATIC,
            _number(self.items.get((sample, _OPTICS[0]), "")),
            _number(self.items.get((sample, _OPTICS[1]), "")),
            self.items.get((sample, _OWN), ""),
            _classes(self.items.get((sample, _CLASSES), "")),
        )


def _classes(text: str) -> tuple[tuple[int, str], ...]:
    pairs = (entry.partition("=") for entry in text.split("|") if "=" in entry)
    return tuple((int(code), name) for code, _, name in pairs if code.strip().lstrip("-").isdecimal())


def _items(xml: str) -> dict[tuple[int | None, str], str]:
    if not xml.strip():
        return {}
    try:
        root = ElementTree.fromstring(xml.strip("\0 \n"))
    except (ElementTree.ParseError, defusedxml.DefusedXmlException, ValueError):
        return {}
    found = {}
    for item in root.iter("Item"):
        sample = item.get("sample", "")
        key = (int(sample) if sample.isdecimal() else None, item.get("name", "").upper())
        found[key] = item.text or ""
    return found


_NONE = re.compile(r"[+-]?1\.#(?:IND|QNAN|SNAN)\d*", re.IGNORECASE)
"""What some programs print for a number that is none."""
_EXACT = 2**53


def _nodata(text: str) -> float | None:
    """A no-data value: whole numbers that no double holds exactly stay whole."""
    plain = text.strip("\0 \n")
    if _NONE.fullmatch(plain):
        return math.nan
    if plain.lstrip("+-").isdecimal() and abs(int(plain)) > _EXACT:
        return int(plain)
    return _number(text)


def _number(text: str) -> float | None:
    try:
        return float(text.strip("\0 \n"))
    except ValueError:
        return None


def fitting(nodata: float | None, dtype: PixelType) -> float | None:
    """A no-data value as pixels of a type can hold it; None when no pixel can be it.

    Texts are short: what was meant for the least or greatest 32-bit float is taken for it.
    """
    if nodata is None:
        return None
    if dtype.kind in "iu":
        info = np.iinfo(dtype)
        fits = math.isfinite(nodata) and float(nodata).is_integer() and info.min <= nodata <= info.max
        return nodata if fits else None
    if not math.isfinite(nodata):
        return float("nan")
    limit = float(np.finfo(dtype).max)
    if abs(abs(nodata) / limit - 1) < _SHORTENED:
        return math.copysign(limit, nodata)
    return float(dtype.type(nodata)) if abs(nodata) < limit else float("nan")


_SHORTENED = 1e-4


def nodata_text(nodata: float) -> str:
    """Text of the no-data tag: ``nan``, or the shortest number that reads back the same."""
    if math.isnan(nodata):
        return "nan"
    return str(int(nodata)) if float(nodata).is_integer() else repr(float(nodata))


def xml_for(
    bands: Sequence[Band],
    statistics: Sequence[BandStatistics],
    scaled: bool,
    histograms: Sequence[Histogram | None] = (),
) -> str:
    """Text of the metadata tag."""
    lines = [f"<{_ROOT}>"]
    rows = itertools.zip_longest(bands, statistics, histograms[: len(bands)])
    for sample, (band, stats, histogram) in enumerate(rows):
        items = [*_identity(band, scaled), *_figures(stats, histogram)]
        lines += [_line(key, value, role, sample) for key, value, role in items]
    lines.append(f"</{_ROOT}>")
    return "\n".join(lines) + "\n"


def _line(key: str, value: str, role: str, sample: int) -> str:
    roles = f" role={saxutils.quoteattr(role)}" if role else ""
    head = f"  <Item name={saxutils.quoteattr(key)} sample={saxutils.quoteattr(str(sample))}{roles}>"
    return f"{head}{saxutils.escape(value)}</Item>"


def _identity(band: Band, scaled: bool) -> Iterator[tuple[str, str, str]]:
    """Key, value and role of what a band is."""
    yield "DESCRIPTION", band.name, "description"
    if scaled:
        yield "OFFSET", repr(band.offset), "offset"
        yield "SCALE", repr(band.scale), "scale"
    if band.unit:
        yield "UNITTYPE", band.unit, "unittype"
    if band.is_class:
        yield _KIND, _THEMATIC, ""
    if band.own:
        yield _OWN, band.own, ""
    if band.classes:
        yield _CLASSES, "|".join(f"{code}={name.replace('|', '/')}" for code, name in band.classes), ""
    for key, value in zip(_OPTICS, (band.wavelength_um, band.width_um), strict=True):
        if value is not None:
            yield key, repr(value), ""


def _figures(stats: BandStatistics, histogram: Histogram | None) -> Iterator[tuple[str, str, str]]:
    """Key, value and role of what was counted of its pixels."""
    if histogram:
        yield "STATISTICS_HISTOBINVALUES", "".join(f"{count}|" for count in histogram.counts), ""
        yield "STATISTICS_HISTOMAX", repr(histogram.maximum), ""
        yield "STATISTICS_HISTOMIN", repr(histogram.minimum), ""
        yield "STATISTICS_HISTONUMBINS", str(len(histogram.counts)), ""
    if stats.count:
        yield "STATISTICS_MAXIMUM", repr(stats.maximum), ""
        yield "STATISTICS_MEAN", repr(stats.mean), ""
        yield "STATISTICS_MINIMUM", repr(stats.minimum), ""
        yield "STATISTICS_STDDEV", repr(stats.stddev), ""
    yield "STATISTICS_VALID_PERCENT", f"{stats.valid_percent:.4g}", ""
