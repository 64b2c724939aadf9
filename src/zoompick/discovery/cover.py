"""Choosing the scenes that cover an area together: a weighted set cover, solved exactly.

The footprints cut the area into pieces; every piece must lie under a chosen scene. The cost of a choice is the sum of
its scenes' costs: one for each scene, more for cloud, days from the wished date and price. Solved as a mixed-integer
programme with HiGHS (Q. Huangfu, J. A. J. Hall, Parallelizing the dual revised simplex method, 2018) through SciPy.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from zoompick.arrays import Floats
from zoompick.errors import UsageError
from zoompick.geo.crs import Crs
from zoompick.geo.shapes import Shape
from zoompick.geo.sizes import sizes_km2
from zoompick.later import np, optimize, shapely
from zoompick.money import Money
from zoompick.scenes.overpass import passes_of
from zoompick.scenes.prices import km2_price
from zoompick.scenes.scene import Key, Scene

_SLIVER_KM2 = 1e-5
_TIME_LIMIT_S = 20.0
_BENT = 0.05


@dataclass(frozen=True)
class CoverOptions:
    """What the choice should be like.

    Attributes
    ----------
    scene_cost, cloud_cost, day_cost, price_cost : float
        Cost of a scene, of one percent of cloud over the part of the area it covers, of a day from ``near``, and of
        one unit of the archive's currency where the part of the area it covers is sold.
    budget : Money or None
        What the chosen scenes may cost together: where that is not enough for all, the most ground for it. No square
        kilometre of one overpass is paid twice.
    near : datetime or None
        The wished date.
    one_platform : bool
        All scenes of one satellite.
    within_days : float or None
        The longest time between the first and the last.
    most : int or None
        Scenes at most.
    cloud_max : float or None
        Percent of a piece under cloud, at most, where ``cloud`` tells it.
    crs : Crs or None
        Among equals, scenes in this one: they lie on the study grid without being bent.
    """

    scene_cost: float = 1.0
    cloud_cost: float = 0.05
    day_cost: float = 0.01
    price_cost: float = 0.05
    near: datetime | None = None
    one_platform: bool = False
    within_days: float | None = None
    most: int | None = None
    cloud_max: float | None = None
    crs: Crs | None = None
    budget: Money | None = None


@dataclass(frozen=True)
class Piece:
    """A part of the area that the same scenes cover."""

    polygon: Shape
    size_km2: float
    scenes: frozenset[int]


@dataclass(frozen=True)
class Cover:
    """The choice.

    Attributes
    ----------
    scenes : tuple of Scene
        Cheapest cover, the one that covers most first.
    covered_percent : float
        Of the area.
    cost : float
    gap : float
        How far from the best possible the cost may be, as a share; 0 when proved optimal.
    reason : str
        Why some of the area is not covered; empty when all is.
    """

    scenes: tuple[Scene, ...]
    covered_percent: float
    cost: float
    gap: float = 0.0
    reason: str = ""


@dataclass
class _Task:
    """Numbers of one solution: the pieces with their admissible scenes, and each scene's cost."""

    pieces: list[Piece]
    costs: Floats
    most: int | None
    purse: _Purse | None = None


@dataclass(frozen=True)
class _Purse:
    """A budget, the price of a square kilometre of each scene, and the overpass of each by its number."""

    budget: float
    km2_prices: Sequence[float]
    passes: Sequence[int]

    def rows(self, pieces: Sequence[Piece], place: Mapping[int, int]) -> tuple[Any, Any, int]:
        """Conditions of a programme: a matrix over columns of scenes and of payments, and upper limits.

        A payment is what a piece costs in one overpass: the price of the dearest of its chosen scenes there, for the
        piece is bought of one alone.
        """
        paid = {(number, self.passes[n]): 0 for number, piece in enumerate(pieces)
                for n in piece.scenes if self.km2_prices[n] > 0}  # fmt: skip
        columns = {key: len(place) + count for count, key in enumerate(paid)}
        owed = [(columns[number, self.passes[n]], n, piece.size_km2 * self.km2_prices[n])
                for number, piece in enumerate(pieces) for n in piece.scenes if self.km2_prices[n] > 0]  # fmt: skip
        rows = np.zeros((len(owed) + 1, len(place) + len(columns)))
        for row, (column, n, cost) in enumerate(owed):
            rows[row, place[n]], rows[row, column] = cost, -1
        rows[-1, len(place) :] = 1
        upper = np.zeros(len(owed) + 1)
        upper[-1] = self.budget
        return rows, upper, len(columns)


