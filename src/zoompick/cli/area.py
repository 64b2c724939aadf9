"""The study area: set, show, convert, change, keep, and what lies under it."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.area import kept, places, sheets
from zoompick.area.write import write_area
from zoompick.cli import options, show
from zoompick.cli.groups import defaulting, group
from zoompick.errors import AreaError, UsageError
from zoompick.figures.maps import area_map
from zoompick.files import human_km2, human_names
from zoompick.geo.geodesy import perimeter_km
from zoompick.geo.shapes import bounds_of, project
from zoompick.later import shapely
from zoompick.study import areas
from zoompick.study.areas import set_area, where
from zoompick.study.folder import Study

if TYPE_CHECKING:
    from zoompick.area.model import Area

area = group(
    defaulting("set", "show"),
    "The study area: set, show, change, keep it.\n\n"
    "Set it from a file or a name, by --box, or by a point and --around; "
    "'zoompick area set --help' lists all options.",
)
Given = Annotated[
    str,
    typer.Argument(
        metavar="[AREA]",
        help="A file (GeoJSON, KML, KMZ, GPX, WKT, shapefile, GeoPackage, table, raster) or its web address, kept "
        "area, place, sheet, tile, "
        "coordinates, or '-'.",
        show_default=False,
    ),
]
Only = Annotated[
    str, typer.Option("--named", metavar="NAME", help="One polygon of a file, by name or attribute=value.")
]
Like = Annotated[Path | None, typer.Option("--like", metavar="RASTER", help="The bounds of another raster.")]
Picture = Annotated[Path | None, typer.Option("--out", metavar="FILE", help="Draw a map of it (PNG).")]


_MOST_OF_A_KIND = 12


def _length(length_km: float) -> str:
    return f"{length_km:.2f} km" if length_km >= 1 else f"{1000 * length_km:.0f} m"


@area.command("set")
def area_set(
    given: Given = "",
    box: options.Box = None,
    around: options.Around = "",
    only: Only = "",
    like: Like = None,
    name: Annotated[str, typer.Option("--name", metavar="NAME", help="Name to give it.")] = "",
    describe: Annotated[str, typer.Option("--describe", metavar="TEXT", help="A sentence about it.")] = "",
    picture: Picture = None,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
) -> None:
    """Set the study's area; outside a study only measure it."""
    found = options.Place(given, box, around, only).area(like)
    if found is None and (name or describe):
        raise UsageError("No area was given to name.", "Give a file, a name, coordinates, or --box W S E N.")
    if found is None:
        area_show(picture=picture, overwrite=overwrite, as_json=as_json)
        return
    if name or describe:
        found = found.renamed(name or found.name, describe or None)
    _drawable(picture, overwrite)
    study = Study.find(Path.cwd())
    if study is not None:
        set_area(study, found)
    _show(found, as_json, picture)
    show.note(f"Kept as the area of the study {study.root.name}." if study else "Not kept: there is no study here.")


@area.command("show")
def area_show(
    given: Given = "",
    box: options.Box = None,
    around: options.Around = "",
    only: Only = "",
    picture: Picture = None,
    overwrite: options.Overwrite = False,
    as_json: options.Json = False,
) -> None:
    """Show an area, the study's by default: size, edges, centre, zones, sheets; draw a map of it."""
    _drawable(picture, overwrite)
    _show(_area_or_study(given, box, around, only), as_json, picture)


def _drawable(picture: Path | None, overwrite: bool) -> None:
    if picture is not None:
        options.png(picture, overwrite)


def _area_or_study(given: str, box: options.Edges | None, around: str = "", only: str = "") -> Area:
    found = options.Place(given, box, around, only).area()
    return Study.need(Path.cwd()).area() if found is None else found


def _show(given: Area, as_json: bool, picture: Path | None = None) -> None:
    for note in given.notes:
        show.note(note)
    if as_json:
        show.as_json(given.to_feature())
    else:
        for label, text in _facts(given):
            show.line(f"{label:<10} {text}")
    if picture is not None:
        area_map(given, picture)
        show.note(f"Drawn in {picture}.")


