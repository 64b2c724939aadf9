"""Are the right bands there, in order, filled, and is none another's copy or in another's place."""

from __future__ import annotations

from collections.abc import Sequence, Set
from itertools import combinations

from zoompick.arrays import Floats, Mask
from zoompick.files import human_names
from zoompick.judge.gauges import SampleTotal
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

_ALIKE, _ENOUGH = 0.99995, 1000


def in_order(subject: Subject) -> list[Finding]:
    """Bands of a file against those wanted, names and order."""
    names, expected = [band.name for band in subject.raster.bands], list(subject.bands)
    missing = [name for name in expected if name not in names]
    note = (
        f"Missing: {', '.join(missing)}." if missing else f"Found {', '.join(names)}; wanted {', '.join(expected)}."
    )
    same = sum(a == b for a, b in zip(names, expected, strict=False))
    figure = f"{same} of {len(expected)}"
    ok = names == expected
    return [judged("bands in order", subject.label, ok, figure, "all, no other", note, float(same))]


def published(
    available: Sequence[str], expected: Sequence[str], subject: str, others: Set[str] = frozenset()
) -> Finding:
    """Bands a scene has against those the brief needs.

    Parameters
    ----------
    others : set of str
        Bands of other scenes of its collection.
    """
    missing = [name for name in expected if name not in available]
    elsewhere = [name for name in missing if name in others]
    todo = "Other scenes of its collection have them: pick one of those." if elsewhere else (
        "No other scene of its collection here has them: ask for other bands, or another collection."
    )  # fmt: skip
    note = f"The scene was published without {human_names(missing, _MOST_NAMES)}. {todo}"
    figure = f"{len(expected) - len(missing)} of {len(expected)}"
    return judged("bands published", subject, not missing, figure, "all", note, float(len(expected) - len(missing)))


def distinct(subject: Subject) -> list[Finding]:
    """Two bands with the same pixels, or the same but for a factor, mean that one was put in twice."""
    names = [band.name for band in subject.raster.bands]
    sample = subject.sweep.totals["sample"]
    counts = subject.sweep.totals["tally"].count
    filled = [place for place in range(len(names)) if counts[place]]
    twins, like = [], []
    for one, other in combinations(filled, 2):
        pair = sample.pixels[[one, other]]
        if np.array_equal(pair[0], pair[1], equal_nan=pair.dtype.kind == "f"):
            twins.append((one, other))
        elif (
            {one, other} <= set(subject.places("reflectance", "unscaled"))
            and (found := float(sample.correlations[one, other])) > _ALIKE
            and _is_scaled(sample, one, other)
        ):
            like.append((one, other, found))
    twins = [pair for pair in twins if _are_equal(subject, *pair)]
    groups = _groups(twins)
    lost = sum(len(group) - 1 for group in groups)
    empty = [name for place, name in enumerate(names) if place not in filled]
    figure, whole = f"{len(filled) - lost} of {len(names)}", float(len(filled) - lost)
    if groups and _is_grey(subject, groups[0]):
        reason = "All bands hold the same shades, without a scale: it is a grey picture."
        return [not_judged("bands distinct", subject.label, reason, "all", Seen("bands", len(names), len(names)))]
    if groups:
        same = human_names([names[place] for place in groups[0]], _MOST_NAMES)
        note = f"{same} hold the same pixels. One was put in twice: make it again."
        return [judged("bands distinct", subject.label, False, figure, "all", note, whole)]
    if like:
        one, other, found = like[0]
        note = (f"{names[one]} and {names[other]} differ by little more than a factor (correlation {found:.5f}): "
                "one may be the other, scaled. Look at their sources.")  # fmt: skip
        return [judged("bands distinct", subject.label, False, figure, "all", note, whole, bad="warn")]
    note = (
        f"{human_names(empty, _MOST_NAMES)} {'holds' if len(empty) == 1 else 'hold'} no data. Look at the sources."
        if empty
        else ""
    )
    return [judged("bands distinct", subject.label, not empty, figure, "all", note, whole, bad="warn")]


def _is_scaled(sample: SampleTotal, one: int, other: int) -> bool:
    """True where nothing but rounding is left of a band once another, by a factor and an offset, is taken away.

    Cloud and snow are bright in all bands, so that bands that differ go together: what is left tells.
    """
    there = sample.each_valid[[one, other]].all(axis=0)
    x, y = sample.pixels[[one, other]][:, there].astype(np.float64)
    slope, start = np.polyfit(x, y, 1)
    left = float(np.percentile(np.abs(y - slope * x - start), _MOST_OF))
    if sample.pixels.dtype.kind in "iu":
        return left <= 1 + abs(slope)
    return left <= _LEFT * float(np.median(np.abs(y)))


