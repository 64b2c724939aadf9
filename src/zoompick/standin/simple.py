"""What the instruments beside Lapwing have in common: scenes that are shots, a quicklook that is made by itself."""

from __future__ import annotations

import tempfile
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

from zoompick.raster.grid import Grid
from zoompick.standin import ground, stac
from zoompick.standin.ground import Shot
from zoompick.standin.instrument import Instrument
from zoompick.standin.store import Published


class Simple(Instrument):
    """An instrument with its facts in ``data/FACTS.toml``.

    Attributes
    ----------
    facts_name : str
        Name of that file.
    look_title : str
        What its quicklooks show.
    look_m : float
        Pixel size of a quicklook that lies on a map grid; 0 for one that does not.
    """

    groups: tuple[str, ...] = ("", "look")
    facts_name = ""
    look_title = ""
    look_m = 0.0

    @abstractmethod
    def shots(self) -> Sequence[Shot]:
        """All scenes, made anew, in order of time."""

    @cached_property
    def facts(self) -> dict[str, Any]:
        """What the collection says of itself."""
        return stac.facts(self.facts_name)

    @cached_property
    def _shots(self) -> tuple[Shot, ...]:
        return tuple(self.shots())

    @cached_property
    def _by_id(self) -> dict[str, Shot]:
        return {shot.id: shot for shot in self._shots}

    @cached_property
    def _clouds(self) -> dict[str, tuple[float, float | None]]:
        return {}

    def scenes(self) -> Sequence[Shot]:
        """All scenes."""
        return self._shots

    def by_id(self, scene_id: str) -> Shot | None:
        """The scene of this id, or None."""
        return self._by_id.get(scene_id)

    def clouds(self, scene: Shot) -> tuple[float, float | None]:
        """Percent of cloud over a scene and over its land, computed once."""
        if scene.id not in self._clouds:
            self._clouds[scene.id] = ground.clouds_over(scene.footprint, scene.seen)
        return self._clouds[scene.id]

    def look_grid(self, scene: Shot) -> Grid:
        """Grid of a quicklook."""
        return ground.grid_around(scene.footprint, self.look_m)

    def quicklook(self, scene: Shot, base: str, known: Mapping[str, Published]) -> dict[str, Any]:
        """The asset of a scene's quicklook."""
        name = f"{scene.id}-quicklook.png"
        asset = {
            "href": f"{base}/files/{scene.id}/{name}", "type": "image/png", "title": self.look_title,
            "roles": ["thumbnail"],
        }  # fmt: skip
        place = ground.placed(self.look_grid(scene)) if self.look_m else {}
        return asset | place | stac.published(known, name)

    @property
    def order_limits(self) -> Mapping[str, float]:
        """As the collection tells them, when its scenes are not open."""
        terms = self.facts["terms"]
        return {} if terms["access"] == "open" else dict(terms["limits"])

    def prepare(self, scene: Shot, area: Any, folder: Path, cache: Path) -> None:
        """All data of a scene; overridden where an area's part can be had."""
        self.make_data(scene, folder, cache)

    def group_of(self, name: str) -> str:
        """Quicklooks, packages and data are made apart."""
        if name.endswith("-quicklook.png"):
            return "look"
        return "package" if "package" in self.groups and name.endswith((".tar.gz", ".nc.bz2")) else ""

    def package(self, name: str, base: str, scene: Shot, known: Mapping[str, Published], kind: str) -> dict[str, Any]:
        """The asset of a scene's delivery in one archive."""
        about = {"href": f"{base}/files/{scene.id}/{name}", "type": kind, "title": "All in one archive"}
        return about | {"roles": ["archive"]} | stac.published(known, name)

    def pack(self, scene: Shot, data: Path, folder: Path) -> None:
        """Write the archive of what lies in ``data`` into ``folder``."""
        raise LookupError(f"{self.name} has no packages")

    def make(self, scene: Shot, group: str, folder: Path, cache: Path) -> None:
        """Write the quicklook alone, the data, or their archive."""
        if group == "package":
            with tempfile.TemporaryDirectory() as data:
                self.make_data(scene, Path(data), cache)
                self.pack(scene, Path(data), folder)
            return
        if not group:
            self.make_data(scene, folder, cache)
            return
        grid = self.look_grid(scene)
        picture, seen = ground.see(scene.seen, grid, cache), ground.inside(scene.footprint, grid)
        ground.write_quicklook(picture, seen, folder / f"{scene.id}-quicklook.png")

    @abstractmethod
    def make_data(self, scene: Shot, folder: Path, cache: Path) -> None:
        """Write all files of a scene but the quicklook."""


def sight(scene: Shot) -> dict[str, float]:
    """How the sun stood and from where the scene was seen, as the view extension writes it."""
    sun = scene.seen.sun
    return {
        "view:off_nadir": scene.seen.off_nadir_deg,
        "view:sun_azimuth": round(sun.azimuth_deg, 2),
        "view:sun_elevation": round(sun.elevation_deg, 2),
    }