_MOST_ZONES = 6


def _facts(given: Area) -> list[tuple[str, str]]:
    lon, lat = given.centre
    try:
        flat = bounds_of(project(given.polygon, given.utm))
        metres = f"west {flat.west:.0f}, south {flat.south:.0f}, east {flat.east:.0f}, north {flat.north:.0f}"
        metres += f" ({given.utm})"
    except AreaError:
        metres = "too wide for one UTM zone"
    crossed = given.utm_zones
    zones = ", ".join(f"{crs} ({crs.name})" for crs in crossed[:_MOST_ZONES])
    zones += f" and {len(crossed) - _MOST_ZONES} more" if len(crossed) > _MOST_ZONES else ""
    under: dict[str, list[str]] = {}
    for entry in where(given):
        under.setdefault(entry.kind, []).append(entry.name)
    facts = [
        ("area", given.name),
        ("size", human_km2(given.size_km2)),
        ("perimeter", _length(perimeter_km(given.polygon))),
        ("centre", f"{lon:.5f}, {lat:.5f} (longitude, latitude)"),
        ("degrees", _degrees(given)),
        ("metres", metres),
        ("UTM", zones),
        ("corners", str(shapely.get_num_coordinates(given.polygon) - _rings(given))),
    ]  # fmt: skip
    if given.description:
        facts.insert(1, ("about", given.description))
    return facts + [(kind.split()[0], human_names(names, 8)) for kind, names in under.items()]


def _degrees(given: Area) -> str:
    box, across = given.bounds, ""
    west, east = box.west, box.east
    if given.crosses_antimeridian and box.south > -90 and box.north < 90:
        parts = [part.bounds for part in shapely.get_parts(given.polygon)]
        west, east = min(part[0] for part in parts if part[0] > 0), max(part[2] for part in parts if part[2] < 0)
        across = " (across the antimeridian)"
    return f"west {west:.5f}, south {box.south:.5f}, east {east:.5f}, north {box.north:.5f}{across}"


def _rings(given: Area) -> int:
    return sum(1 + len(part.interiors) for part in shapely.get_parts(given.polygon))


@area.command("where")
def area_where(
    given: Given = "", box: options.Box = None, around: options.Around = "", as_json: options.Json = False
) -> None:
    """List the sheets, tiles, track/frames, districts and places that lie under an area."""
    found = where(_area_or_study(given, box, around))
    if as_json:
        show.as_json([asdict(entry) for entry in found])
        return
    columns = [show.Column("kind"), show.Column("name"), show.Column("within"), show.Column("covers %", "right")]
    rows: list[list[str]] = []
    for kind in dict.fromkeys(entry.kind for entry in found):
        same = [entry for entry in found if entry.kind == kind]
        rows += [
            [kind, e.name, e.within, f"{e.percent:.1f}" if e.percent else "point"] for e in same[:_MOST_OF_A_KIND]
        ]
        if len(same) > _MOST_OF_A_KIND:
            rows.append([kind, f"and {len(same) - _MOST_OF_A_KIND} more", "", ""])
    show.table(columns, rows)
    if not found:
        show.note("Nothing that has a name here lies under it.")


@area.command("write")
def area_write(
    file: Annotated[Path, typer.Argument(metavar="FILE", help=".geojson .kml .kmz .gpx .wkt .zip .gpkg")],
    given: Given = "",
    box: options.Box = None,
    around: options.Around = "",
    only: Only = "",
    overwrite: options.Overwrite = False,
) -> None:
    """Write an area, the study's by default, in another format."""
    found = _area_or_study(given, box, around, only)
    write_area(found, file, overwrite)
    show.note(f"{found.name}, {human_km2(found.size_km2)}, written to {file}.")


