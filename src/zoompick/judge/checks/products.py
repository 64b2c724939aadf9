"""Products against what they were made of, computed again by the judge's own code on a sample."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from zoompick.arrays import Floats
from zoompick.judge.shifts import tiles_over
from zoompick.judge.subject import Check, Subject
from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import Raster, valid_mask
from zoompick.raster.warp import resampled_to
from zoompick.scenes.finding import Finding, judged

_OFF, _MOST_OFF, _WINDOWS = 1e-4, 0.1, 9


def _windows(subject: Subject) -> list[Window]:
    return tiles_over(subject.raster.grid, _WINDOWS)


def _source(subject: Subject) -> Raster | None:
    """What it was made of on the product's grid: computed where it was not written; None where it is not here."""
    if subject.underlying is not None:
        return subject.underlying if subject.underlying.grid.bounds == subject.raster.grid.bounds else None
    assert subject.open is not None
    for path in subject.inputs:
        if path.is_file():
            raster = subject.open(path)
            return raster if raster.grid.bounds == subject.raster.grid.bounds else None
    return None


def _physical(raster: Raster, window: Window) -> dict[str, Floats]:
    """Bands by name in physical values, NaN where pixels are missing."""
    stored = raster.read(window)
    return {band.name: np.where(valid_mask(plane, raster.nodata), plane * band.scale + band.offset, np.nan)
            for band, plane in zip(raster.bands, stored.astype(np.float64), strict=True)}  # fmt: skip


def index_again(subject: Subject) -> list[Finding]:
    """An index from its stack, by the formula of its record."""
    source = _source(subject)
    assert source is not None
    formula, seen, off, most = str(subject.options["formula"]), 0, 0, 0.0
    for window in _windows(subject):
        bands = _physical(source, window)
        with np.errstate(all="ignore"):
            wanted = _value(ast.parse(formula, mode="eval").body, bands)
        (band,) = subject.raster.bands
        stored = subject.raster.read(window)[0]
        there = valid_mask(stored, subject.raster.nodata) & np.isfinite(wanted)
        error = np.abs(stored * band.scale + band.offset - wanted)[there]
        allowed = _OFF + _RELATIVE * np.abs(wanted[there]) + (band.scale if band.scale != 1 else 0)
        seen, off = seen + error.size, off + int((error > allowed).sum())
        most = max(most, float(error.max(initial=0)))
    percent = 100 * off / seen if seen else 0.0
    note = (f"{percent:.1f} % of the pixels are not what {formula} gives of its source, by up to {most:.3g}: it "
            "is another product under this name, or its source changed. Make it again.")  # fmt: skip
    return [judged("computed again", subject.label, percent <= _MOST_OFF, f"{percent:.2f} % of {seen} px differ",
                   f"at most {_MOST_OFF:g} %", note, percent)]  # fmt: skip


_RELATIVE = 1e-3
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


def shades_again(subject: Subject) -> list[Finding]:
    """A composite against its stretch: what lies below is darkest, above brightest, each colour its band's."""
    source = _source(subject)
    assert source is not None
    curves = {str(row["band"]): row for row in subject.told["zoompick:curves"]}
    names = [str(band) for band in subject.options["bands"]]
    shades, values = [], []
    for window in _windows(subject):
        picture, bands = subject.raster.read(window), _physical(source, window)
        there = valid_mask(picture, subject.raster.nodata).all(axis=0)
        there &= np.all([np.isfinite(bands[name]) for name in names], axis=0)
        shades.append(picture[:, there])
        values.append(np.stack([bands[name][there] for name in names]))
    picture, physical = np.concatenate(shades, axis=1).astype(np.float64), np.concatenate(values, axis=1)
    if picture.shape[1] < _FEW:
        return [judged("shades fit", subject.label, True, "too few pixels to tell", "all", "")]
    ends = np.array([[min(curves[name]["values"]), max(curves[name]["values"])] for name in names])
    dark = (physical <= ends[:, :1]).all(axis=0)
    bright = (physical >= ends[:, 1:]).all(axis=0)
    wrong = int((picture[:, dark].max(axis=0, initial=0) > _DARKEST).sum() if dark.any() else 0)
    wrong += int((picture[:, bright].min(axis=0, initial=255) < _BRIGHTEST).sum() if bright.any() else 0)
    ends_percent = 100 * wrong / picture.shape[1]
    shares = np.stack([np.interp(row, curves[name]["values"], curves[name]["shares"])
                       for row, name in zip(physical, names, strict=True)])  # fmt: skip
    reversed_percent = 100 * _reversed(picture, shares)
    if reversed_percent > _MOST_REVERSED:
        what = (
            f"In {reversed_percent:.1f} % of the pixels the stronger colour should be the weaker: bands are swapped."
        )
    else:
        what = f"{ends_percent:.1f} % of the pixels are not as dark or bright as the recorded stretch makes them."
    note = f"{what} Make it again."
    ok = reversed_percent <= _MOST_REVERSED and ends_percent <= _MOST_OFF
    return [judged("shades fit", subject.label, ok, f"{max(reversed_percent, ends_percent):.2f} % differ",
                   f"at most {_MOST_REVERSED:g} %", note, max(reversed_percent, ends_percent))]  # fmt: skip


_FEW, _DARKEST, _BRIGHTEST, _MOST_REVERSED, _CLEARLY = 200, 40, 215, 1.0, 0.06


