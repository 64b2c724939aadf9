"""Commands for what archives deliver: unpack."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.addresses import is_remote
from zoompick.area.coordinates import parse_point
from zoompick.cli import options, show
from zoompick.cli.declared import grouped
from zoompick.errors import UsageError
from zoompick.fetch import unpack as workflow
from zoompick.fetch.unpack import choose
from zoompick.files import human_bytes
from zoompick.journal import act
from zoompick.later import shapely
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.area.model import Area
    from zoompick.fetch.unpack import Choice, Unpacked
    from zoompick.geo.shapes import Shape
    from zoompick.scenes.archives import Archive

ArchiveText = Annotated[
    str, typer.Argument(metavar="FILE|URL", help="zip, tar, .gz, .bz2, .zst, .xz; the first of several parts.")
]
To = Annotated[Path | None, typer.Option("--to", metavar="FOLDER", help="Where files go; named after it.")]
At = Annotated[str, typer.Option("--at", metavar="POINT", help="Only what lies over this point.")]
Touching = Annotated[bool, typer.Option("--touching", help="Only what touches the study's area.")]
Only = Annotated[str, typer.Option("--files", metavar="PATTERN", help="Only names like '*-red.tif'.")]
ShowList = Annotated[bool, typer.Option("--list", help="List the members and unpack nothing.")]
Remove = Annotated[bool, typer.Option("--remove", help="Remove the archive when all of it is verified.")]


@grouped
def unpack(
    archive: ArchiveText,
    to: To = None,
    place: options.Place = options.NOWHERE,
    at: At = "",
    touching: Touching = False,
    only: Only = "",
    show_list: ShowList = False,
    remove: Remove = False,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
) -> None:
    """Unpack a delivery, or only what touches the area; of a remote one just those bytes."""
    choice = workflow.Choice(_where(place.area(), at, touching), only)
    if remove and (is_remote(archive) or not choice.is_all):
        raise UsageError("--remove is for a whole archive on this disk.", "Leave it out.")
    study = Study.find(Path.cwd())
    with show.progress() as report, workflow.opened(archive, report) as found:
        if show_list:
            _list(found, choice, as_json)
            return
        folder = to or Path(_stem(found.label))
        with act(study.journal_file if study else None, "unpack", archive=found.label) as doing:
            done = workflow.unpack(found, choice, folder, overwrite, report)
            doing.note(files=len(done.files), bytes=done.written, received=done.received)
    if as_json:
        show.as_json({"files": [str(path) for path in done.files], "bytes": done.written, "received": done.received})
    _closing(done, folder)
    if remove:
        gone = workflow.remove_delivery(Path(archive))
        show.note(f"Removed {', '.join(path.name for path in gone)}.")


def _where(given: Area | None, at: str, touching: bool) -> Shape | None:
    """The ground that is asked for: an area, a point, or the study's area."""
    if (given is not None) + bool(at) + touching > 1:
        raise UsageError("A place was given in more than one way.", "Give one of --area, --box, --at and --touching.")
    if at:
        point = parse_point(at)
        return shapely.Point(point.lon, point.lat)
    if touching:
        return Study.need(Path.cwd()).area().polygon
    return None if given is None else given.polygon


def _stem(label: str) -> str:
    """Name of the folder of a delivery: its own without endings."""
    return re.sub(r"(\.tar)?\.(zip|tar|gz|bz2|zst|xz|tgz|tbz2|tzst|txz)$", "", label, flags=re.IGNORECASE) or label


def _list(found: Archive, choice: Choice, as_json: bool) -> None:
    chosen = choose(found, choice)
    if as_json:
        show.as_json([{"name": member.name, "bytes": member.size} for member in chosen.members])
    else:
        rows = [[member.name, human_bytes(member.size) if member.size >= 0 else "?"] for member in chosen.members]
        with show.paged(len(rows)):
            show.table([show.Column("member", flexible=True), show.Column("size", "right")], rows)
    by = f", by {chosen.told_by}" if chosen.told_by else ""
    others = f" of {chosen.others + len(chosen.members)}" if chosen.others else ""
    cost = f" {human_bytes(found.remote.cost.received)} were fetched for the list." if found.remote else ""
    show.note(f"{len(chosen.members)}{others} members{by}.{cost}")


def _closing(done: Unpacked, folder: Path) -> None:
    saved = ""
    if done.received is not None:
        saved = (
            f" Fetched {human_bytes(done.received)} of {human_bytes(done.size)} in {done.requests} requests: "
            f"{human_bytes(done.size - done.received)} saved."
        )
    came = show.counted(len(done.files), "file")
    whole = ", each fits its checksum." if done.has_checksums else "; all lengths fit, the archive has no checksums."
    show.note(f"{came} ({human_bytes(done.written)}) in {folder}{whole}{saved}")