def pieces_of(area: Shape, footprints: Sequence[Shape]) -> list[Piece]:
    """Cut an area along all footprints into pieces, those under the same footprints joined.

    Slivers of less than 10 m2, which come of rounded corners, are left out.
    """
    inside = shapely.intersection(area, np.asarray(footprints, object))
    lines = shapely.unary_union([shapely.boundary(area), *shapely.boundary(inside)])
    cells = shapely.get_parts(shapely.polygonize(shapely.get_parts(lines)))
    points = shapely.point_on_surface(cells)
    is_ours = shapely.intersects(area, points)
    cells, points = cells[is_ours], points[is_ours]
    over: list[list[int]] = [[] for _ in cells]
    for cell, scene in shapely.STRtree(inside).query(points, predicate="intersects").T.tolist():
        over[cell].append(scene)
    groups: dict[frozenset[int], list[Shape]] = {}
    for cell, scenes in zip(cells, over, strict=True):
        groups.setdefault(frozenset(scenes), []).append(cell)
    grounds = [parts[0] if len(parts) == 1 else shapely.union_all(parts) for parts in groups.values()]
    pieces = [
        Piece(ground, float(size), scenes)
        for ground, size, scenes in zip(grounds, sizes_km2(grounds), groups, strict=True)
        if size > _SLIVER_KM2
    ]
    return sorted(pieces, key=lambda piece: (sorted(piece.scenes), piece.size_km2))


def choose_cover(
    area: Shape,
    scenes: Sequence[Scene],
    wish: CoverOptions,
    cloud: Mapping[tuple[Key, int], float] | None = None,
    pieces: Sequence[Piece] | None = None,
) -> Cover:
    """The cheapest scenes that cover the area together.

    Where all of it cannot be covered under the constraints, as much of it as can be, and why.

    Parameters
    ----------
    cloud : mapping, optional
        Percent of cloud by scene key and number of piece; where it is missing the scene's own figure counts.
    pieces : sequence of Piece, optional
        As :func:`pieces_of` gives them, when they were computed before.
    """
    pieces = list(pieces) if pieces is not None else pieces_of(area, [scene.footprint for scene in scenes])
    whole = sum(piece.size_km2 for piece in pieces) or 1.0
    clear = _admissible(pieces, scenes, wish, cloud or {})
    costs = _costs(scenes, clear, wish, cloud or {})
    best: Cover | None = None
    purse = _purse(scenes, wish)
    for group in _groups(scenes, wish):
        task = _Task([_only(piece, group) for piece in clear], costs, wish.most, purse)
        found = _solve(task, scenes, whole)
        better = best is None or (-round(found.covered_percent, 3), found.cost) < (
            -round(best.covered_percent, 3),
            best.cost,
        )
        best = found if better else best
    assert best is not None
    return best if best.covered_percent > 99.999 else _with_reason(best, pieces, clear, wish, whole)


def _admissible(
    pieces: Sequence[Piece], scenes: Sequence[Scene], wish: CoverOptions, cloud: Mapping[tuple[Key, int], float]
) -> list[Piece]:
    """Pieces with only the scenes that are clear enough over them."""
    limit = wish.cloud_max
    if limit is None:
        return list(pieces)
    kept = []
    for number, piece in enumerate(pieces):
        clear = {n for n in piece.scenes if _cloud_over(scenes[n], number, cloud) <= limit}
        kept.append(_only(piece, clear))
    return kept


def _cloud_over(scene: Scene, piece: int, cloud: Mapping[tuple[Key, int], float]) -> float:
    known = cloud.get((scene.key, piece))
    if known is not None:
        return known
    return scene.cloud_percent if scene.cloud_percent is not None else 100.0


def _only(piece: Piece, scenes: Iterable[int]) -> Piece:
    return Piece(piece.polygon, piece.size_km2, piece.scenes & frozenset(scenes))


def _costs(
    scenes: Sequence[Scene], pieces: Sequence[Piece], wish: CoverOptions, cloud: Mapping[tuple[Key, int], float]
) -> Floats:
    """Cost of taking each scene: itself, the cloud over its part of the area, its distance in days, its price."""
    ground, cloudy = np.zeros(len(scenes)), np.zeros(len(scenes))
    told = np.array([100.0 if scene.cloud_percent is None else scene.cloud_percent for scene in scenes])
    for number, piece in enumerate(pieces):
        own = list(piece.scenes)
        ground[own] += piece.size_km2
        cloudy[own] += piece.size_km2 * told[own]
        if cloud:
            cloudy[own] += [piece.size_km2 * (_cloud_over(scenes[n], number, cloud) - told[n]) for n in own]
    near = wish.near
    days = [abs((scene.when - near).total_seconds()) / 86400 if near else 0.0 for scene in scenes]
    bent = [_BENT if wish.crs is not None and scene.crs not in (None, wish.crs) else 0.0 for scene in scenes]
    share = cloudy / np.where(ground > 0, ground, 1.0)
    prices = ground * np.array(_km2_prices(scenes, wish) if wish.price_cost else np.zeros(len(scenes)))
    costs = wish.scene_cost * (1 + np.array(bent)) + wish.cloud_cost * share
    return costs + wish.day_cost * np.array(days) + wish.price_cost * prices