_MOST_OF, _LEFT = 80, 0.0001


def _is_grey(subject: Subject, same: Sequence[int]) -> bool:
    """Three bands of shades, all the same, without a scale."""
    return len(same) == len(subject.raster.bands) == _COLOURS and (
        subject.raster.dtype.itemsize == 1 and not subject.reflecting
    )


_COLOURS = 3


def _are_equal(subject: Subject, one: int, other: int) -> bool:
    """Whether two bands whose samples are the same are so in every pixel; read only where something may be wrong."""
    raster = subject.raster
    for window in raster.grid.tiles(512):
        first, second = raster.read(window, (one, other))
        if not np.array_equal(first, second, equal_nan=first.dtype.kind == "f"):
            return False
    return True


def _groups(pairs: Sequence[tuple[int, int]]) -> list[list[int]]:
    """Pairs that hang together as groups."""
    groups: list[set[int]] = []
    for pair in pairs:
        touched = [group for group in groups if group & set(pair)]
        groups = [group for group in groups if group not in touched] + [set(pair).union(*touched)]
    return [sorted(group) for group in groups]


def filled(subject: Subject) -> list[Finding]:
    """No band of a product is constant, or cut at one end of its type."""
    tally = subject.sweep.totals["tally"]
    names = [band.name for band in subject.raster.bands]
    whole = subject.raster.grid.width * subject.raster.grid.height
    constant = [name for place, name in enumerate(names) if tally.count[place] > _ENOUGH
                and tally.low[place] == tally.high[place] and place in subject.seen]  # fmt: skip
    verb = "has" if len(constant) == 1 else "have"
    note = f"{human_names(constant, _MOST_NAMES)} {verb} the same value everywhere. Look at the source."
    good = len(names) - len(constant)
    data = {
        "bands": {
            name: {
                "valid_percent": round(100 * int(count) / whole, 3),
                "minimum": _plain(low),
                "maximum": _plain(high),
            }
            for name, count, low, high in zip(names, tally.count, tally.low, tally.high, strict=True)
        }
    }
    return [judged("bands vary", subject.label, not constant, f"{good} of {len(names)}", "all", note, float(good),
                   data=data)]  # fmt: skip


