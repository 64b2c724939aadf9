"""Products against what they were made of, computed again by the judge's own code on a sample."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

from zoompick.arrays import Floats
from zoompick.judge.sampled import RELATIVE, Tally, compared, windows_of
from zoompick.judge.subject import Check, Layer, Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.raster.ways import Ways
from zoompick.scenes.finding import Finding, Seen, judged, not_judged

_OFF, _MOST_OFF = 1e-4, 0.1


def _source(subject: Subject) -> Raster | None:
    """What it was made of on the product's grid: computed where it was not written; None where it is not here."""
    if subject.underlying is not None:
        return subject.underlying if subject.underlying.grid.bounds == subject.raster.grid.bounds else None
    assert subject.open is not None
    for path in subject.read:
        if path.is_file():
            raster = subject.open(path)
            return raster if raster.grid.bounds == subject.raster.grid.bounds else None
    return None


def physical(raster: Raster, window: Window) -> dict[str, Floats]:
    """Bands by name in physical values, NaN where pixels are missing."""
    stored = raster.read(window)
    return {band.name: np.where(valid_mask(plane, raster.nodata), plane * band.scale + band.offset, np.nan)
            for band, plane in zip(raster.bands, stored.astype(np.float64), strict=True)}  # fmt: skip


def source_of_all(subject: Subject) -> Raster | None:
    """The first that it was made of, wherever that lies; None where it is not here."""
    if subject.underlying is not None:
        return subject.underlying
    if subject.open is None:
        return None
    path = next((path for path in subject.read if path.is_file()), None)
    return None if path is None else subject.open(path)


def formula_value(formula: str, bands: Mapping[str, Floats]) -> Any:
    """A recorded formula by the judge's own code; KeyError, TypeError, SyntaxError for one that it does not know."""
    return _value(ast.parse(formula, mode="eval").body, bands)


def index_again(subject: Subject) -> list[Finding]:
    """An index from its stack, by the formula of its record."""
    source = _source(subject)
    assert source is not None
    formula, tally, most, (band,) = str(subject.options["formula"]), Tally(), 0.0, subject.raster.bands
    for window in windows_of(subject):
        with np.errstate(all="ignore"):
            wanted = np.asarray(formula_value(formula, physical(source, window)), np.float64)
            wanted = np.broadcast_to(wanted, (window.height, window.width))
        stored = subject.raster.read(window)[0]
        there, known = valid_mask(stored, subject.raster.nodata), np.isfinite(wanted)
        error = np.where(there & known, np.abs(stored * band.scale + band.offset - wanted), 0)
        allowed = _OFF + RELATIVE * np.abs(wanted) + (band.scale if band.scale != 1 else 0)
        tally = tally.plus(there | known, (error > allowed) | (there != known))
        most = max(most, float(error.max(initial=0)))
    what = f"are not what {formula} gives of its source, by up to {most:.3g}" if most > _OFF else (
        f"are missing where {formula} gives a value of its source, or there where it gives none")  # fmt: skip
    return [compared(subject, "computed again", tally, what, _MOST_OFF)]


_BINARY: dict[type, Callable[[Any, Any], Any]] = {
    ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul, ast.Div: operator.truediv
}  # fmt: skip


_COMPARED: dict[type, Callable[[Any, Any], Any]] = {
    ast.Lt: operator.lt, ast.LtE: operator.le, ast.Gt: operator.gt, ast.GtE: operator.ge, ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
}  # fmt: skip


def _least(one: Any, *others: Any) -> Any:
    for other in others:
        one = np.where(other < one, other, one)
    return one


def _most(one: Any, *others: Any) -> Any:
    return -_least(-one, *(-other for other in others))


_CALLED: dict[str, Callable[..., Any]] = {
    "min": _least, "max": _most, "abs": lambda value: _most(value, -value), "sqrt": lambda value: value**0.5,
    "log": lambda value: np.log1p(value - 1), "exp": lambda value: np.expm1(value) + 1,
    "where": lambda test, yes, no: np.choose(np.asarray(test, bool), [no, yes]),
    "clip": lambda value, low, high: _least(_most(value, low), high),
}  # fmt: skip


def _value(node: ast.expr, bands: Mapping[str, Floats]) -> Any:
    """A formula as its record tells it, read by the judge alone; KeyError or TypeError for anything else."""
    match node:
        case ast.Constant(value=int() | float() as number):
            return float(number)
        case ast.Name(id=name):
            return bands[name]
        case ast.UnaryOp(op=ast.USub(), operand=inner):
            return -_value(inner, bands)
        case ast.BinOp(left=left, op=sign, right=right):
            return _BINARY[type(sign)](_value(left, bands), _value(right, bands))
        case ast.UnaryOp(op=ast.Not(), operand=inner):
            return ~np.asarray(_value(inner, bands), bool)
        case ast.Compare(left=left, ops=[sign], comparators=[right]):
            return _COMPARED[type(sign)](_value(left, bands), _value(right, bands))
        case ast.BoolOp(op=sign, values=parts):
            told = np.broadcast_arrays(*(np.asarray(_value(part, bands), bool) for part in parts))
            return np.all(told, axis=0) if isinstance(sign, ast.And) else np.any(told, axis=0)
        case ast.Call(func=ast.Name(id=name), args=args, keywords=[]):
            return _CALLED[name](*(_value(part, bands) for part in args))
    raise TypeError(type(node).__name__)


