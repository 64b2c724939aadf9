"""Mosaics made again on a sample, from the scenes that they were made of."""

from __future__ import annotations

from collections.abc import Sequence

from zoompick.arrays import Mask, Pixels
from zoompick.judge.checks.products import physical
from zoompick.judge.ordering import ordered
from zoompick.judge.owners import MadeOf, first_clear
from zoompick.judge.sampled import MOST_OFF_PERCENT, RELATIVE, Tally, compared, judged_as, windows_of
from zoompick.judge.subject import Check, Subject
from zoompick.later import ndimage, np
from zoompick.scenes.finding import Finding, not_judged


def mosaic_again(subject: Subject) -> list[Finding]:
    """A mosaic: each pixel from the scene that its layer names, that by the rule, the order by the recorded one."""
    scenes, layer = MadeOf(subject), subject.scene_layer
    limit = f"at most {MOST_OFF_PERCENT:g} %"
    if layer is None or not scenes.found or layer.grid.bounds != subject.raster.grid.bounds:
        reason = "Its scene layer, or a file that it was made of, is not here."
        return [not_judged("as its scene layer", subject.label, reason, limit)]
    lines = _lines(subject, len(scenes.found))
    if lines is None:
        reason = "Its record does not tell how its brightness was matched."
        return [not_judged("as its scene layer", subject.label, reason, limit)]
    names = [band.name for band in subject.raster.bands]
    values, chosen = Tally(), Tally()
    feather = float(subject.options.get("feather_m") or 0)
    margin = int(np.ceil(feather / max(subject.raster.grid.pixel_m, 1e-9)))
    for window in windows_of(subject):
        numbers = layer.read(window)[0].astype(int)
        least, most = first_clear(scenes.found, names, window, bool(subject.options.get("clear_only")))
        chosen = chosen.plus(least == most, numbers != least)
        plain = _far_from_seams(numbers, margin)
        own = physical(subject.raster, window)
        wrong = np.zeros(numbers.shape, bool)
        for number, scene in enumerate(scenes.found, 1):
            for band in subject.raster.bands:
                gain, offset = lines[number - 1].get(band.name, (1.0, 0.0))
                wanted = scene.values(band.name, window) * gain + offset
                off = ~(np.abs(own[band.name] - wanted) <= 1.01 * abs(band.scale) + RELATIVE * np.abs(wanted))
                off &= np.isfinite(own[band.name]) | np.isfinite(wanted)
                wrong |= (numbers == number) & off
        values = values.plus(plain & (numbers > 0), wrong)
    return [
        compared(subject, "scene of each pixel", chosen, "are not from the scene that comes first by the rule"),
        *ordered(subject, scenes.rows, str(subject.options.get("order", ""))),
        compared(subject, "as its scene layer", values, "are not what the scene has that its layer names"),
    ]


def _lines(subject: Subject, count: int) -> list[dict[str, tuple[float, float]]] | None:
    """Gain and offset of each band of each scene, as recorded, where brightness was matched; None where untold."""
    if not subject.options.get("match"):
        return [{}] * count
    rows = subject.told.get("zoompick:matched", [{}] if count == 1 else [])
    try:
        found = [{name: (float(one["gain"]), float(one["offset"])) for name, one in row.get("bands", {}).items()}
                 for row in rows]  # fmt: skip
    except (AttributeError, KeyError, TypeError, ValueError):
        return None
    return found if len(found) == count else None


def _far_from_seams(numbers: Pixels, margin_px: int) -> Mask:
    """Pixels so far from another scene that nothing of it was mixed in."""
    if not margin_px:
        return np.ones(numbers.shape, bool)
    size = 2 * margin_px + 3
    return np.asarray(ndimage.maximum_filter(numbers, size) == ndimage.minimum_filter(numbers, size))


CHECKS: Sequence[Check] = (
    Check("mosaic", "products", "as its scene layer", "A mosaic, its scene layer, and all files that it was made of.",
          "In nine windows: each pixel against the scene that its layer names; that scene against the first that "
          "shows the ground (clouds grown by SciPy's distances; a pixel about their edges is left out); the order of "
          "the scenes against the rule.", judged_as("mosaic"), mosaic_again),
)  # fmt: skip