def _plain(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None


_WANTED = "plants more than the reverse"
_LEAST_SHARE, _CLEAR = 0.02, 0.6


def plausible(subject: Subject) -> list[Finding]:
    """Plants are far brighter in near infrared than in red; no bright ground is the reverse: swapped bands show."""
    names = [band.name for band in subject.raster.bands]
    if not {names.index("red"), names.index("nir")} <= set(subject.reflecting):
        reason = "Nothing tells how much red and nir reflect: they have no scale."
        return [not_judged("bands plausible", subject.label, reason, _WANTED)]
    red, nir = (_reflectance(subject, names.index(name)) for name in ("red", "nir"))
    blue = _reflectance(subject, names.index("blue")) if "blue" in names else None
    seen = subject.sweep.totals["sample"].valid & (red + nir > 0.02)
    contrast = np.where(seen, (nir - red) / np.maximum(nir + red, 1e-3), 0)
    # Open water is darker in near infrared than in red too, but dark in both: what is bright there is no clear water.
    bright = seen & (np.maximum(red, nir) > _BRIGHT)
    bright &= ~_like_silt(subject, names, red, contrast)
    if bright.sum() < _ENOUGH:
        reason = "Too little bright ground to tell red from near infrared by."
        return [not_judged("bands plausible", subject.label, reason, _WANTED, _sampled(subject, int(bright.sum())))]
    plants, reverse = (float((sign * contrast[bright] > _PLAIN).mean()) for sign in (1, -1))
    data = {"plants_percent": round(100 * plants, 2), "reverse_percent": round(100 * reverse, 2)}
    figure = f"{100 * plants:.1f} % like plants, {100 * reverse:.1f} % the reverse"
    if plants + reverse < _LEAST_SHARE:
        reason = f"Hardly any ground that tells: {figure}."
        seen = _sampled(subject, int(bright.sum()))
        return [not_judged("bands plausible", subject.label, reason, _WANTED, seen, data)]
    sure = abs(plants - reverse) / (plants + reverse)
    swapped = reverse > plants
    note = (f"Red is brighter than near infrared where the ground is bright, as no land cover has it: red and nir "
            f"are probably swapped (confidence {100 * sure:.0f} %). Look at the order of the files.")  # fmt: skip
    data |= {"confidence_percent": round(100 * sure)}
    found = judged("bands plausible", subject.label, not swapped, figure, _WANTED, note, 100 * (plants - reverse),
                   data=data, bad="fail" if sure > _CLEAR else "warn")  # fmt: skip
    if blue is not None and not swapped:
        found = _blue_and_red(subject, blue[seen], red[seen], contrast[seen], found)
    return [found]


def _like_silt(subject: Subject, names: Sequence[str], red: Floats, contrast: Floats) -> Mask:
    """Pixels that may be water full of silt or over a bright bottom: brighter in red than beyond, as in green.

    Where red holds what is near infrared, plants are far darker in green. Without a green band none but the brightest
    ground tells.
    """
    reverse = contrast < -_PLAIN
    if "green" in names and names.index("green") in subject.reflecting:
        return np.asarray(reverse & (_reflectance(subject, names.index("green")) > _GREENISH * red))
    return np.asarray(reverse & (red < _BRIGHTEST_SILT))


_GREENISH, _BRIGHTEST_SILT = 0.6, 0.25


def _sampled(subject: Subject, count: int) -> Seen:
    """So many pixels of the sample."""
    return Seen("px", count, subject.raster.grid.width * subject.raster.grid.height)


_PLAIN, _BRIGHT = 0.3, 0.15


def _blue_and_red(subject: Subject, blue: Floats, red: Floats, contrast: Floats, fine: Finding) -> Finding:
    """Bare ground reflects more red than blue everywhere: the reverse over most of it means swapped bands."""
    bare = (np.abs(contrast) < _PLAIN) & (np.maximum(red, blue) > _BARE)
    if bare.sum() < _ENOUGH or float(np.percentile(blue, _DARKEST)) > _HAZY:
        # Haze and smoke are bluer than the ground below, most of all where that is dark.
        return fine
    plants = contrast > _LUSH
    if plants.sum() >= _ENOUGH and float((blue < red)[plants].mean()) > _MOSTLY:
        # Bands that are swapped are so over plants as well: here smoke lies over the rest.
        return fine
    share = float((blue > red * 1.1)[bare].mean())
    if share < _MOSTLY:
        return fine
    note = (f"Over bare ground blue is brighter than red in {100 * share:.0f} % of the pixels: blue and red may be "
            "swapped. Look at the order of the files.")  # fmt: skip
    return judged("bands plausible", subject.label, False, f"blue above red on {100 * share:.0f} % of bare ground",
                  f"at most {100 * _MOSTLY:.0f} %", note, 100 * share, bad="warn")  # fmt: skip


_BARE, _MOSTLY, _DARKEST, _HAZY, _LUSH = 0.12, 0.9, 2, 0.06, 0.6


def _reflectance(subject: Subject, place: int) -> Floats:
    band = subject.raster.bands[place]
    pixels = subject.sweep.totals["sample"].pixels[place].astype(np.float64)
    return np.asarray(pixels * band.scale + band.offset)


_MOST_NAMES = 4


def _has_spectrum(subject: Subject) -> bool:
    names = {band.name for band in subject.raster.bands}
    return {"red", "nir"} <= names and bool(subject.places("reflectance", "unscaled"))


CHECKS: Sequence[Check] = (
    Check("order", "bands", "bands in order", "The bands that are wanted, from the brief or --bands.",
          "Compares names and order.", lambda subject: bool(subject.bands), in_order, in_study=False),
    Check("distinct", "bands", "bands distinct", "Two bands or more.",
          "Compares every two bands on a sample, in full where that is the same; correlation on the sample else.",
          lambda subject: len(subject.raster.bands) > 1 and subject.traits.holds != "picture", distinct),
    Check("vary", "bands", "bands vary", "A file that opens.",
          "Valid pixels, least and greatest value of each band: none is constant.",
          lambda subject: bool(subject.seen), filled),
    Check("spectra", "bands", "bands plausible", "Reflectances with red and near infrared.",
          "On a sample: shares of pixels with (nir - red) / (nir + red) above 0.3 and below -0.3; bright ground "
          "of the second kind does not exist, so its excess means swapped bands. Confidence is excess by sum.",
          _has_spectrum, plausible, "C. J. Tucker, Red and photographic infrared linear combinations for monitoring "
          "vegetation (1979)."),
)  # fmt: skip
