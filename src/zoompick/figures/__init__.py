"""Maps, calendars and contact sheets. Matplotlib is loaded here only, when something is drawn."""

from __future__ import annotations

import os

from zoompick.settings import cache_folder

# What the library that draws keeps for itself lies where our own caches lie.
os.environ.setdefault("MPLCONFIGDIR", str(cache_folder() / "drawing"))
