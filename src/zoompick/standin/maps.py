"""Scanned map sheets as PDF, behind terms to accept: what an old survey has instead of scenes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageDraw

from zoompick.area import sheets
from zoompick.standin import ground, stac
from zoompick.standin.ground import Shot
from zoompick.standin.passes import Pass
from zoompick.standin.simple import Simple
from zoompick.standin.store import Store

_PRINTED = datetime(1974, 6, 1, tzinfo=UTC)
_PIXEL_M, _BORDER_PX = 8.0, 60
_LEAST_LAND_PERCENT = 1.0
_PAPER, _INK = (238, 230, 208), (60, 50, 40)


def _shots() -> list[Shot]:
    scheme = next(entry for entry in sheets.schemes() if entry.kind == "degrees")
    under = [sheet for sheet, _ in scheme.under(ground.outline())]
    under = [sheet for sheet in under if ground.land_percent(sheet.polygon) > _LEAST_LAND_PERCENT]
    seen = Pass(9700, "", _PRINTED, 0.0, 0.0, "cumulus", 0.0, 0.0)
    return [Shot(f"map-1974-{s.name}", s.polygon, seen, None, {"sheet": s.name}) for s in under]


class Maps(Simple):
    """One edition."""

    name = "ostrell-maps"
    facts_name, look_title, look_m = "maps", "The sheet at 96 m", 96.0

    def shots(self) -> Sequence[Shot]:
        """All sheets, made anew."""
        return _shots()

    def is_closed(self, name: str) -> str:
        """Sheets are given on request only."""
        return "" if name.endswith(".png") else "this sheet is given on request: its terms must be accepted first"

    def collection(self, base: str) -> dict[str, Any]:
        """The STAC Collection."""
        about = {"type": "application/pdf", "roles": ["overview"], "title": "Scanned sheet"}
        return stac.collection(self.facts, base, self.scenes(), {"platform": ["survey"]}, {"sheet": about})

    def item(self, scene: Shot, base: str, store: Store) -> dict[str, Any]:
        """A sheet as a STAC Item."""
        known = store.published(self, scene)
        sheet = {
            "href": f"{base}/files/{scene.id}/{scene.id}.pdf", "type": "application/pdf", "roles": ["overview"],
            "title": "Scanned sheet",
        }  # fmt: skip
        properties = {
            "created": stac.moment(datetime(2019, 3, 1, tzinfo=UTC)),
            "platform": "survey",
            "ost:access": "ask",
            "grid:code": "OST-" + scene.facts["sheet"].replace("-", "").upper(),
        }
        assets = {"sheet": sheet, "quicklook": self.quicklook(scene, base, known)}
        return stac.item(self.facts, scene, base, properties, assets, ("file", "grid"))

    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """Print it on old paper, and scan it."""
        grid = ground.grid_around(scene.footprint, _PIXEL_M)
        picture = ground.see(scene.seen, grid, cache)
        shade = np.clip(picture.band("green") / 0.2, 0, 1)[:, :, np.newaxis]
        paper = np.asarray(_PAPER) * (0.55 + 0.45 * shade)
        size = (grid.width + 2 * _BORDER_PX, grid.height + 2 * _BORDER_PX)
        page = Image.new("RGB", size, _PAPER)
        page.paste(Image.fromarray(paper.astype(np.uint8)), (_BORDER_PX, _BORDER_PX))
        draw = ImageDraw.Draw(page)
        edge = (_BORDER_PX, _BORDER_PX, size[0] - _BORDER_PX, size[1] - _BORDER_PX)
        draw.rectangle(edge, outline=_INK, width=3)
        title = f"OSTRELL ISLANDS   sheet {scene.facts['sheet'].upper()}   1974"
        draw.text((_BORDER_PX, 16), title, fill=_INK, font_size=22)
        page.save(folder / f"{scene.id}.pdf", "PDF", resolution=150)
