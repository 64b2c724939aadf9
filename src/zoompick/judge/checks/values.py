"""Are the numbers such as ground reflects: none below zero or beyond, none that means no-data, no dead line."""

from __future__ import annotations

import math
from collections.abc import Sequence

from zoompick.arrays import Counts
from zoompick.files import human_names
from zoompick.judge.gauges import Tally
from zoompick.judge.lines import LineFigures, odd_lines
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.scenes.finding import Finding, judged, not_judged

_MOST_REFLECTANCE = 1.6


def _shares(subject: Subject, counts: Counts, places: Sequence[int]) -> dict[str, float]:
    """Counts a band as percent of its valid pixels, of some bands."""
    whole = np.maximum(subject.sweep.totals["tally"].count, 1)
    return {subject.raster.bands[place].name: 100 * float(counts[place] / whole[place]) for place in places}


def _unscaled(subject: Subject, check: str, limit: float) -> list[Finding]:
    """What is said of bands of which nothing tells how much they reflect."""
    places = subject.places("unscaled", "unknown")
    names = human_names([subject.raster.bands[place].name for place in places], 4)
    reason = (f"Nothing tells the scale of {names}: what they reflect is unknown. 'zoompick bands' shows what is "
              "known; a band guide, or tags in the file, tell it.")  # fmt: skip
    return [not_judged(check, subject.label, reason, f"at most {limit:g} %")]


def _worst(
    subject: Subject, check: str, shares: dict[str, float], limit: float, note: str, words: str = ""
) -> Finding:
    name = max(shares, key=lambda key: shares[key])
    value = shares[name]
    figure = f"{value:.2f} % in {name}{words}" if value else "none"
    data = {"percent": {key: round(share, 4) for key, share in shares.items()}}
    told = note.format(name=name, value=value)
    return judged(
        check, subject.label, value <= limit, figure, f"at most {limit:g} %", told, value, bad="warn", data=data
    )


def negative(subject: Subject) -> list[Finding]:
    """Reflectances below zero."""
    if not subject.reflecting:
        return _unscaled(subject, "not negative", subject.limits.negative)
    shares = _shares(subject, subject.sweep.totals["tally"].negative, subject.reflecting)
    note = ("{value:.1f} % of {name} is below zero: the atmosphere was corrected too strongly, or the offset is "
            "another baseline's. Compare scale and offset with the scene's item.")  # fmt: skip
    return [_worst(subject, "not negative", shares, subject.limits.negative, note)]


def saturated(subject: Subject) -> list[Finding]:
    """Pixels at the greatest value of their type."""
    shares = _shares(subject, subject.sweep.totals["tally"].top, subject.places("reflectance", "unscaled"))
    note = ("{value:.1f} % of {name} is at the end of the type: the sensor was blinded (cloud, snow, glint), or "
            "65535 means no-data. Look at it with 'zoompick picture'.")  # fmt: skip
    return [_worst(subject, "not saturated", shares, subject.limits.saturated, note)]


def in_range(subject: Subject) -> list[Finding]:
    """Reflectances beyond what ground and cloud reflect, or so small that the scale must be wrong."""
    sample = subject.sweep.totals["sample"]
    shares, means = {}, {}
    if not subject.reflecting:
        return _unscaled(subject, "values in range", subject.limits.odd)
    for place in subject.reflecting:
        band = subject.raster.bands[place]
        values = sample.values_of(place).astype(np.float64) * band.scale + band.offset
        if values.size:
            shares[band.name] = 100 * float((np.abs(values) > _MOST_REFLECTANCE).mean())
            means[band.name] = float(values.mean())
    if not shares:
        reason = "No pixel of its sample holds a value."
        return [not_judged("values in range", subject.label, reason, f"at most {subject.limits.odd:g} %")]
    limit = subject.limits.odd
    suns = [scene.sun_elevation_deg for scene in subject.scenes if scene.sun_elevation_deg is not None]
    if suns and max(suns) < _LEAST_SUN_DEG:
        reason = f"The sun stood at {max(suns):.0f} degrees: what the ground reflects says nothing about the scale."
        return [not_judged("values in range", subject.label, reason, f"at most {limit:g} %")]
    if means and max(means.values()) < _TOO_DARK:
        name = max(means, key=lambda key: means[key])
        note = (f"The brightest band, {name}, reflects {100 * means[name]:.3f} % on average: scale or offset are "
                "probably another product's. Compare them with the scene's item.")  # fmt: skip
        return [
            judged(
                "values in range",
                subject.label,
                False,
                f"{100 * means[name]:.3f} % reflected",
                "ground's",
                note,
                means[name],
                bad="warn",
            )
        ]
    note = ("{value:.1f} % of {name} reflects more than 160 %: scale or offset are probably missing or another "
            "product's. Compare them with the scene's item.")  # fmt: skip
    return [_worst(subject, "values in range", shares, limit, note, " beyond 160 %")]


_TOO_DARK, _LEAST_SUN_DEG = 0.002, 1.0


