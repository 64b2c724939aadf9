"""Mosaics and blends made again on a sample, from the scenes that they were made of."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from zoompick.arrays import Floats, Mask, Pixels
from zoompick.jsontypes import JsonMap
from zoompick.judge.checks.products import physical
from zoompick.judge.owners import MadeOf, first_clear, of_owner, shown_by_day
from zoompick.judge.sampled import MOST_OFF_PERCENT, RELATIVE, Tally, compared, judged_as, windows_of
from zoompick.judge.subject import Check, Subject
from zoompick.later import ndimage, np
from zoompick.scenes.finding import Finding, Seen, judged, not_judged


def mosaic_again(subject: Subject) -> list[Finding]:
    """A mosaic: each pixel from the scene that its layer names, that by the rule, the order by the recorded one."""
    scenes, layer = MadeOf(subject), subject.scene_layer
    limit = f"at most {MOST_OFF_PERCENT:g} %"
    if layer is None or not scenes.found or layer.grid.bounds != subject.raster.grid.bounds:
        reason = "Its scene layer, or a file that it was made of, is not here."
        return [not_judged("as its scene layer", subject.label, reason, limit)]
    names = [band.name for band in subject.raster.bands]
    values, chosen = Tally(), Tally()
    feather = float(subject.options.get("feather_m") or 0)
    margin = int(np.ceil(feather / max(subject.raster.grid.pixel_m, 1e-9)))
    for window in windows_of(subject):
        numbers = layer.read(window)[0].astype(int)
        least, most = first_clear(scenes.found, names, window, bool(subject.options.get("clear_only")))
        chosen = chosen.plus(least == most, numbers != least)
        if subject.options.get("match"):
            continue
        plain = _far_from_seams(numbers, margin)
        own = physical(subject.raster, window)
        wrong = np.zeros(numbers.shape, bool)
        for number, scene in enumerate(scenes.found, 1):
            for band in subject.raster.bands:
                wanted = scene.values(band.name, window)
                off = ~(np.abs(own[band.name] - wanted) <= 1.01 * abs(band.scale) + RELATIVE * np.abs(wanted))
                off &= np.isfinite(own[band.name]) | np.isfinite(wanted)
                wrong |= (numbers == number) & off
        values = values.plus(plain & (numbers > 0), wrong)
    found = [compared(subject, "scene of each pixel", chosen, "are not from the scene that comes first by the rule")]
    order = str(subject.options.get("order", ""))
    # The order in which files were given is right by itself.
    found += [] if order == "given" else [_ordered(subject, scenes.rows, order)]
    if subject.options.get("match"):
        reason = "Its brightness was matched: values are not those of its scenes."
        return [*found, not_judged("as its scene layer", subject.label, reason, limit)]
    return [
        *found,
        compared(subject, "as its scene layer", values, "are not what the scene has that its layer names"),
    ]


def _far_from_seams(numbers: Pixels, margin_px: int) -> Mask:
    """Pixels so far from another scene that nothing of it was mixed in."""
    if not margin_px:
        return np.ones(numbers.shape, bool)
    size = 2 * margin_px + 3
    return np.asarray(ndimage.maximum_filter(numbers, size) == ndimage.minimum_filter(numbers, size))


def _ordered(subject: Subject, rows: Sequence[JsonMap], rule: str) -> Finding:
    """The scenes are in the order that the rule asks for."""
    title = "scenes in order"
    moments = [str(row.get("datetime", "")) for row in rows]
    if rule not in ("newest", "oldest") or not all(moments):
        reason = f"The order {rule or 'of the files'} is none that dates tell."
        return not_judged(title, subject.label, reason, "as the rule", Seen("scenes", 0, len(rows)))
    wanted = sorted(moments, reverse=rule == "newest")
    note = f"The record lists its scenes otherwise than {rule} first. Make it again."
    return judged(title, subject.label, moments == wanted, "as asked" if moments == wanted else "another order",
                  f"{rule} first", note, seen=Seen("scenes", len(rows), len(rows)))  # fmt: skip


def blend_again(subject: Subject) -> list[Finding]:
    """A blend of many dates: the recorded statistic of those that show the ground, date by date."""
    way = str(subject.options.get("by", ""))
    reduce = _REDUCED.get(way)
    if way == "percentile":
        share = float(str(subject.options.get("detail") or 0))
        reduce = lambda stack: np.nanpercentile(stack, share, axis=0)  # noqa: E731
    scenes, limit = MadeOf(subject), f"at most {MOST_OFF_PERCENT:g} %"
    if way in _PICKS and scenes.found:
        return _picked_again(subject, scenes, way)
    if reduce is None or not scenes.found:
        reason = (
            "A file that it was made of is not here." if reduce else f"The way {way} is computed again by no check."
        )
        return [not_judged("blended as recorded", subject.label, reason, limit)]
    names, tally = [band.name for band in subject.raster.bands], Tally()
    least = max(1, int(subject.options.get("least") or 1))
    days = [str(row.get("datetime", ""))[:10] for row in scenes.rows]
    for window in windows_of(subject):
        own = physical(subject.raster, window)
        shown = [shown_by_day(scenes.found, days, names, window, which) for which in (0, 1)]
        sure = np.all([one == other for one, other in zip(*shown, strict=True)], axis=0)
        count = np.sum([one > 0 for one in shown[0]], axis=0)
        wrong = np.zeros(sure.shape, bool)
        for band in subject.raster.bands:
            stack = np.stack([of_owner(scenes.found, owner, band.name, window) for owner in shown[0]])
            with np.errstate(all="ignore"):
                wanted = np.where(count >= least, reduce(np.where(count > 0, stack, 0)), np.nan)
            off = ~(np.abs(own[band.name] - wanted) <= 1.01 * abs(band.scale) + RELATIVE * np.abs(wanted))
            wrong |= off & (np.isfinite(own[band.name]) | np.isfinite(wanted))
        tally = tally.plus(sure, wrong)
    return [compared(subject, "blended as recorded", tally, f"are not the {way} of the dates that show the ground")]


def _picked_again(subject: Subject, scenes: MadeOf, way: str) -> list[Finding]:
    """A blend that takes each pixel from the newest, or the oldest, that shows the ground."""
    names, tally = [band.name for band in subject.raster.bands], Tally()
    for window in windows_of(subject):
        least, most = first_clear(scenes.found, names, window, clear_only=True)
        own, wrong = physical(subject.raster, window), np.zeros(least.shape, bool)
        for band in subject.raster.bands:
            wanted = of_owner(scenes.found, least, band.name, window)
            off = ~(np.abs(own[band.name] - wanted) <= 1.01 * abs(band.scale) + RELATIVE * np.abs(wanted))
            wrong |= off & (np.isfinite(own[band.name]) | np.isfinite(wanted))
        tally = tally.plus(least == most, wrong)
    what = f"are not those of the {way} scene that shows the ground"
    return [compared(subject, "blended as recorded", tally, what), _ordered(subject, scenes.rows, way)]


_PICKS = ("newest", "oldest")
_REDUCED: Mapping[str, Callable[[Floats], Floats]] = {
    "median": lambda stack: np.nanmedian(stack, axis=0), "mean": lambda stack: np.nanmean(stack, axis=0)
}  # fmt: skip


CHECKS: Sequence[Check] = (
    Check("mosaic", "products", "as its scene layer", "A mosaic, its scene layer, and all files that it was made of.",
          "In nine windows: each pixel against the scene that its layer names; that scene against the first that "
          "shows the ground (clouds grown by SciPy's distances; a pixel about their edges is left out); the order of "
          "the scenes against the rule.", judged_as("mosaic"), mosaic_again),
    Check("blend", "products", "blended as recorded", "A mean, median or percentile, and all files it was made of.",
          "In nine windows: NumPy's statistic of all dates that show the ground.", judged_as("blend"), blend_again),
)  # fmt: skip