def _is_plain_index(subject: Subject) -> bool:
    is_far = "of" in subject.options and subject.underlying is None
    if subject.traits.judged != "index" or subject.open is None or len(subject.raster.bands) != 1 or is_far:
        return False
    try:
        source = _source(subject)
        names = {} if source is None else {band.name: np.zeros((1, 1)) for band in source.bands}
        with np.errstate(all="ignore"):
            _value(ast.parse(str(subject.options.get("formula", "")), mode="eval").body, names)
    except (KeyError, TypeError, SyntaxError, ZeroDivisionError, RecursionError):
        return False
    return source is not None


class _Part(NamedTuple):
    """A scene's band on the product's grid, by the recorded way."""

    layer: Layer
    raster: Raster

    def values(self, window: Window) -> Floats:
        stored = self.raster.read(window, (0,))[0]
        there = valid_mask(stored, self.raster.nodata)
        return np.where(there, stored * self.layer.scale + self.layer.offset, np.nan)


def _parts(subject: Subject) -> dict[str, list[_Part]]:
    """The files of each band that are here, on the product's grid; none where pixels of a swath were weighted."""
    ways, found = Ways.parse(str(subject.options.get("kernel", ""))), dict[str, list[_Part]]()
    names = {band.name for band in subject.raster.bands}
    for layer in () if subject.options.get("weighted") else subject.layers:
        raster = layer.opened() if layer.band in names else None
        if raster is not None:
            placed = resampled_to(raster, subject.raster.grid, ways.of(layer.band, False))
            found.setdefault(layer.band, []).append(_Part(layer, placed))
    return found


def against_scenes(subject: Subject) -> list[Finding]:
    """A stack against the scenes that it is of, in physical values: another offset or scale shows at once."""
    parts, compared, off, worst = _parts(subject), 0, 0, 0.0
    for window in windows_of(subject):
        own = physical(subject.raster, window)
        for name, of_band in parts.items():
            mine, nearest = own[name], np.full(own[name].shape, np.inf)
            for part in of_band:
                # Where a scene has no pixel another may have one.
                nearest = np.fmin(nearest, np.abs(mine - part.values(window)))
            there = np.isfinite(nearest)
            step = 1.01 * max(part.layer.scale for part in of_band)
            compared, off = compared + int(there.sum()), off + int((nearest[there] > step).sum())
            worst = max(worst, float(np.median(nearest[there])) if there.any() else 0.0)
    seen = _sampled(subject, compared, len(parts))
    if compared < _LEAST_COMPARED * _looked_at(subject):
        reason = "Its scenes' files are not here, or have no pixels where it has some."
        return [not_judged("as its scenes", subject.label, reason, "all", seen)]
    percent = 100 * off / compared
    note = (f"{percent:.1f} % of the pixels differ from their scenes, by {worst:.4f} reflected in the middle: "
            "scale or offset of another processing baseline were taken. Make it again.")  # fmt: skip
    return [judged("as its scenes", subject.label, percent <= _MOST_OFF, f"{percent:.2f} % of {compared} px differ",
                   f"at most {_MOST_OFF:g} %", note, percent, seen=seen)]  # fmt: skip


_LEAST_COMPARED = 0.05
"""Of the valid pixels in the windows that are looked at."""


def _looked_at(subject: Subject) -> int:
    """Valid pixels of the product in its windows, in any band."""
    raster = subject.raster
    return sum(
        int(valid_mask(raster.read(window), raster.nodata).any(axis=0).sum()) for window in windows_of(subject)
    )


def _sampled(subject: Subject, count: int, bands: int = 1) -> Seen:
    """So many pixels of the product."""
    grid = subject.raster.grid
    return Seen("px", count, grid.width * grid.height * max(1, bands))


CHECKS: Sequence[Check] = (
    Check("scenes", "products", "as its scenes", "A stack, and its scenes' files with their items.",
          "In nine windows: each pixel in physical values against the scenes' own, resampled by the recorded way; "
          "the nearest counts.", lambda s: s.traits.judged == "scenes" and bool(s.layers), against_scenes),
    Check("index", "products", "computed again", "An index of a plain formula, and what it was made of.",
          "In nine windows: the recorded formula, evaluated by the judge's own code in double precision.",
          _is_plain_index, index_again),
)  # fmt: skip