@area.command("change")
def area_change(
    buffer: Annotated[
        str, typer.Option("--grow", metavar="DISTANCE", help="Grow it by 500m, or shrink it by -200m.")
    ] = "",
    simplify: Annotated[
        str, typer.Option("--simplify", metavar="DISTANCE", help="Fewer corners, none moved further than this.")
    ] = "",
    add: Annotated[list[str] | None, typer.Option("--with", metavar="AREA", help="Join another area.")] = None,
    cut: Annotated[list[str] | None, typer.Option("--without", metavar="AREA", help="Cut another area out.")] = None,
) -> None:
    """Change the study's area: join, cut out, then grow, then simplify."""
    if not (buffer or simplify or add or cut):
        raise UsageError("No change was asked for.", "Give --grow, --simplify, --with or --without.")
    study = Study.need(Path.cwd())
    before = study.area()
    others = [[found for text in texts or () if (found := options.Place(text).area())] for texts in (add, cut)]
    after = areas.change_area(study, buffer, simplify, *others)
    _show(after, False)
    show.note(f"It had {human_km2(before.size_km2)} and has {human_km2(after.size_km2)} now.")


@area.command("keep")
def area_keep(
    name: Annotated[str, typer.Argument(metavar="NAME", help="Name to call it by in any study.")],
    given: Given = "",
    box: options.Box = None,
    around: options.Around = "",
    only: Only = "",
    describe: Annotated[str, typer.Option("--describe", metavar="TEXT", help="A sentence about it.")] = "",
    overwrite: options.Overwrite = False,
) -> None:
    """Keep an area, the study's by default, by name for all studies."""
    found = _area_or_study(given, box, around, only)
    kept.keep(found.renamed(name, describe or None), name, overwrite)
    show.note(f"{name}, {human_km2(found.size_km2)}, is kept: '--area {name}' means it in any study.")


@area.command("forget")
def area_forget(name: Annotated[str, typer.Argument(metavar="NAME", help="A kept area.")]) -> None:
    """Forget a kept area."""
    kept.forget(name)
    show.note(f"{name} is forgotten.")


@area.command("list")
def area_list(as_json: options.Json = False) -> None:
    """List the kept areas."""
    found = [kept.load(name) for name in kept.names()]
    if as_json:
        show.as_json([entry.to_feature() for entry in found])
    elif found:
        columns = [show.Column("name"), show.Column("km2", "right"), show.Column("about", flexible=True)]
        show.table(columns, [[entry.name, human_km2(entry.size_km2, ""), entry.description] for entry in found])
    else:
        show.note("No area is kept. 'zoompick area keep NAME AREA' keeps one.")


@area.command("places")
def area_places(
    name: Annotated[str, typer.Argument(metavar="[NAME]", help="A region or district whose places are listed.")] = "",
    add: Annotated[
        Path | None, typer.Option("--add", metavar="FILE", help="Take in a gazetteer of your own (CSV or GeoJSON).")
    ] = None,
    as_json: options.Json = False,
) -> None:
    """Walk the gazetteer: regions, then a region's districts, then a district's places and sheets."""
    if add is not None:
        show.note(f"{places.add(add)} places taken in from {add.name}.")
        return
    rows = _walk(name)
    if as_json:
        show.as_json([dict(zip(("kind", "name", "within", "lon", "lat"), row, strict=True)) for row in rows])
        return
    columns = [show.Column(text) for text in ("kind", "name", "within")]
    columns += [show.Column("longitude", "right"), show.Column("latitude", "right")]
    show.table(columns, [[*row[:3], f"{row[3]:.4f}", f"{row[4]:.4f}"] for row in rows])


def _walk(name: str) -> list[tuple[str, str, str, float, float]]:
    known = places.known()
    if not name:
        tops = [entry for entry in known if not entry.within and entry.gazetteer != "towns"]
        return [(entry.kind, entry.name, "", entry.lon, entry.lat) for entry in tops]
    parent = places.named(name, known)
    rows = [(e.kind, e.name, e.within, e.lon, e.lat) for e in places.inside(parent.name, known)]
    if parent.ground is not None and parent.kind == "district":
        series = next(scheme for scheme in sheets.schemes() if scheme.kind == "degrees")
        for sheet, _ in series.under(parent.ground):
            middle = sheet.polygon.centroid
            rows.append((sheet.scheme, sheet.name, parent.name, middle.x, middle.y))
    return rows
