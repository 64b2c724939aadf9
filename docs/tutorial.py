# %% [markdown]
# # Zoom Pick from Python
#
# Run `zoompick standin serve` in a terminal first: an invented archive. Each cell builds on those before it. Every
# verb takes values and gives values; rasters are computed when they are read or written.

# %% Where, when, how cloudy
import sys
from pathlib import Path

import zoompick as zp

archive = zp.Source("ostrell", sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8638")
area = zp.Area.from_box(-12.09, -38.64, -12.03, -38.59, "fen")
print(f"{area.size_km2:.1f} km2 in {area.utm}")

# %% Search two summers, and pick of each the clearest scenes that cover the area
picked = {}
for year in ("2024", "2025"):
    wanted = zp.Criteria(area.polygon, ("lapwing-l2",), (zp.Period.parse(f"{year}-12"),), cloud_max=20)
    found = zp.search(archive, wanted)
    picked[year] = zp.pick(found, area)
    print(year, len(found), "scenes fit,", len(picked[year]), "are needed")

# %% Fetch only what is needed: four bands and the class layer, under the area
bands = ["green", "red", "nir", "classes"]
files = {year: zp.download(entries, bands, Path("scenes"), area) for year, entries in picked.items()}
print({year: len(paths) for year, paths in files.items()})

# %% One grid for both, and a mosaic without cloud on it; a second layer tells which scene a pixel is from
grid = zp.grid_for([path for paths in files.values() for path in paths], ["red"], area)
summers = {year: zp.mosaic(paths, ["green", "red", "nir"], grid=grid) for year, paths in files.items()}
origin = zp.scene_layer(summers["2025"])
print(summers["2025"].grid.width, "x", summers["2025"].grid.height, "px;", origin.bands[0].name)

# %% Pixels as NumPy: physical values, no-data as NaN, and only a window of them
window = zp.Window(0, 0, 100, 100)
red = zp.to_numpy(summers["2025"], window=window, scaled=True)[1]
print(red.shape, f"red reflects {float(red[red == red].mean()):.3f}")

# %% An index of each, written as Cloud Optimized GeoTIFF with its record beside it
for year, raster in summers.items():
    zp.write(zp.clip(zp.index(raster, "ndwi"), area), f"water-{year}.tif", overwrite=True)

# %% How much ground got wetter, in hectares, and a picture of it
change = zp.compare(
    "water-2024.tif", "water-2025.tif", "water.png", above=0.0, area=area, title="Open water", overwrite=True,
)  # fmt: skip
for row in change.rows:
    print(f"{row['name']:<14} {row['ha']:8.1f} ha")

# %% Is it right? Every finding has a figure, a limit and a sentence
findings = zp.verify_files(["water-2025.tif"], ["ndwi"], area.polygon)
for finding in findings:
    print(finding.outcome, finding.check, finding.figure)
