"""Make the pictures in docs/screenshots from the demo data: ``python scripts/screenshots.py``.

Terminal views are captured from an xterm on a virtual screen (Debian packages xvfb, xterm, imagemagick); the story's
picture is put together from the demo's own products.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import imagecodecs
import numpy as np

ROOT = Path(__file__).parents[1]
OUT = ROOT / "docs" / "screenshots"
PROGRAM = Path(sys.executable).with_name("zoompick")
DISPLAY = ":93"


def environment(folder: Path) -> dict[str, str]:
    """Nothing of the user's own is used or shown."""
    paths = f"{PROGRAM.parent}:{os.environ['PATH']}"
    own = {"ZOOMPICK_CACHE": str(folder / "cache"), "ZOOMPICK_CONFIG": str(folder / "config"), "PATH": paths}
    return os.environ | own | {"DISPLAY": DISPLAY, "PS1": "$ ", "HOME": str(folder)}


def capture(name: str, script: str, folder: Path, cwd: Path, wait_s: float = 0.0, is_long: bool = False) -> None:
    """Run a script in a terminal of 100 x 54 characters and take its picture when it is done, or after a while.

    What is long gets 100 x 70 smaller ones.
    """
    size, points = ("100x70+0+0", "8.5") if is_long else ("100x54+0+0", "11")
    file, done = folder / f"{name}.sh", folder / f"{name}.done"
    file.write_text(f"{script}\ntouch {done}\nsleep 600\n")
    window = subprocess.Popen(
        ["xterm", "-geometry", size, "-fa", "DejaVu Sans Mono", "-fs", points, "-bg", "#1d2125",
         "-fg", "#e4e4de", "-b", "12", "+sb", "-e", "bash", str(file)],
        cwd=cwd, env=environment(folder),
    )  # fmt: skip
    for _ in range(int(wait_s) or 240):
        time.sleep(1)
        if done.exists():
            break
    time.sleep(1)
    picture = folder / f"{name}.png"
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", str(picture)], check=True)
    paper = [
        "-crop",
        "925x1050+0+0",
        "-fuzz",
        "15%",
        "-trim",
        "-bordercolor",
        "#1d2125",
        "-border",
        "14",
        "-colors",
        "64",
        "-strip",
    ]
    subprocess.run(["convert", str(picture), *paper, str(OUT / f"{name}.png")], check=True)
    window.terminate()
    window.wait()


def echoed(*commands: str) -> str:
    """A script that shows each command before it runs."""
    return "clear\n" + "\n".join(f"printf '$ %s\\n' {shell(command)}\n{command}\necho" for command in commands)


def shell(text: str) -> str:
    """Quoted for bash."""
    return "'" + text.replace("'", "'\\''") + "'"


def story(study: Path) -> None:
    """Before and after: natural colour above, water index below."""
    columns, days = [], sorted(path for path in (study / "products").iterdir() if path.is_dir())
    for day in days:
        natural = imagecodecs.png_decode((day / "natural.png").read_bytes())
        ndwi = subprocess.run(
            [sys.executable, "-c", INDEX_PICTURE, str(day / "ndwi.tif")], capture_output=True, check=True
        ).stdout
        shape = natural.shape[:2]
        water = np.frombuffer(ndwi, np.uint8).reshape(*shape, 3)
        paper = np.array([251, 251, 248], np.uint8)
        colour = np.where(natural[:, :, 3:] > 0, natural[:, :, :3], paper)
        columns.append(np.vstack([crop(colour), np.broadcast_to(paper, (8, shape[1], 3)), crop(water)]))
    gap = np.full((columns[0].shape[0], 8, 3), (251, 251, 248), np.uint8)
    image = np.ascontiguousarray(np.hstack([columns[0], gap, *columns[1:]]))
    full = study / "story.png"
    full.write_bytes(imagecodecs.png_encode(image))
    half, right = 312, 652
    words = [(14, 12, f"{days[0].name}: natural colour"), (right, 12, f"{days[1].name}: natural colour"),
             (14, half, f"{days[0].name}: water index"), (right, half, f"{days[1].name}: water index")]  # fmt: skip
    told = [word for x, y, text in words for word in ("-annotate", f"+{x}+{y}", text)]
    swatches = (("#e2dec4", "land", 980), ("#96c4d6", "0", 1084), ("#124280", "water", 1170))
    legend = [
        word
        for colour, text, x in swatches
        for word in ("-fill", colour, "-draw", f"rectangle {x},598 {x + 24},616", "-fill", "#20303a",
                     "-annotate", f"+{x + 32}+597", text)
    ]  # fmt: skip
    strip = ("-background", "#fbfaf6", "-gravity", "South", "-splice", "0x36")
    subprocess.run(
        ["convert", str(full), "-resize", "1280x", *strip, "-gravity", "NorthWest", "-font", "DejaVu-Sans",
         "-pointsize", "17", "-fill", "#20303a", "-undercolor", "#fbfaf6", *told, *legend, "-colors", "160", "-strip",
         str(OUT / "story.png")],
        check=True,
    )  # fmt: skip


