"""How lists of scenes are shown: as a table, JSON, CSV, GeoJSON or GeoParquet."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import chain, count
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zoompick.cli import show
from zoompick.cli.show import Column, table
from zoompick.discovery import geoparquet
from zoompick.errors import UnknownNameError, UsageError
from zoompick.files import human_bytes, refuse_existing, writing
from zoompick.outgoing import csv_cell
from zoompick.scenes.scenelist import collection_text

if TYPE_CHECKING:
    from zoompick.scenes.scene import Key
    from zoompick.scenes.scenelist import Entry

FORMATS = ("table", "json", "csv", "geojson", "parquet")


_ROWS = 2_000
"""Rows of one table; a longer list goes on in a next one, so that it need not be held as a whole."""


def show_scenes(entries: Sequence[Entry], with_id: bool = False, states: Mapping[Key, str] | None = None) -> None:
    """A table of scenes, page by page on a terminal that is too short for it.

    Parameters
    ----------
    states : mapping, optional
        How far scenes are, by key, as 'zoompick status' tells it; with any that is more than picked, a column tells.
    """
    with show.paged(len(entries)):
        for start in range(0, len(entries), _ROWS):
            _show_rows(list(entries[start : start + _ROWS]), start + 1, with_id, states or {})


def _show_rows(entries: Sequence[Entry], first: int, with_id: bool, states: Mapping[Key, str]) -> None:
    inside = any(entry.cloud_area_percent is not None for entry in entries)
    several = len({entry.scene.collection for entry in entries}) > 1
    columns = [Column("no.", "right"), Column("date")]
    columns += [Column("id", flexible=True)] if with_id else [Column("time"), Column("platform"), Column("tile")]
    columns += [Column("collection")] if several and not with_id else []
    columns += [Column("cloud %", "right")] + ([Column("in area %", "right")] if inside else [])
    columns += [Column("cover %", "right"), Column("size", "right")]
    marked = with_id and any(_marks(entry, states) for entry in entries)
    columns += [Column("marks", flexible=True)] if marked else []
    rows = []
    for number, entry in enumerate(entries, first):
        scene = entry.scene
        row = [str(number), scene.days]
        row += [scene.id] if with_id else [scene.when.strftime("%H:%M"), scene.platform, scene.tile]
        row += [scene.collection] if several and not with_id else []
        row += [_percent(scene.cloud_percent)] + ([_percent(entry.cloud_area_percent)] if inside else [])
        row += [_cover(entry.cover_percent), _size(scene.size)]
        row += [_marks(entry, states)] if marked else []
        rows.append(row)
    table(columns, rows)


def _percent(value: float | None) -> str:
    return "?" if value is None else f"{value:.0f}"


def _cover(value: float) -> str:
    return "<1" if 0 < value < 0.5 else f"{value:.0f}"


def _size(value: int | None) -> str:
    return "?" if value is None else human_bytes(value)


def _marks(entry: Entry, states: Mapping[Key, str]) -> str:
    state = states.get(entry.scene.key, "picked")
    marks = [] if state == "picked" else [state]
    return "; ".join([*marks, *(f"#{tag}" for tag in entry.tags), *([entry.note] if entry.note else [])])


def csv_rows(entries: Sequence[Entry]) -> Iterator[str]:
    """The scenes as lines of CSV, the first with the names of the columns."""
    line = io.StringIO()
    writer = csv.writer(line, lineterminator="\n")
    head = [
        "number", "id", "collection", "source", "datetime", "end_datetime", "platform", "tile", "cloud_percent",
        "cloud_area_percent",
        "cover_percent", "sun_elevation_deg", "off_nadir_deg", "pixel_m", "access", "bytes",
    ]  # fmt: skip
    for row in chain([head], map(_csv_row, count(1), entries)):
        writer.writerow(map(csv_cell, row))
        yield line.getvalue()
        line.seek(0)
        line.truncate()


def _csv_row(number: int, entry: Entry) -> list[Any]:
    s = entry.scene
    inside = None if entry.cloud_area_percent is None else round(entry.cloud_area_percent, 2)
    return [
        number, s.id, s.collection, s.source, s.when.isoformat(), s.until.isoformat(), s.platform, s.tile,
        s.cloud_percent, inside, round(entry.cover_percent, 2), s.sun_elevation_deg, s.off_nadir_deg, s.pixel_m,
        s.access, s.size,
    ]  # fmt: skip


def _write(parts: Iterable[str], out: Path | None, is_json: bool = False) -> None:
    """Text in pieces to a file or to standard output."""
    if out is None:
        show.text(parts, is_json)
        return
    with writing(out) as stream:
        stream.writelines(part.encode() for part in parts)


def put_out(entries: Sequence[Entry], form: str, out: Path | None, overwrite: bool = False) -> bool:
    """Give scenes to standard output or a file in a form for machines; False for the table, which is not its work.

    Raises
    ------
    UsageError
        No such form, or one that needs a file, or a file that exists.
    """
    form = form or (form_of(out) if out else "table")
    if form not in FORMATS:
        raise UnknownNameError.of("format", form, FORMATS)
    if form == "table":
        if out is not None:
            raise UsageError("A table goes to the terminal, not into a file.", "Give --format csv, json or geojson.")
        return False
    if out is not None:
        refuse_existing([out], overwrite)
    if form == "parquet":
        if out is None:
            raise UsageError("GeoParquet needs a file.", "Give --out FILE.parquet.")

        geoparquet.write([entry.to_item() for entry in entries], out)
    elif form == "csv":
        _write(csv_rows(entries), out)
    else:
        _write(collection_text(entries), out, is_json=True)
    if out:
        show.note(f"{len(entries)} scenes written to {out}.")
    return True


_ENDINGS = {
    ".csv": "csv", ".parquet": "parquet", ".geoparquet": "parquet", ".json": "json", ".geojson": "geojson",
}  # fmt: skip


def form_of(out: Path) -> str:
    """The form that a file's ending asks for; UsageError for one that nothing here writes."""
    found = _ENDINGS.get(out.suffix.lower())
    if found is None:
        raise UsageError(f"{out.name}: lists of scenes are not written as '{out.suffix or 'a file without ending'}'.",
                         f"Give a name ending in {', '.join(_ENDINGS)}.")  # fmt: skip
    return found


def counts(entries: Sequence[Entry]) -> list[list[str]]:
    """Scenes per month and platform: a head line, then a row a month and a sum; there may be many months."""
    tally = Counter((entry.scene.platform or "?", entry.scene.day[:7]) for entry in entries)
    months = sorted({month for _, month in tally})
    platforms = sorted({platform for platform, _ in tally})
    rows = [["month", *platforms, "all"]]
    for name in [*months, "all"]:
        per = [sum(n for (own, at), n in tally.items() if own == one and name in (at, "all")) for one in platforms]
        rows.append([name, *(str(n) if n else "·" for n in per), str(sum(per))])
    return rows
