"""Commands for trying things out: demo, standin serve."""

from __future__ import annotations

import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zoompick.addresses import address_parts, is_this_machine
from zoompick.area.model import Area
from zoompick.cli import exits, show
from zoompick.cli.groups import group
from zoompick.cli.made import show_made
from zoompick.cli.running import show_run
from zoompick.discovery import find
from zoompick.discovery.criteria import Criteria
from zoompick.errors import UsageError
from zoompick.geo.shapes import polygon_of
from zoompick.products.change import GAINED, LOST
from zoompick.products.grids import common_grid
from zoompick.products.how import Making
from zoompick.products.kinds.mosaic import MosaicRules, steps_of
from zoompick.products.making import make_files
from zoompick.products.sidebyside import ground_of
from zoompick.raster.opening import open_raster
from zoompick.scenes import sources
from zoompick.scenes.period import Period
from zoompick.settings import BRIEF_NAME, cache_folder
from zoompick.standin.faults import NAMES
from zoompick.standin.serve import archive
from zoompick.study import run as workflow
from zoompick.study import verbs
from zoompick.study.folder import Study
from zoompick.study.new import NewStudy, new_study

if TYPE_CHECKING:
    from zoompick.events import Report
    from zoompick.products.step import Made

standin = group(text="The simulated archive of the invented Ostrell islands.")

_AREA = [
    [-12.094, -38.612], [-12.088, -38.594], [-12.052, -38.583], [-12.012, -38.584], [-11.989, -38.597],
    [-11.991, -38.618], [-12.032, -38.622], [-12.047, -38.640], [-12.078, -38.645], [-12.091, -38.632],
    [-12.094, -38.612],
]  # fmt: skip
_PORT = 8638
_RECIPES = {
    ("composite", "recipes"): ["natural", "infrared", "shortwave", "fields"],
    ("index", "recipes"): ["ndvi", "ndwi", "ndmi"],
}
_TOGETHER = """
# Where the ground is seen, of each summer.

[[mask]]
name = "ground"
where = "cloud or shadow or outside"
grow_m = 40                # so far around cloud and shadow nothing is trusted
apply = true               # the bands without it, in place of a layer that tells it

# Products of both summers together.

[[blend]]
name = "clear"
by = "newest"              # each pixel from the last date that shows the ground
grow_m = 40

[[compare]]
name = "wetter"
of = "ground"
index = "ndwi"
above = 0                  # open water
show = "natural"           # and a picture of both summers with the same shades
"""
_BORDER = (-12.06, -38.63, -11.92, -38.59)
_BORDER_TILES = ("28S9844", "28S9845", "29S3144", "29S3145")
_BORDER_BANDS = ("green", "red", "nir")
_SUMMERS = ["2024-12/2025-02", "2025-12/2026-02"]


@standin.command("serve")
def serve(
    port: Annotated[
        int | None,
        typer.Option(
            "--port",
            help="Port on this machine; 0 takes a free one; that of this folder's study, else 8638, by default.",
        ),
    ] = None,
    fault: Annotated[
        list[str] | None,
        typer.Option(
            "--fault",
            metavar="NAME:AMOUNT",
            help="Trouble for tests: cut:0.3, busy:0.1; may be given again. 'zoompick standin troubles' lists all.",
        ),
    ] = None,
    synthetic: Annotated[
        int,
        typer.Option("--synthetic", metavar="N", min=0, help="Add a collection of N made-up scenes, for load tests."),
    ] = 0,
    rude: Annotated[
        bool, typer.Option("--rude", help="Serve another archive: odd systems, words, units and no manners.")
    ] = False,
) -> None:
    """Serve the archive on this machine until Ctrl-C."""
    if rude and (fault or synthetic):
        raise UsageError("The rude archive takes neither --fault nor --synthetic.", "Leave them out.")
    place = _port_of(Path.cwd()) if port is None else port
    with archive(cache_folder(), place, tuple(fault or ()), synthetic, rude) as url:
        show.line(f"{url}")
        name, word = ("rude", "rude") if rude else ("Ostrell", "ostrell")
        show.note(f"The {name} archive is up. Another terminal can use it: zoompick source add {word} {url}")
        show.note("Scenes are made when they are first asked for. Ctrl-C ends it.")
        sys.stdout.flush()
        threading.Event().wait()


