"""Masks and composites made again on a sample, by the recorded rule and tone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import permutations
from typing import TypeGuard

from zoompick.arrays import Floats, Mask, Pixels
from zoompick.jsontypes import JsonMap
from zoompick.judge.checks.products import physical, source_of_all
from zoompick.judge.owners import Owner
from zoompick.judge.sampled import (
    MOST_OFF_PERCENT,
    RELATIVE,
    Tally,
    compared,
    judged_as,
    outline_of,
    surely,
    windows_of,
)
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.grid import Grid, Window
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding


def mask_both_ways(subject: Subject) -> list[Finding]:
    """A mask by classes: neither less nor more is hidden than the rule says, and what is shown is as it was."""
    words = [word.strip() for word in str(subject.options["rule"]).split(" or ")]
    grid, applied, tally = subject.raster.grid, bool(subject.options.get("applied")), Tally()
    assert subject.open is not None
    hide = tuple(word for word in words if word != "outside")
    grow_m = float(subject.options.get("grow_m") or 0)
    layers = [
        Owner({}, resampled_to(subject.open(path), grid, "class"), table, hide, grow_m)
        for path, table in subject.tables.items()
    ]
    area = subject.options.get("outside")
    source, values = source_of_all(subject) if applied else None, Tally()
    for window in windows_of(subject):
        least, most = _hidden_of(layers, window)
        if area is not None and "outside" in words:
            inside, outside = surely(outline_of(area, grid), grid, window)
            least, most = least | outside, most | ~inside
        pixels = subject.raster.read(window)
        if applied:
            shown = valid_mask(pixels, subject.raster.nodata).any(axis=0)
            known = _there(source, grid, window)
            values = values.plus(shown & known, _differs(subject, source, window))
        else:
            shown, known = pixels[0] == 0, pixels[0] != subject.raster.nodata
        tally = tally.plus(known & (least == most), shown == least)
    found = [compared(subject, "mask fits classes", tally, "are hidden against the rule, or shown against it", 1.0)]
    if applied and _lies_on(source, grid):
        found.append(compared(subject, "masked bands as before", values, "are not what they were before the mask"))
    return found


def _lies_on(source: Raster | None, grid: Grid) -> TypeGuard[Raster]:
    return source is not None and source.grid.shares_lattice(grid)


def _differs(subject: Subject, source: Raster | None, window: Window) -> Mask:
    """Where a band is more than a step off what it was before; nowhere where that is not here."""
    wrong = np.zeros((window.height, window.width), bool)
    if not _lies_on(source, subject.raster.grid):
        return wrong
    col, row = (round(value) for value in subject.raster.grid.offset_in(source.grid))
    before, now = physical(source, window.moved(col, row)), physical(subject.raster, window)
    for band in subject.raster.bands:
        if band.name in before:
            off = np.abs(now[band.name] - before[band.name])
            wrong |= off > 1.01 * abs(band.scale) + RELATIVE * np.abs(before[band.name])
    return wrong


def _hidden_of(layers: Sequence[Owner], window: Window) -> tuple[Mask, Mask]:
    """What the first class layer that has seen a pixel says of it."""
    least = np.zeros((window.height, window.width), bool)
    most, unseen = least.copy(), ~least
    for one in layers:
        assert one.classes is not None and one.table is not None
        codes = one.classes.read(window)[0]
        seen = unseen & valid_mask(codes, one.classes.nodata) & ~one.table.holds(codes, ("fill",))
        sure, may_be = replace(one, table=replace(one.table, doubtful=frozenset(), unknown=())).hidden(window)
        least |= seen & sure
        most |= seen & may_be
        unseen &= ~seen
    return least, most | unseen


def _there(source: Raster | None, grid: Grid, window: Window) -> Mask:
    """Where the bands that were masked have pixels; everywhere where they are not here."""
    if not _lies_on(source, grid):
        return np.ones((window.height, window.width), bool)
    col, row = (round(value) for value in grid.offset_in(source.grid))
    pixels = source.read(window.moved(col, row))
    return np.asarray(valid_mask(pixels, source.nodata).any(axis=0))


def shades_again(subject: Subject) -> list[Finding]:
    """A composite: each shade by the recorded curve, gamma, brightness, contrast and saturation, within two."""
    source = source_of_all(subject)
    assert source is not None
    tone, curves = subject.options["tone"], {str(row["band"]): row for row in subject.told["zoompick:curves"]}
    names = [str(band) for band in subject.options["bands"]]
    orders = list(permutations(range(len(names))))
    tally, wrong, darker = Tally(), np.zeros(len(orders), int), []
    for window in windows_of(subject):
        bands = physical(source, window)
        picture = subject.raster.read(window).astype(np.float64)
        shades = np.stack([_shade(bands[name], curves[name], tone) for name in names])
        keep = float(tone.get("saturation", 1))
        wanted = np.clip(np.rint(keep * shades + (1 - keep) * shades.mean(axis=0)), 1, 255)
        known = np.all([np.isfinite(bands[name]) for name in names], axis=0)
        shown = valid_mask(picture, subject.raster.nodata).all(axis=0)
        both = known & shown
        off = np.abs(picture - wanted).max(axis=0) > _SHADES
        tally = tally.plus(known | shown, off | (known != shown))
        for place, order in enumerate(orders):
            wrong[place] += int((np.abs(picture[list(order)] - wanted).max(axis=0)[both] > _SHADES).sum())
        darker.append((picture - wanted).mean(axis=0)[both])
    what = f"are more than {_SHADES} shades from what the record makes"
    return [compared(subject, "shades fit", tally, what, cause=_why(tally, wrong, np.concatenate(darker)))]


_SHADES = 2


def _why(tally: Tally, wrong: Pixels, darker: Floats) -> str:
    """What the evidence says of shades that differ; empty where it says nothing."""
    limit = tally.seen * MOST_OFF_PERCENT / 100
    if wrong[0] > limit and wrong[1:].min(initial=wrong[0]) <= limit:
        return "Its colours are swapped."
    if darker.size and wrong[0] > limit:
        middle = float(np.median(darker))
        if abs(middle) > _SHADES:
            return f"It is {abs(middle):.0f} shades {'darker' if middle < 0 else 'brighter'} in the middle."
    return ""


def _shade(values: Floats, curve: JsonMap, tone: JsonMap) -> Floats:
    share = np.interp(values, curve["values"], curve["shares"])
    share = share ** (1 / float(tone.get("gamma", 1)))
    share = (share - 0.5) * float(tone.get("contrast", 1)) + 0.5 + float(tone.get("brightness", 0))
    return np.rint(1 + np.nan_to_num(np.clip(share, 0, 1)) * 254)


def _plain_mask(subject: Subject) -> bool:
    words = [word.strip() for word in str(subject.options.get("rule", "")).split(" or ")]
    known = all(word in ("cloud", "shadow", "snow", "water", "outside") for word in words)
    is_hidden = any(word != "outside" for word in words)
    return (
        judged_as("mask")(subject)
        and known
        and is_hidden
        and bool(subject.tables)
        and not subject.options.get("shrink_m")
    )


def _shown_plainly(subject: Subject) -> bool:
    tone = subject.options.get("tone")
    plain = isinstance(tone, dict) and tone.get("stretch") != "local" and bool(subject.told.get("zoompick:curves"))
    if (
        not judged_as("shades")(subject)
        or not plain
        or len(subject.raster.bands) < len(subject.options.get("bands", ()))
    ):
        return False
    source = source_of_all(subject)
    names = {str(band) for band in subject.options["bands"]}
    return source is not None and names <= {band.name for band in source.bands} and (
        source.grid.bounds == subject.raster.grid.bounds
    )  # fmt: skip


CHECKS: Sequence[Check] = (
    Check("mask", "products", "mask fits classes", "A mask by classes, and its class layers.",
          "In nine windows: what the rule hides is hidden, and nothing else; a pixel about the edges is left out; "
          "what is shown is what it was before the mask.",
          _plain_mask, mask_both_ways),
    Check("shades", "products", "shades fit", "A composite, and what it was made of.",
          "In nine windows: the shade of each pixel by the recorded curve and tone, within two shades.",
          _shown_plainly, shades_again),
)  # fmt: skip
