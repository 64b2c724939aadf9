"""Commands about the bands of deliveries: list, guess, split."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated

import typer

from zoompick.cli import options, show
from zoompick.cli.groups import defaulting, group
from zoompick.fetch.bands import bands_of, guess_guide, split
from zoompick.files import refuse_existing, write_text
from zoompick.raster.raster import notes_of

bands = group(
    defaulting("list", "list"),
    "The bands of a delivery: list, guess a guide, split a file.\n\n"
    "'zoompick bands FOLDER' lists those of all rasters below it; files in archives are read in place.",
)


@bands.command("list")
def bands_list(
    where: Annotated[str, typer.Argument(metavar="[FOLDER|FILE|ARCHIVE|URL]", help="This folder by default.")] = ".",
    as_json: options.Json = False,
) -> None:
    """List the bands of files, folders, containers and archives, and what the guide misses."""
    found = bands_of(where)
    rows = []
    for one in found.bands:
        raster, band = one.layer.raster, one.layer.raster.bands[0]
        rows.append({
            "band": band.name, "key": one.key, "um": one.wavelength_um, "pixel": raster.grid.pixel_text,
            "crs": raster.grid.crs.code, "type": str(raster.dtype), "nodata": raster.nodata, "scale": band.scale,
            "offset": band.offset, "unit": band.unit, "classes": band.is_class, "own": band.own,
            "meanings": dict(band.classes), "told_by": dict(band.told_by), "file": one.address,
        })  # fmt: skip
    notes = list(dict.fromkeys(note for one in found.bands for note in notes_of(one.layer.raster)))
    if as_json:
        guide = found.guide.name if found.guide else None
        show.as_json({"bands": rows, "guide": guide, "missing": list(found.missing), "unread": list(found.unread),
                      "notes": notes})  # fmt: skip
        return
    columns = [show.Column("band"), show.Column("µm", "right"), show.Column("pixel", "right"), show.Column("type"),
               show.Column("no data", "right"), show.Column("value"), show.Column("key", flexible=True)]  # fmt: skip
    cells = [
        [str(r["band"]), "" if r["um"] is None else f"{r['um']:g}", str(r["pixel"]), str(r["type"]),
         "" if r["nodata"] is None else f"{r['nodata']:g}", _value(r), str(r["key"])]
        for r in rows
    ]  # fmt: skip
    show.table(columns, cells)
    if found.guide is not None:
        missing = f"it expects {', '.join(found.missing)} too" if found.missing else "all that it expects is here"
        show.line(f"Guide {found.guide.name}: {missing}.")
    elif all(one.wavelength_um for one in found.bands):
        show.line("The files tell these wavelengths themselves.")
    else:
        show.line("No guide knows these names; 'zoompick bands guess FOLDER' drafts one.")
    for sentence in notes:
        show.note(sentence)
    for sentence in found.unread:
        show.note(f"Not read: {sentence}")


def _value(row: Mapping[str, object]) -> str:
    if row["classes"]:
        return "classes"
    if (row["scale"], row["offset"]) == (1.0, 0.0):
        return str(row["unit"] or "as stored")
    return f"x {row['scale']:g} {row['offset']:+g} {row['unit']}".strip()


@bands.command("guess")
def bands_guess(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="With the bands of one instrument.")],
    name: Annotated[
        str, typer.Option("--name", metavar="NAME", help="Of the instrument; the folder's by default.")
    ] = "",
    out: options.Out = None,
    overwrite: options.Overwrite = False,
) -> None:
    """Draft a band guide from file names, for you to complete; it belongs into the folder guides."""
    text = guess_guide(folder, name)
    if out is None:
        show.text([text], False)
        return
    refuse_existing([out], overwrite)
    write_text(out, text)
    show.note(f"Wrote {show.place(out)}. Complete it, and keep it in the folder guides of your settings or a study.")


@bands.command("split")
def bands_split(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A container, or a raster with several bands.")],
    to: Annotated[Path, typer.Option("--to", metavar="FOLDER", help="Where the files go.")] = Path(),
    overwrite: options.Overwrite = False,
) -> None:
    """Take the bands out of a container or a multi-band file, one file each."""
    made = split(file, to, overwrite)
    show.note(f"Wrote {show.counted(len(made), 'file')}: {', '.join(path.name for path in made)}.")