def crop(image: np.ndarray) -> np.ndarray:
    """The part with the fen."""
    return image[: int(image.shape[0] * 0.62)]


def look(study: Path, env: dict[str, str]) -> None:
    """What is drawn before a download: the area, a contact sheet, footprints, the calendar."""
    whole = ["--dates", "2024-11/2026-02", "--cloud", "100", "--cover-min", "20"]
    sheet, lines = OUT / "look.png", OUT / "footprints.png"
    for words in (
        ["area", "show", "--out", OUT / "area.png", "--overwrite"],
        ["search", *whole],
        ["calendar", "--out", OUT / "calendar.png", "--overwrite"],
        ["look", "date>=2025-11-20", "--limit", "15", "--out", sheet, "--overwrite"],
        ["look", "date>=2025-11-20", "--map", "--out", lines, "--overwrite"],
        ["search"],
    ):
        subprocess.run([PROGRAM, *map(str, words)], cwd=study, env=env, check=True, capture_output=True)
    others = ["siskin-l2", "dunlin-l1", "gannet-vhr"]
    mixed = [word for name in others for word in ("--collection", name)]
    found = subprocess.run(
        [PROGRAM, "search", "--source", "ostrell", "--area", "area.geojson", "--dates", "2025-11/2026-02",
         "--cloud", "60", "--json", *mixed],
        cwd=study, env=env, check=True, capture_output=True,
    ).stdout  # fmt: skip
    others_sheet = OUT / "instruments.png"
    subprocess.run(
        [PROGRAM, "look", "-", "--limit", "10", "--out", str(others_sheet), "--overwrite"],
        cwd=study, env=env, check=True, input=found, capture_output=True,
    )  # fmt: skip
    subprocess.run([PROGRAM, "search"], cwd=study, env=env, check=True, capture_output=True)
    for picture in (sheet, others_sheet):
        subprocess.run(["convert", str(picture), "-colors", "220", "-strip", str(picture)], check=True)


INDEX_PICTURE = """
import sys
import numpy as np
from zoompick import open_raster
raster = open_raster(sys.argv[1])
ndwi = raster.read(raster.grid.window)[0]
stops, colours = [-0.8, -0.4, 0.0, 0.35], [(164, 143, 92), (226, 222, 196), (150, 196, 214), (18, 66, 128)]
rgb = np.stack([np.interp(ndwi, stops, [c[i] for c in colours]) for i in range(3)], axis=2)
rgb[np.isnan(ndwi)] = (251, 251, 248)
sys.stdout.buffer.write(np.rint(rgb).astype(np.uint8).tobytes())
"""


MAKING = (
    "zoompick mosaic scenes/*/*/*/*.tif --area area.geojson --bands red,green,blue,nir --feather 100m",
    "zoompick index mosaic.tif --recipe ndvi,ndwi,evi",
    "zoompick blend scenes/*/*/*/*.tif --area area.geojson --bands red,nir --by newest --grow 40m",
    "zoompick mask scenes/*/*/*20241220*9844*/*.tif --where 'cloud or shadow or nir < 0.05' --grow 40m",
    "zoompick align mosaic.tif --reference products/2025-12-15/clip.tif --band nir",
    (
        "zoompick compare products/2024-12-20/clip.tif products/2025-12-15/clip.tif --index ndwi --above 0 "
        "--area area.geojson"
    ),
)


def getting(folder: Path, study: Path, env: dict[str, str]) -> None:
    """Windows, orders, archives, tiles, and how far a study is."""
    subprocess.run([PROGRAM, "download"], cwd=study, env=env, capture_output=True)
    capture("status", echoed("zoompick status", "zoompick history --act download"), folder, study)
    archive = "http://127.0.0.1:8638"
    subprocess.run([PROGRAM, "source", "add", "pictures", f"{archive}/tiles/wmts"], cwd=study, env=env, check=True)
    delivery = f"{archive}/deliveries/curlew-fen.tar.001"
    subprocess.run([PROGRAM, "unpack", delivery, "--list"], cwd=study, env=env, check=True, capture_output=True)
    tiles = (
        "zoompick tiles plan --layer natural", "zoompick tiles plan --layer natural --pixel-max 8",
        "zoompick tiles get --layer natural --pixel-max 8", "zoompick tiles join --on-grid",
        f"zoompick unpack {delivery} --at '38.61S 12.05W'",
    )  # fmt: skip
    capture("tiles", echoed(*tiles), folder, study)
    bought = [
        "--box",
        "-12.056",
        "-38.611",
        "-12.052",
        "-38.608",
        "--source",
        "ostrell",
        "--collection",
        "gannet-vhr",
    ]
    subprocess.run([PROGRAM, "source", "add", "ostrell", archive], cwd=folder, env=env, check=True)
    subprocess.run([PROGRAM, "new", "bought", *bought, "--dates", "2025-11/2026-01"], cwd=folder, env=env, check=True)
    shop = folder / "bought"
    for words, typed in (
        (["search"], ""),
        (["pick", "1-3"], ""),
        (["source", "login", "ostrell", "--user", "visitor"], "ostrell\n"),
    ):
        subprocess.run([PROGRAM, *words], cwd=shop, env=env, input=typed, text=True, check=True, capture_output=True)
    orders = (
        "zoompick order ask",
        "zoompick order ask --accept-terms $(zoompick order ask 2>/dev/null | grep digest | cut -d' ' -f2)",
        "zoompick order plan", "zoompick order submit --accept-price '20 crowns'", "zoompick order wait --every 1s",
    )  # fmt: skip
    capture("order", echoed(*orders), folder, shop)