def _port_of(folder: Path) -> int:
    """Port at which the study around a folder knows an archive on this machine; the usual one where there is none."""
    study = Study.find(folder)
    own = sources.load(sources.sources_file(study.root)) if study else {}
    ports = [address_parts(source.url).port for source in own.values() if is_this_machine(source.url)]
    return next((port for port in ports if port), _PORT)


@standin.command("troubles")
def troubles() -> None:
    """List the troubles that the archive can make, for 'standin serve --fault'."""
    show.table([show.Column("trouble"), show.Column("what", flexible=True)], [list(row) for row in NAMES.items()])


def demo(
    folder: Annotated[Path, typer.Argument(metavar="[FOLDER]", help="Folder of the demo study.")] = Path(
        "zoompick-demo"
    ),
) -> int:
    """Run a whole study on invented data: a fen before and after its water was raised."""
    cache = cache_folder()
    show.note(f"The simulated archive makes its world and scenes at the first request and keeps them in {cache}.")
    with archive(cache) as url:
        study = _study(folder)
        sources.add(sources.Source("ostrell", url), sources.sources_file(study.root))
        with show.progress() as report:
            done = workflow.run(study, report)
            border = _over_the_border(study, report)
    show_run(study, done)
    show_made(border, of_study=False)
    _tell(study, folder)
    return exits.CHECK_FAILED if any(finding.outcome == "fail" for finding in done.findings) else exits.DONE


def _study(folder: Path) -> Study:
    """The demo's study: made, or the one that is there from before."""
    if (folder / BRIEF_NAME).exists():
        return Study(folder.resolve())
    area = Area("Harrow Fen", polygon_of({"type": "Polygon", "coordinates": [_AREA]}))
    wish = NewStudy("Harrow Fen", area, "ostrell", ["lapwing-l2"], _SUMMERS, 20, True, _RECIPES, _TOGETHER)
    return new_study(folder, wish)


def _over_the_border(study: Study, report: Report) -> list[Made]:
    """A mosaic of scenes on both sides of a UTM zone's border, beside the study, as ``mosaic`` makes it of files."""
    area, folder = Area.from_box(*_BORDER), study.root / "border"
    wanted = Criteria(area.polygon, ("lapwing-l2",), (Period.parse("2025-12-15"),))
    found = find.search(sources.known(study.root)["ostrell"], wanted, report)
    chosen = [entry for entry in found if entry.scene.tile in _BORDER_TILES]
    files = tuple(verbs.download(chosen, (*_BORDER_BANDS, "classes"), folder, area, report))
    grid = common_grid([open_raster(path).grid for path in files], area)
    steps = steps_of(files, folder / "mosaic.tif", _BORDER_BANDS, grid, MosaicRules(feather_m=100))
    return make_files(steps, Making(True, report), study.journal_file)


def _tell(study: Study, folder: Path) -> None:
    products = study.root / "products"
    days = sorted(path.name for path in products.iterdir() if path.is_dir())
    show.line()
    show.line(f"Made in {folder}:")
    for day in days:
        show.line(f"  products/{day}/natural.png     the fen in natural colour")
        show.line(f"  products/{day}/ndwi.tif        open water above 0")
    show.line("  products/clear.tif, wetter.tif      both summers without their clouds; where it got wetter")
    show.line("  products/wetter.png                 the two summers side by side, and where it got wetter")
    show.line(
        "  border/mosaic.tif                   a mosaic of two UTM zones; mosaic-scenes.tif: which scene is where"
    )
    show.line("  checks.json, journal.jsonl, shortlist.json: what was checked, done and picked")
    ground = ground_of(products / "wetter.tif", study.area()) if (products / "wetter.tif").exists() else {}
    hectares = (ground.get(GAINED, 0) - ground.get(LOST, 0)) / 1e4
    show.line(
        f"The sluice was rebuilt between the two summers: open water grew by {hectares:.0f} ha, "
        "of the ground that both show without cloud."
    )
    show.line()
    show.line(f"Try next, in {folder} (bring the archive back first, in another terminal):")
    show.line("  zoompick standin serve")
    show.line("  zoompick search --cloud 60 --inside")
    show.line("  zoompick look")
    show.line("  zoompick pick --cover")
    show.line("  zoompick composite --recipe shortwave")
    show.line("  zoompick verify")
    show.line("  zoompick report")
    show.line("  zoompick status")