def leaks(subject: Subject) -> list[Finding]:
    """Values that often mean no-data (0, -9999, -32768, 65535, infinity) among those that count."""
    tally = subject.sweep.totals["tally"]
    suspects = _suspects(subject)
    names = [band.name for band in subject.raster.bands]
    worst, where, what = 0.0, "", 0.0
    for place in subject.seen:
        name = names[place]
        for number, suspect in enumerate(suspects):
            if suspect == 0 and subject.held[place] == "measure":
                # The sea's height, a change of nothing: zero is a measure like others.
                continue
            share = 100 * tally.suspect[place, number] / max(1, tally.count[place])
            lonely = _stands_apart(subject, place, suspect)
            if lonely and share > worst:
                worst, where, what = float(share), name, suspect
    figure = f"{worst:.2f} % of {where} is {what:g}" if where else "none"
    note = (f"{worst:.2f} % of {where} has the value {what:g}, far from all others: missing pixels that no tag "
            "tells. Write them as no-data before you measure.") if where else ""  # fmt: skip
    ok = worst <= (0 if math.isinf(what) else _MOST_LEAKS)
    return [judged("no-data leaks", subject.label, ok, figure, f"at most {_MOST_LEAKS:g} %", note, worst)]


_MOST_LEAKS = 0.01


def _suspects(subject: Subject) -> tuple[float, ...]:
    return Tally.of(subject.raster).suspects


def _stands_apart(subject: Subject, place: int, suspect: float) -> bool:
    """True where a value lies beyond the others by more than their own spread: a mark, not a measure."""
    if math.isinf(suspect):
        return True
    sample = subject.sweep.totals["sample"]
    values = sample.values_of(place).astype(np.float64)
    others = values[values != suspect]
    if others.size < _FEW:
        return False
    low, high = np.percentile(others, [1, 99])
    return bool(suspect < low - _BELOW * (high - low) or suspect > high + _ABOVE * (high - low))


_FEW, _BELOW, _ABOVE = 100, 0.3, 3.0


def lines(subject: Subject) -> list[Finding]:
    """Rows or columns of one value, and stripes: lines that differ from their neighbours as a whole."""
    total = subject.sweep.totals["lines"]
    dead, striped, least = [], [], min(_MANY, _LONG_PX // total.every)
    looked_at = 0.0
    for place in subject.seen:
        name, stripes = subject.raster.bands[place].name, list[list[str]]()
        for words, figures in (("row", total.rows[:, place]), ("column", total.cols[:, place])):
            of = LineFigures.of(figures)
            looked_at = max(looked_at, float(of.counts.max(initial=0)))
            found, odd_ones = odd_lines(of, least)
            dead += [f"{words} {number} of {name}" for number in found]
            stripes.append([f"{words} {number} of {name}" for number in odd_ones])
        # What crosses itself is streets or fields: a detector has one direction.
        striped += [] if min(map(len, stripes)) >= _A_GRID else [line for own in stripes for line in own]
    odd = dead or striped
    if not odd and looked_at < least:
        reason = f"Its lines are shorter than {least * total.every} pixels: too little of each is there to tell."
        return [not_judged("dead lines", subject.label, reason, "none")]
    kind = "hold one value or none" if dead else "differ from both neighbours as a whole"
    figure = f"{len(dead)} dead, {len(striped)} striped" if odd else "none"
    more = f" and {len(odd) - 3} more" if len(odd) > 3 else ""
    note = (
        f"{', '.join(odd[:3])}{more} {kind}: a detector failed, or lines were lost. Take another scene."
        if odd
        else ""
    )
    data = {"dead": dead[:50], "striped": striped[:50]}
    return [judged("dead lines", subject.label, not odd, figure, "none", note, float(len(dead) + len(striped)),
                   bad="fail" if dead else "warn", data=data)]  # fmt: skip


_MANY, _LONG_PX, _A_GRID = 48, 128, 3


def _has_light(subject: Subject) -> bool:
    return bool(subject.places("reflectance", "unscaled", "unknown"))


def _is_seen(subject: Subject) -> bool:
    return bool(subject.seen)


def _can_saturate(subject: Subject) -> bool:
    return subject.raster.dtype.kind in "iu" and bool(subject.places("reflectance", "unscaled"))


CHECKS: Sequence[Check] = (
    Check("negative", "values", "not negative", "Reflectances.",
          "Counts values more than one percent of reflectance below zero.", _has_light, negative, limit="negative"),
    Check("saturated", "values", "not saturated", "Whole numbers of bands that reflect.",
          "Counts values at the end of the type.", _can_saturate, saturated, limit="saturated"),
    Check("range", "values", "values in range", "Reflectances.",
          "On a sample: values beyond 160 %, and a brightest band below 0.2 % on average.", _has_light, in_range,
          limit="odd"),
    Check("leaks", "values", "no-data leaks", "Bands that hold no classes.",
          "Counts 0, -9999, -32768, 65535 and infinities among valid pixels, where they lie apart from all other "
          "values.",
          _is_seen, leaks),
    Check("lines", "values", "dead lines", "Bands that hold no classes.",
          "Of one pixel in eight of each row and column, of more where lines are short: least and greatest (one "
          "value or none, up to 16 lines together: dead), and the mean of up to four lines together against both "
          "neighbours', in robust deviations of the steps from line to line (8, and 3 %, the same way on both "
          "sides: a stripe).", _is_seen, lines),
)  # fmt: skip