def _reversed(picture: Floats, shares: Floats) -> float:
    """Share of clear differences between two colours that go the other way; every tone keeps their order."""
    clear, wrong = 0, 0
    inner = ((shares > 0) & (shares < 1)).all(axis=0)
    for one, two in ((0, 1), (0, 2), (1, 2)):
        far = inner & (np.abs(shares[one] - shares[two]) > _CLEARLY)
        clear += int(far.sum())
        wrong += int((far & ((shares[one] > shares[two]) != (picture[one] >= picture[two]))).sum())
    return wrong / clear if clear else 0.0


def _is_shown(subject: Subject) -> bool:
    tone = subject.options.get("tone")
    shown = isinstance(tone, Mapping) and tone.get("stretch") != "local" and bool(subject.told.get("zoompick:curves"))
    if subject.traits.judged != "shades" or not shown or subject.open is None:
        return False
    source = _source(subject)
    return source is not None and {str(b) for b in subject.options["bands"]} <= {b.name for b in source.bands}


def mask_again(subject: Subject) -> list[Finding]:
    """A mask against the class layers: nothing that the rule hides is left."""
    assert subject.open is not None
    words = _hidden(subject)
    grid, read = subject.raster.grid, subject.open
    layers = [(resampled_to(read(path), grid, "class"), table) for path, table in subject.tables.items()]
    applied, left, seen = bool(subject.options.get("applied")), 0, 0
    for window in _windows(subject):
        hit = np.zeros((window.height, window.width), bool)
        unseen = ~hit
        for layer, table in layers:
            codes = layer.read(window)[0].astype(np.int64)
            own = unseen & ~table.holds(codes, ("fill",))
            hit |= own & table.holds(codes, words)
            unseen &= ~own
        pixels = subject.raster.read(window)
        shown = valid_mask(pixels, subject.raster.nodata).any(axis=0) if applied else pixels[0] == 0
        seen += int(hit.sum())
        left += int((hit & shown).sum())
    percent = 100 * left / seen if seen else 0.0
    note = (
        f"{percent:.1f} % of what the class layers call {' or '.join(words)} is still there: it is another mask. "
        "Make it again."
    )
    return [judged("mask fits classes", subject.label, percent <= _MOST_LEFT, f"{left} of {seen} px left",
                   f"at most {_MOST_LEFT:g} %", note, percent)]  # fmt: skip


_MOST_LEFT = 0.5


def _hidden(subject: Subject) -> list[str]:
    """Meanings that a plain rule hides (``cloud or shadow or outside``); none for other rules."""
    words = [word.strip() for word in str(subject.options.get("rule", "")).split(" or ")]
    known = ("cloud", "shadow", "snow", "water")
    return [word for word in words if word in known] if all(word in (*known, "outside") for word in words) else []


def _is_plain_mask(subject: Subject) -> bool:
    ok = subject.traits.judged == "mask" and subject.open is not None and bool(subject.tables)
    return ok and not subject.options.get("shrink_m") and bool(_hidden(subject))


def against_scenes(subject: Subject) -> list[Finding]:
    """A stack against the scenes that it is of, in physical values: another offset or scale shows at once."""
    names = [band.name for band in subject.raster.bands]
    layers = [(layer, raster) for layer in subject.layers if layer.band in names and (raster := layer.opened())]
    layers = [(layer, raster) for layer, raster in layers if raster.grid.shares_lattice(subject.raster.grid)]
    compared, off, worst = 0, 0, 0.0
    for window in _windows(subject):
        own = _physical(subject.raster, window)
        for name in {layer.band for layer, _ in layers}:
            mine, nearest = own[name], np.full(own[name].shape, np.inf)
            for layer, raster in layers:
                if layer.band == name:
                    nearest = np.minimum(nearest, np.abs(mine - layer.read(raster, subject.raster.grid, window)))
            there = np.isfinite(nearest)
            step = 1.01 * max(layer.scale for layer, _ in layers if layer.band == name)
            compared, off = compared + int(there.sum()), off + int((nearest[there] > step).sum())
            worst = max(worst, float(np.median(nearest[there])) if there.any() else 0.0)
    if not compared:
        return [judged("as its scenes", subject.label, True, "nothing on one lattice", "all", "")]
    percent = 100 * off / compared
    note = (f"{percent:.1f} % of the pixels differ from their scenes, by {worst:.4f} reflected in the middle: "
            "scale or offset of another processing baseline were taken. Make it again.")  # fmt: skip
    return [judged("as its scenes", subject.label, percent <= _MOST_OFF, f"{percent:.2f} % of {compared} px differ",
                   f"at most {_MOST_OFF:g} %", note, percent)]  # fmt: skip


CHECKS: Sequence[Check] = (
    Check("scenes", "products", "as its scenes", "A stack, and its scenes' files with their items.",
          "In nine windows: each pixel in physical values against the scenes' own, where they lie on one lattice; "
          "the nearest counts.", lambda s: s.traits.judged == "scenes" and bool(s.layers), against_scenes),
    Check("index", "products", "computed again", "An index of a plain formula, and what it was made of.",
          "In nine windows: the recorded formula, evaluated by the judge's own code in double precision.",
          _is_plain_index, index_again),
    Check("shades", "products", "shades fit", "A composite, and what it was made of.",
          "In nine windows: pixels beyond the recorded limits are darkest or brightest; each colour follows its "
          "band by ranks.", _is_shown, shades_again),
    Check("mask", "products", "mask fits classes", "A mask by classes, and its class layers.",
          "In nine windows: what the class layers call by a name in the rule is not left.",
          _is_plain_mask, mask_again),
)  # fmt: skip