def _km2_prices(scenes: Sequence[Scene], wish: CoverOptions) -> list[float]:
    """Price of a square kilometre of each scene, in the one currency of all.

    Raises
    ------
    UsageError
        They are sold in several, or the budget is in another: amounts of two currencies cannot be weighed.
    """
    prices = [km2_price(scene) or Money(0.0) for scene in scenes]
    currencies = sorted({price.currency for price in prices if price.amount})
    if len(currencies) > 1 and (wish.price_cost or wish.budget is not None):
        raise UsageError(
            f"The scenes are sold in {' and '.join(name or 'a currency that is not told' for name in currencies)}: "
            "amounts of two currencies cannot be weighed.",
            "Choose among scenes of one source, or give `weights` with 0 for the price.",
        )
    if wish.budget is not None and wish.budget.currency and currencies and currencies != [wish.budget.currency]:
        raise UsageError(
            f"The budget is in {wish.budget.currency}, the scenes are sold in {currencies[0] or 'no currency told'}.",
            "Give the budget in the currency of the source.",
        )
    return [price.amount for price in prices]


def _purse(scenes: Sequence[Scene], wish: CoverOptions) -> _Purse | None:
    if wish.budget is None:
        return None
    overpasses = passes_of(scenes)
    return _Purse(wish.budget.amount, _km2_prices(scenes, wish), overpasses)


def _groups(scenes: Sequence[Scene], wish: CoverOptions) -> list[set[int]]:
    """Sets of scenes that may be chosen together: of one satellite, and of one stretch of days, as wished."""
    groups = [set(range(len(scenes)))]
    if wish.one_platform:
        names = sorted({scene.platform for scene in scenes})
        groups = [{n for n in groups[0] if scenes[n].platform == name} for name in names]
    if wish.within_days is not None:
        limit = wish.within_days * 86400
        split = []
        for group in groups:
            windows = [
                {n for n in group if 0 <= (scenes[n].when - start).total_seconds() <= limit}
                for start in sorted({scenes[n].when for n in group})
            ]
            split += [w for w in windows if not any(w < other for other in windows)]
        groups = split
    return groups or [set()]


def _solve(task: _Task, scenes: Sequence[Scene], whole: float) -> Cover:
    """Cover every piece that can be; if the number of scenes forbids it, the most ground."""
    coverable = [piece for piece in task.pieces if piece.scenes]
    if not coverable:
        return Cover((), 0.0, 0.0)
    chosen, gap = _cover_all(coverable, task)
    if chosen is None:
        chosen, gap = _cover_most(coverable, task)
    covered = sum(piece.size_km2 for piece in coverable if piece.scenes & chosen)
    reach = {n: sum(piece.size_km2 for piece in coverable if n in piece.scenes) for n in chosen}
    order = sorted(chosen, key=lambda n: (-reach[n], scenes[n].id))
    cost = float(sum(task.costs[n] for n in chosen))
    return Cover(tuple(scenes[n] for n in order), 100 * covered / whole, cost, gap)


def _cover_all(pieces: Sequence[Piece], task: _Task) -> tuple[set[int] | None, float]:
    columns = sorted({n for piece in pieces for n in piece.scenes})
    place = {n: column for column, n in enumerate(columns)}
    needed = _hardest([piece.scenes for piece in pieces])
    rows = np.zeros((len(needed), len(columns)))
    for row, some in enumerate(needed):
        rows[row, [place[n] for n in some]] = 1
    paid, more = (0, []) if task.purse is None else _payments(pieces, place, task.purse, 0)
    wider = np.zeros((len(needed), len(columns) + paid))
    wider[:, : len(columns)] = rows
    limits = [optimize.LinearConstraint(wider, 1, np.inf), *more]
    if task.most is not None:
        count = np.zeros((1, len(columns) + paid))
        count[:, : len(columns)] = 1
        limits.append(optimize.LinearConstraint(count, 0, task.most))
    values, gap = _programme(np.concatenate([task.costs[columns], np.zeros(paid)]), limits, paid)
    chosen = None if values is None else {columns[c] for c in np.flatnonzero(values[: len(columns)] > 0.5)}
    return chosen, gap


