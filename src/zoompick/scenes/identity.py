"""One identity of a band, of what a guide, an item and a file tell of it.

A guide counts before an item, an item before the file's own tags, those before a guess by the file's name. Who told
what travels with the band.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from zoompick.raster.raster import Band
from zoompick.scenes.bands import BandFile
from zoompick.scenes.scene import CLASS_BAND
from zoompick.sensors.guide import BandGuide

GUIDE, ITEM, FILE, NAME = "guide", "item", "file", "file name"


@dataclass(frozen=True)
class Told:
    """What others than the file tell of a band of it.

    Attributes
    ----------
    item : BandFile or None
    guide : BandGuide or None
        Of the collection, or of files with such names.
    by_name : str
        The band that the file's name means, where neither item nor file names it.
    """

    item: BandFile | None = None
    guide: BandGuide | None = None
    by_name: str = ""


def identified(band: Band, told: Told) -> Band:
    """The band of a file with what is known of it.

    Parameters
    ----------
    band : Band
        As the file's own tags tell it.
    """
    item, guide = told.item, told.guide
    name = item.name if item else told.by_name or band.name
    facts = {"name": ITEM if item else NAME if told.by_name else FILE}
    own = (item.own if item else "") or band.own or (band.name if band.name != name else "")
    made = replace(band, name=name, own="" if own == name else own)
    made, facts["scale"] = _scaled(made, item)
    made, facts["wavelength"] = _coloured(made, item, guide)
    made, facts["classes"] = _classed(made, item, guide)
    return replace(made, told_by=tuple((fact, who) for fact, who in facts.items() if who))


def _scaled(band: Band, item: BandFile | None) -> tuple[Band, str]:
    own, is_own = (band.scale, band.offset), (band.scale, band.offset) != (1.0, 0.0)
    if item is None or not item.is_scaled:
        return band, FILE if is_own else ""
    other = f", before the file's {own[0]:g} and {own[1]:g}" if is_own and own != (item.scale, item.offset) else ""
    return replace(band, scale=item.scale, offset=item.offset), ITEM + other


def _coloured(band: Band, item: BandFile | None, guide: BandGuide | None) -> tuple[Band, str]:
    by_guide = next((one.wavelength_um for one in guide.bands if one.name == band.name), None) if guide else None
    told = {
        GUIDE: by_guide, ITEM: item.wavelength_um if item else None, FILE: band.wavelength_um
    }  # fmt: skip
    who = next((who for who, length in told.items() if length is not None), "")
    width = item.width_um if item and item.width_um is not None else band.width_um
    return replace(band, wavelength_um=told.get(who), width_um=width), who


def _classed(band: Band, item: BandFile | None, guide: BandGuide | None) -> tuple[Band, str]:
    if item is not None and item.classes:
        rows = ((entry.get("value"), str(entry.get("name", ""))) for entry in item.classes)
        table = tuple((value, name) for value, name in rows if isinstance(value, int))
        return replace(band, is_class=True, classes=table), ITEM
    if guide is not None and guide.class_band == band.name and guide.class_band:
        return replace(band, is_class=True, classes=guide.classes.rows()), GUIDE
    return replace(band, is_class=band.is_class or band.name == CLASS_BAND), FILE if band.is_class else ""


def disagreements(band: Band) -> tuple[str, ...]:
    """A sentence for each fact that two tell otherwise."""
    return tuple(f"{band.name}: {fact} by the {who}." for fact, who in band.told_by if "," in who)
