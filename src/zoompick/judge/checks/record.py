"""Does the record of a product agree with what lies here: what it was made of, and whom to name."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick import foreign
from zoompick.judge.checks.files import checksum_matches
from zoompick.judge.subject import Check, Subject
from zoompick.scenes.finding import Finding, judged


def sources(subject: Subject) -> list[Finding]:
    """Files that it was made of are here, and what they were."""
    absent = [path for path in subject.inputs if not path.is_file() and "#" not in str(path)]
    here = {path: digest for path, digest in subject.inputs.items() if path.is_file()}
    changed = [path for path, digest in here.items() if not _is_same(path, digest)]
    total = len(subject.inputs)
    figure = f"{total - len(absent) - len(changed)} of {total}"
    if changed:
        note = f"{changed[0].name} is no longer what this was made of. Make it again."
        return [judged("sources unchanged", subject.label, False, figure, "all", note)]
    note = f"{absent[0].name} is not here, so nobody can tell." if absent else ""
    return [judged("sources unchanged", subject.label, not absent, figure, "all", note, bad="warn")]


def _is_same(path: Path, digest: str) -> bool:
    return checksum_matches(path, digest, "", "record").outcome != "fail"


def as_told(subject: Subject) -> list[Finding]:
    """Bands, grid and pixel type are those of the record."""
    bands = subject.told.get("bands", [])
    raster, odd = subject.raster, list[str]()
    names = [str(band.get("name")) for band in bands]
    if names != [band.name for band in raster.bands]:
        odd.append(f"bands {', '.join(names)}")
    shape, code = subject.told.get("proj:shape"), subject.told.get("proj:code")
    if shape and list(shape) != [raster.grid.height, raster.grid.width]:
        odd.append(f"a shape of {shape[0]} x {shape[1]}")
    wkt = subject.told.get("proj:wkt2")
    if (code and code != raster.grid.crs.code) or (wkt and wkt != raster.grid.crs.text):
        odd.append(str(code or "another reference system"))
    for band, told in zip(raster.bands, bands, strict=False):
        units = told.get("raster:scale", 1.0), told.get("raster:offset", 0.0)
        if units != (band.scale, band.offset):
            odd.append(f"scale and offset {units[0]:g}, {units[1]:g} of {band.name}")
    note = (
        f"Its record tells {'; '.join(odd[:3])}: one of the two is another product's. Make it again." if odd else ""
    )
    return [judged("as its record", subject.label, not odd, f"{len(odd)} differ", "none", note, float(len(odd)))]


def figures(subject: Subject) -> list[Finding]:
    """The record's statistics are those of the pixels, its dates those of the scenes."""
    tally, grid, odd = subject.sweep.totals["tally"], subject.raster.grid, list[str]()
    for place, (band, told) in enumerate(zip(subject.raster.bands, subject.told["bands"], strict=False)):
        stats = told.get("statistics", {})
        there = float(tally.count[place])
        now = {"valid_percent": 100 * there / (grid.width * grid.height)}
        now |= {"minimum": float(tally.low[place]), "maximum": float(tally.high[place])} if there else {}
        known = {key: (stats[key], value) for key, value in now.items() if isinstance(stats.get(key), int | float)}
        odd += [f"{key.replace('_', ' ')} {was:g} of {band.name} (it is {value:g})"
                for key, (was, value) in known.items() if abs(was - value) > _OFF * max(1, abs(value))]  # fmt: skip
    when = {scene.id: scene.when for scene in subject.scenes if scene.when is not None}
    rows = subject.told.get("zoompick:scenes", [])
    for row in rows if isinstance(rows, list) else []:
        real, told = when.get(str(row.get("id"))), foreign.moment(row.get("datetime"))
        if real is not None and told is not None and abs((real - told).total_seconds()) > 1:
            odd.append(f"{told:%Y-%m-%d %H:%M} for {row['id']} (its item says {real:%Y-%m-%d %H:%M})")
    note = f"Its record tells {'; '.join(odd[:3])}. The file is another, or the record was changed: make it again."
    return [judged("figures as recorded", subject.label, not odd, f"{len(odd)} differ", "none", note if odd else "",
                   float(len(odd)))]  # fmt: skip


_OFF = 1e-4


CHECKS: Sequence[Check] = (
    Check("sources", "record", "sources unchanged", "A product's record, and what it was made of.",
          "Hashes the files that it was made of, and compares with the record.",
          lambda subject: bool(subject.inputs), sources),
    Check("record", "record", "as its record", "A product's record.",
          "Compares bands, shape, system, scale and offset with what the record tells.",
          lambda subject: bool(subject.told.get("bands")), as_told),
    Check("figures", "record", "figures as recorded", "A product's record.",
          "Compares least and greatest value and the share of valid pixels of each band with the record's "
          "statistics, and the moments that it tells of its scenes with their items.",
          lambda subject: bool(subject.told.get("bands")) and not subject.sweep.broken, figures),
)  # fmt: skip
