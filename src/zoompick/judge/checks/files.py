"""Are the files whole: every block decodes, digests are as recorded, the layout is cloud-optimized."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from zoompick import files
from zoompick.errors import DataError
from zoompick.judge.subject import Check, Subject
from zoompick.judge.sweep import Sweep
from zoompick.raster.directory import pages_of
from zoompick.scenes.finding import Finding, judged


def blocks_decode(subject: Subject) -> list[Finding]:
    """Every block of every band and overview."""
    return [decoded(subject.sweep, subject.label)]


def decoded(found: Sweep, label: str) -> Finding:
    """What a pass over all blocks met."""
    note = f"{found.broken[0]} Download or make it again." if found.broken else ""
    good = found.blocks - len(found.broken)
    figure = f"{good} of {found.blocks}"
    data = {"broken": list(found.broken[:_MOST])}
    return judged("blocks decode", label, not found.broken, figure, "all", note, float(good), data=data)


_MOST = 20


def checksum_matches(path: Path, multihash: str, subject: str, source: str) -> Finding:
    """Hash the file and compare.

    Parameters
    ----------
    multihash : str
        Expected; it names its function.
    source : str
        Where the expected digest is from: ``catalogue``, ``download``, ``sidecar``.
    """
    check = f"checksum ({source})"
    try:
        found = files.multihash_of(path, multihash)
    except OSError as error:
        note = f"{path} cannot be read: {error.strerror}."
        return judged(check, subject, False, "no file", multihash[4:16], note)
    except DataError as error:
        return Finding(check, subject, "warn", "unknown", multihash[:16], error.what)
    note = f"{path.name} is not what its {source} says: it changed or is damaged. Download or make it again."
    return judged(check, subject, found == multihash, found[4:16], multihash[4:16], note)


def layout(subject: Subject) -> list[Finding]:
    """Tiles, overviews down to one tile, directories before the pixels, smaller overviews before larger ones."""
    assert subject.path is not None
    wrong = _misplaced(subject.path)
    note = f"{wrong} Make it again, or write it with 'zoompick stack' for readers that fetch parts." if wrong else ""
    return [judged("COG layout", subject.label, not wrong, "no" if wrong else "yes", "yes", note)]


def _misplaced(path: Path) -> str:
    """What keeps a TIFF from being read in parts; empty for nothing."""
    pages = pages_of(path)
    if not all(page.tile_px for page in pages):
        return "It lies in strips, not in tiles."
    smallest = min(page.size_px for page in pages)
    if smallest > 2 * pages[0].tile_px:
        return f"Its smallest overview still has {smallest} px."
    if max(page.offset for page in pages) > min(page.first_tile for page in pages):
        return "Some directories lie behind pixels."
    images = [page for page in pages if not page.is_mask]
    sizes, starts = ([getattr(page, key) for page in images] for key in ("size_px", "first_tile"))
    if sizes != sorted(sizes, reverse=True) or starts != sorted(starts, reverse=True):
        return "Overviews do not lie from the smallest to the largest."
    return ""


def tags(subject: Subject) -> list[Finding]:
    """Scale, offset, no-data value and names that a reader can use."""
    raster, odd = subject.raster, list[str]()
    names = [band.name for band in raster.bands]
    if twice := sorted({name for name in names if names.count(name) > 1}):
        odd.append(f"several bands are called {', '.join(twice)}")
    if any(not 0 < abs(band.scale) < _FAR or abs(band.offset) > _FAR for band in raster.bands):
        odd.append("a scale or offset is beyond use")
    units = {(band.scale, band.offset) for band in raster.bands if not band.is_class}
    if len(units) > 1 and len(subject.reflecting) == len(subject.raster.bands) and subject.is_made_here:
        odd.append("bands have different scales or offsets")
    note = f"{'; '.join(odd).capitalize()}. Make it again, or mend the tags." if odd else ""
    return [judged("tags sane", subject.label, not odd, f"{len(odd)} odd", "none", note, float(len(odd)), bad="warn")]


_FAR = 1e9


def _is_own_tiff(subject: Subject) -> bool:
    path = subject.path
    return subject.is_made_here and path is not None and path.is_file() and path.suffix.lower() in (".tif", ".tiff")


CHECKS: Sequence[Check] = (
    Check("blocks", "files", "blocks decode", "A file that opens.",
          "Decodes every block of every band and overview once; what fails is named by file and block.",
          lambda subject: True, blocks_decode),
    Check("layout", "files", "COG layout", "A GeoTIFF made here.",
          "Reads the directories: tiles, overviews down to one tile, directories before pixels, small before large.",
          _is_own_tiff, layout, "OGC 21-026 (Cloud Optimized GeoTIFF), section 7."),
    Check("tags", "files", "tags sane", "A file that opens.",
          "Names twice, scales and offsets beyond use or different within one product of reflectances.",
          lambda subject: True, tags),
)  # fmt: skip