def _payments(
    pieces: Sequence[Piece], place: Mapping[int, int], purse: _Purse, between: int
) -> tuple[int, list[Any]]:
    """Columns of payments, which come last, and what holds for them; ``between`` others lie before them."""
    rows, upper, paid = purse.rows(pieces, place)
    wide = np.zeros((len(rows), len(place) + between + paid))
    wide[:, : len(place)] = rows[:, : len(place)]
    wide[:, len(place) + between :] = rows[:, len(place) :]
    return paid, [optimize.LinearConstraint(wide, -np.inf, upper)]


def _hardest(sets: Sequence[frozenset[int]]) -> list[frozenset[int]]:
    """Sets that hold no other set: who covers a piece with few scenes covers each piece that those scenes share."""
    masks = sorted({sum(1 << n for n in some): some for some in sets}.items(), key=lambda entry: len(entry[1]))
    kept: list[tuple[int, frozenset[int]]] = []
    for mask, some in masks:
        if not any(mask & other == other for other, _ in kept):
            kept.append((mask, some))
    return [some for _, some in kept]


def _cover_most(pieces: Sequence[Piece], task: _Task) -> tuple[set[int], float]:
    """As many square kilometres as ``most`` scenes can cover, or a budget can pay; among equals the cheapest."""
    columns = sorted({n for piece in pieces for n in piece.scenes})
    place = {n: column for column, n in enumerate(columns)}
    paid, more = (0, []) if task.purse is None else _payments(pieces, place, task.purse, len(pieces))
    rows = np.zeros((len(pieces) + 1, len(columns) + len(pieces) + paid))
    for row, piece in enumerate(pieces):
        rows[row, [place[n] for n in piece.scenes]] = 1
        rows[row, len(columns) + row] = -1
    rows[-1, : len(columns)] = 1
    upper = np.full(len(pieces) + 1, np.inf)
    upper[-1] = task.most if task.most is not None else np.inf
    ground = np.array([piece.size_km2 for piece in pieces])
    small = 1e-6 * ground.sum() / max(1.0, float(task.costs[columns].sum()))
    values, gap = _programme(
        np.concatenate([small * task.costs[columns], -ground, np.zeros(paid)]),
        [optimize.LinearConstraint(rows, np.concatenate([np.zeros(len(pieces)), [0.0]]), upper), *more], paid,
    )  # fmt: skip
    return (set() if values is None else {columns[c] for c in np.flatnonzero(values[: len(columns)] > 0.5)}), gap


def _programme(costs: Floats, limits: list[Any], paid: int = 0) -> tuple[Any, float]:
    """Solve it; the last ``paid`` columns are amounts of money, all others are taken or not."""
    whole, upper = np.ones(len(costs)), np.ones(len(costs))
    if paid:
        whole[-paid:], upper[-paid:] = 0, np.inf
    done = optimize.milp(
        costs, integrality=whole, bounds=optimize.Bounds(0, upper), constraints=limits,
        options={"time_limit": _TIME_LIMIT_S, "mip_rel_gap": 0.0},
    )  # fmt: skip
    return done.x, float(done.mip_gap or 0.0)


def _with_reason(
    best: Cover, pieces: Sequence[Piece], clear: Sequence[Piece], wish: CoverOptions, whole: float
) -> Cover:
    def percent(which: Sequence[Piece]) -> float:
        return 100 * sum(piece.size_km2 for piece in which) / whole

    nobody = percent([piece for piece in pieces if not piece.scenes])
    cloudy = percent(
        [after for before, after in zip(pieces, clear, strict=True) if before.scenes and not after.scenes]
    )
    reasons = []
    if nobody > 0.001:
        reasons.append(f"{nobody:.2f} % lies under no scene")
    if cloudy > 0.001:
        reasons.append(f"over {cloudy:.2f} % every scene has more than {wish.cloud_max:g} % cloud")
    rest = 100 - best.covered_percent - nobody - cloudy
    if rest > 0.001:
        plural = "" if wish.most == 1 else "s"
        held = [f"at most {wish.most} scene{plural}"] if wish.most is not None else []
        held += ["one platform"] if wish.one_platform else []
        held += [f"{wish.within_days:g} days"] if wish.within_days is not None else []
        held += [f"a budget of {wish.budget}"] if wish.budget is not None else []
        reasons.append(f"{rest:.2f} % is out of reach with {', '.join(held)}")
    return Cover(best.scenes, best.covered_percent, best.cost, best.gap, "; ".join(reasons))
