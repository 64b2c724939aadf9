"""The query as a value: where, when, how cloudy, of what kind; it checks itself by the table of filters."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial

from zoompick.discovery.filters import BY_FIELD, OF_CLOUD, Filter, in_force
from zoompick.errors import UsageError
from zoompick.geo.shapes import Shape
from zoompick.geo.sizes import shares
from zoompick.jsontypes import JsonMap
from zoompick.scenes.period import Hours, Period, Season, span
from zoompick.scenes.scene import Scene, footprints_of

_TUPLES = ("collections", "periods", "published", "platforms", "instruments", "levels", "access", "bands", "ids")


@dataclass(frozen=True)
class Criteria:
    """What a scene must be. Empty and None mean no condition.

    Attributes
    ----------
    area : polygon or None
        Longitude/latitude; scenes must touch it. None only where the area is still to be told.
    periods : tuple of Period
        Of acquisition; any of them. Texts are read.
    published : tuple of Period
        Of publication; any of them.
    cloud_max, cloud_land_max, cloud_area_max : float or None
        Percent over the scene, over its land, and inside the area (read from the class layers, after all else).
    cover_min : float
        Percent of the area that the footprint must cover; 100 for footprints that cover all of it.
    bands : tuple of str
        A scene must have all of these.
    look_inside : bool
        Read the cloud inside the area even without a limit on it.
    versions : str
        ``newest`` keeps one of reprocessed twins, ``all`` both.
    ids : tuple of str
        Only these scenes.
    unknown_cloud : str
        ``keep`` or ``drop``: scenes that tell no cloud, where cloud is limited.
    sort : str
        ``newest``, ``oldest``, ``clearest`` or ``cover`` first.
    most : int or None
        So many scenes, the first in order.

    Raises
    ------
    UsageError
        A value cannot be used; the message names its field.
    """

    area: Shape | None = None
    collections: tuple[str, ...] = ()
    periods: tuple[Period, ...] = ()
    cloud_max: float | None = None
    cover_min: float = 0.0
    season: Season | None = None
    hours: Hours | None = None
    published: tuple[Period, ...] = ()
    cloud_land_max: float | None = None
    cloud_area_max: float | None = None
    sun_min_deg: float | None = None
    off_nadir_max_deg: float | None = None
    platforms: tuple[str, ...] = ()
    instruments: tuple[str, ...] = ()
    levels: tuple[str, ...] = ()
    pixel_max_m: float | None = None
    access: tuple[str, ...] = ()
    bands: tuple[str, ...] = ()
    versions: str = "newest"
    look_inside: bool = False
    ids: tuple[str, ...] = ()
    unknown_cloud: str = "drop"
    sort: str = "newest"
    most: int | None = None

    def __post_init__(self) -> None:
        for field, row in BY_FIELD.items():
            value = getattr(self, field)
            if value is None and field not in _TUPLES:
                continue
            try:
                checked = row.check(() if value is None else value)
            except UsageError as error:
                raise UsageError(f"{field} = {value!r} cannot be used. {error.what}", error.todo) from error
            object.__setattr__(self, field, checked)

    def with_given(self, given: JsonMap) -> Criteria:
        """The criteria with what a person gave in place of what is here.

        Parameters
        ----------
        given : mapping
            Fields to values of whatever type; None, False and empty ones were not given.

        Raises
        ------
        UsageError
            A value cannot be used.
        """
        values = {
            field: BY_FIELD[field].of_person(value)
            for field, value in given.items()
            if value is not None and value is not False and value not in ("", [], ())
        }
        return replace(self, **values)

    def covers(self, scenes: Sequence[Scene]) -> list[float]:
        """Percent of the area that each scene's footprint covers; NaN without a usable footprint."""
        placed = [(number, shape) for number, shape in enumerate(footprints_of(scenes)) if shape is not None]
        found = [math.nan] * len(scenes)
        for (number, _), part in zip(placed, shares(self.ground, [shape for _, shape in placed]), strict=True):
            found[number] = 100 * float(part)
        return found

    @property
    def ground(self) -> Shape:
        """The area; UsageError when none was told."""
        if self.area is None:
            raise UsageError("There is no area to search.", "Tell one.")
        return self.area

    def span(self) -> Period | None:
        """One period around all periods of acquisition."""
        return span(self.periods)

    def in_time(self, scene: Scene) -> bool:
        """True when the scene was taken in one of the periods, in season and at the hours."""
        return all(test.passes(scene) for test in in_force(partial(getattr, self), of_time=True))

    def filters(self) -> list[Filter]:
        """All conditions on what an item tells, in the order in which they are explained; the area is apart."""
        return list(self._filters)

    @cached_property
    def _filters(self) -> tuple[Filter, ...]:
        return tuple(in_force(partial(getattr, self)))

    def fits(self, scene: Scene) -> bool:
        """True when a scene passes every filter but the cover and the cloud inside the area."""
        return all(test.passes(scene) for test in self._filters)

    def limits(self) -> list[tuple[str, str, float]]:
        """Property, operator and value of each limit by which servers can filter; all else is tested here."""
        asked = (
            (row.query, getattr(self, field))
            for field, row in BY_FIELD.items()
            # A server would leave out what does not tell its cloud.
            if not (field in OF_CLOUD and self.unknown_cloud == "keep")
        )
        return [(*query, value) for query, value in asked if query is not None and value is not None]

    def fails_untold(self, scene: Scene) -> bool:
        """True when a scene is left out only because it tells no cloud."""
        return self.unknown_cloud == "drop" and not self.fits(scene) and self._lenient.fits(scene)

    @cached_property
    def _lenient(self) -> Criteria:
        return replace(self, unknown_cloud="keep")

    def in_force(self) -> list[str]:
        """All conditions in words, as the output says them."""
        words = [entry.words for entry in self.filters()]
        if self.cloud_area_max is not None:
            words.append(f"at most {self.cloud_area_max:g} % cloud inside the area")
        if self.cover_min:
            words.append(f"cover at least {self.cover_min:g} %")
        if self.versions == "all":
            words.append("all processing versions")
        return words