def fields(path: Path) -> None:
    """Two fields of the fen, as a layer."""
    rows = []
    for code, west in (("F-1", -12.07), ("F-2", -12.05)):
        corners = [(0, 0), (0.012, 0), (0.012, 0.01), (0, 0.01), (0, 0)]
        ring = [[round(west + x, 4), round(-38.615 + y, 4)] for x, y in corners]
        rows.append({"type": "Feature", "properties": {"code": code},
                     "geometry": {"type": "Polygon", "coordinates": [ring]}})  # fmt: skip
    path.write_text(json.dumps({"type": "FeatureCollection", "features": rows}))


def report(study: Path, env: dict[str, str]) -> None:
    """The report in a browser, from its head to the first products."""
    subprocess.run([PROGRAM, "report"], cwd=study, env=env, check=True, capture_output=True)
    picture = study / "report.png"
    subprocess.run(
        ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking",
         "--disable-component-update", "--hide-scrollbars", f"--user-data-dir={study.parent / 'browser'}",
         "--window-size=1280,2150", f"--screenshot={picture}", (study / "report.html").as_uri()],
        check=True, capture_output=True,
    )  # fmt: skip
    subprocess.run(
        ["convert", str(picture), "-resize", "960x", "+dither", "-colors", "256", "-strip", str(OUT / "report.png")],
        check=True,
    )


def main() -> None:
    """Make all pictures."""
    OUT.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="zoompick-shots-"))
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "925x1052x24"], stderr=subprocess.DEVNULL)
    server = None
    try:
        time.sleep(1)
        env = environment(folder)
        subprocess.run([PROGRAM, "demo", "fen"], cwd=folder, env=env, check=True, capture_output=True)
        study = folder / "fen"
        story(study)
        capture("verify", echoed("zoompick verify", "zoompick verify --explain seams"), folder, study, is_long=True)
        report(study, env)
        server = subprocess.Popen(
            [PROGRAM, "standin", "serve", "--port", "8638"],
            env=env,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(3)
        subprocess.run(
            [PROGRAM, "source", "add", "ostrell", "http://127.0.0.1:8638", "--here"], cwd=study, env=env, check=True
        )
        source = "zoompick source show | sed -n '/^gannet/,$p'", "zoompick source check"
        capture("source", echoed(*source), folder, study)
        capture("help", echoed("zoompick --help"), folder, folder, is_long=True)
        capture("making", echoed(*MAKING), folder, study)
        look(study, env)
        capture("search", echoed("zoompick search --cover-min 20 --inside --season dec-jan"), folder, study)
        capture("scene", echoed("zoompick scene 3"), folder, study)
        subprocess.run([PROGRAM, "search"], cwd=study, env=env, check=True, capture_output=True)
        capture("pick", echoed("zoompick pick --cover --instead --within 1", "zoompick pick list"), folder, study)
        brief = (study / "study.toml").read_text()
        (study / "study.toml").write_text(brief.replace("stretch = [0.5, 99.7]", "stretch = [1, 99]"))
        fields(study / "fields.geojson")
        runs = (
            "zoompick run --plan",
            "zoompick run",
            "zoompick lock",
            "zoompick run --each fields.geojson --column code",
        )
        capture("run", echoed(*runs), folder, study, is_long=True)
        subprocess.run(
            [PROGRAM, "search", "--dates", "2026", "--cloud", "60"], cwd=study, env=env, capture_output=True
        )
        subprocess.run([PROGRAM, "pick", "1", "2", "3", "4"], cwd=study, env=env, check=True, capture_output=True)
        capture("download", echoed("zoompick pick", "zoompick download --whole --limit-rate 4MB"), folder, study, 9)
        getting(folder, study, env)
    finally:
        if server:
            server.terminate()
        screen.terminate()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
