"""Arithmetic on bands from a text: read once into steps that are known here, never run as a program."""

from __future__ import annotations

import ast
import operator
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from zoompick import foreign
from zoompick.arrays import Pixels
from zoompick.errors import UnknownNameError, UsageError
from zoompick.later import np

_BINARY: dict[type, Callable[[Any, Any], Any]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
}
_COMPARED: dict[type, Callable[[Any, Any], Any]] = {
    ast.Lt: operator.lt, ast.LtE: operator.le, ast.Gt: operator.gt, ast.GtE: operator.ge,
    ast.Eq: operator.eq, ast.NotEq: operator.ne,
}  # fmt: skip
_FUNCTIONS: dict[str, tuple[Callable[..., Any], int, int]] = {
    "min": (lambda *parts: _folded(np.minimum, parts), 2, 9),
    "max": (lambda *parts: _folded(np.maximum, parts), 2, 9),
    "abs": (lambda value: np.abs(value), 1, 1),
    "sqrt": (lambda value: np.sqrt(value), 1, 1),
    "log": (lambda value: np.log(value), 1, 1),
    "exp": (lambda value: np.exp(value), 1, 1),
    "where": (lambda test, yes, no: np.where(test, yes, no), 3, 3),
    "clip": (lambda value, low, high: np.clip(value, low, high), 3, 3),
}
"""Name to function and the least and most values it takes; ``log`` is natural."""
_MOST_CHARACTERS, _MOST_DEPTH = 2000, 40
_EXAMPLE = "As (nir - red) / (nir + red)."
Step = Callable[["_Bands"], Any]


@dataclass(frozen=True)
class Formula:
    """Arithmetic over bands and numbers.

    It has ``+ - * /`` and brackets, the functions min, max, abs, sqrt, log, exp, where, clip, comparisons, and
    ``and``, ``or``, ``not`` between these.

    Attributes
    ----------
    text : str
    bands : tuple of str
        Band names in it, in order of appearance.
    is_test : bool
        It gives true or false.
    """

    text: str
    bands: tuple[str, ...]
    is_test: bool = False

    @classmethod
    def parse(cls, text: str) -> Formula:
        """Check a formula.

        Raises
        ------
        UsageError
            Anything but bands, numbers, the signs and the functions above.
        """
        names, is_test, _ = _read(text)
        if not names:
            raise UsageError(f"The formula '{text}' has no band in it.", _EXAMPLE)
        return cls(text, names, is_test)

    def compute(
        self,
        bands: Mapping[str, Pixels],
        offsets: Mapping[str, float] | None = None,
        most: Mapping[str, float] | None = None,
    ) -> Pixels:
        """Value for arrays of equal shape; what has no value, as 0 / 0, is NaN or infinite.

        A quotient has none where its denominator is less than what rounding leaves of a sum of such terms: that of
        reflectances of 0.05 and -0.05 is not 1e-17.

        Parameters
        ----------
        offsets : mapping, optional
            What was added to make physical values, by band: they are as uncertain as that makes them.
        most : mapping, optional
            The largest size that values of a band can have; looked up in them else.
        """
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            return np.asarray(_read(self.text)[2](_Bands(bands, offsets or {}, most)))


class _Bands(dict[str, Pixels]):
    """Values by band, and how large the numbers were that they are sums of."""

    def __init__(
        self, values: Mapping[str, Pixels], offsets: Mapping[str, float], most: Mapping[str, float] | None = None
    ) -> None:
        super().__init__(values)
        self._offsets, self._largest = offsets, most

    def size(self, name: str) -> Pixels:
        """Size of what a value was made of: itself, and twice the offset in it."""
        return np.asarray(np.abs(self[name]) + 2 * abs(self._offsets.get(name, 0.0)))

    def largest(self) -> _Bands:
        """The largest of each alone."""
        if self._largest is None:
            self._largest = {name: _most(value) for name, value in self.items()}
        return _Bands({name: np.asarray(most) for name, most in self._largest.items()}, self._offsets)


def _most(values: Pixels) -> float:
    """Largest size of some values, NaN apart."""
    if not np.size(values):
        return 0.0
    low, high = (float(ends.reduce(values, axis=None)) for ends in (np.fmin, np.fmax))
    return max(high, -low)


def _folded(join: Callable[[Any, Any], Any], parts: tuple[Any, ...]) -> Any:
    found = parts[0]
    for part in parts[1:]:
        found = join(found, part)
    return found


@lru_cache(maxsize=256)
def _read(text: str) -> tuple[tuple[str, ...], bool, Step]:
    """Bands of a formula, whether it is a test, and what computes it."""
    if len(text) > _MOST_CHARACTERS:
        raise UsageError(f"The formula has {len(text)} characters.", f"{_MOST_CHARACTERS} are the most.")
    try:
        with warnings.catch_warnings():
            # What Python thinks of its literals is nobody's concern here.
            warnings.simplefilter("ignore", SyntaxWarning)
            tree = ast.parse(text.strip(), mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError, OverflowError) as error:
        raise UsageError(f"The formula '{text}' cannot be read.", _EXAMPLE) from error
    names: list[str] = []
    step = _step(tree, text, names, 0)
    return tuple(dict.fromkeys(names)), isinstance(tree, ast.Compare | ast.BoolOp) or _is_not(tree), step


def _is_not(node: ast.AST) -> bool:
    return isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not)


def _step(node: ast.AST, text: str, names: list[str], depth: int) -> Step:
    """What computes a part of a formula; UsageError for what has no place in one."""
    if depth > _MOST_DEPTH:
        raise UsageError("The formula is nested too deeply.", "Write it more simply.")

    def below(part: ast.AST) -> Step:
        return _step(part, text, names, depth + 1)

    match node:
        case ast.Name(id=name):
            names.append(name)
            return lambda bands: bands[name]
        case ast.Constant(value=int() | float() as value) if not isinstance(value, bool):
            number = foreign.number(value)
            if number is None:
                raise UsageError("The formula holds a number beyond all that is meant.", _EXAMPLE)
            return lambda bands: number
        case ast.BinOp(op=op) if type(op) in _BINARY or isinstance(op, ast.Div):
            left, right = below(node.left), below(node.right)
            join = _BINARY.get(type(op))
            return _joined(join, left, right) if join else _divided(left, right, _size(node.right))
        case ast.UnaryOp(op=ast.USub()):
            inner = below(node.operand)
            return lambda bands: -inner(bands)
        case ast.UnaryOp(op=ast.Not()):
            inner = below(node.operand)
            return lambda bands: np.logical_not(inner(bands))
        case ast.Compare(ops=[op], comparators=[right]) if type(op) in _COMPARED:
            return _joined(_COMPARED[type(op)], below(node.left), below(right))
        case ast.BoolOp(op=op, values=values):
            name = "logical_and" if isinstance(op, ast.And) else "logical_or"
            parts = [below(value) for value in values]
            return lambda bands: _folded(getattr(np, name), tuple(part(bands) for part in parts))
        case ast.Call(func=ast.Name(id=name), args=args, keywords=[]):
            return _called(name, [below(arg) for arg in args])
    piece = ast.get_source_segment(text.strip(), node) if isinstance(node, ast.expr) else type(node).__name__
    raise UsageError(
        f"'{piece}' has no place in a formula.",
        f"Use band names, numbers, + - * / and brackets, < <= > >= and or not, {', '.join(_FUNCTIONS)}.",
    )


def _joined(join: Callable[[Any, Any], Any], left: Step, right: Step) -> Step:
    return lambda bands: join(left(bands), right(bands))


_ROUNDING = 8 * 2.0**-52
"""What a few operations in double precision may leave of a sum that is zero, by the size of its terms.

Source: N. J. Higham, Accuracy and Stability of Numerical Algorithms, section 4.2 (2002).
"""
Size = Callable[["_Bands"], Pixels]


def _size(node: ast.AST) -> Size | None:
    """How large the terms of a sum are; None for what is none, whose zero is exact."""
    match node:
        case ast.BinOp(left=left, op=ast.Add() | ast.Sub(), right=right):
            parts = [_terms(left), _terms(right)]
            return lambda bands: parts[0](bands) + parts[1](bands)
        case ast.BinOp(left=left, op=ast.Mult(), right=right) if _size(left) or _size(right):
            factors = [_terms(left), _terms(right)]
            return lambda bands: factors[0](bands) * factors[1](bands)
        case ast.UnaryOp(operand=inner):
            return _size(inner)
        case ast.Name(id=name):
            return lambda bands: bands.size(name)
        case _:
            return None


def _terms(node: ast.AST) -> Size:
    """Size of a part of a sum."""
    size = _size(node)
    if size is not None:
        return size
    if isinstance(node, ast.Constant):
        number = abs(foreign.number(node.value) or 0.0)
        return lambda bands: np.asarray(number)
    step = _step(node, "", [], 0)
    return lambda bands: np.abs(step(bands))


def _divided(left: Step, right: Step, size: Size | None) -> Step:
    def divide(bands: _Bands) -> Pixels:
        below = np.asarray(right(bands))
        if size is None or not below.size:
            return np.asarray(left(bands) / below)
        doubtful = _ROUNDING * size(bands.largest())
        if np.fmin.reduce(below, axis=None) > doubtful or np.fmax.reduce(below, axis=None) < -doubtful:
            return np.asarray(left(bands) / below)
        return np.where(np.abs(below) <= _ROUNDING * size(bands), np.nan, left(bands) / below)

    return divide


def _called(name: str, parts: list[Step]) -> Step:
    if name not in _FUNCTIONS:
        raise UnknownNameError.of("function", name, tuple(_FUNCTIONS))
    function, least, most = _FUNCTIONS[name]
    if not least <= len(parts) <= most:
        wanted = str(least) if least == most else f"{least} to {most}"
        raise UsageError(f"{name} takes {wanted} values, not {len(parts)}.", _EXAMPLE)
    return lambda bands: function(*(part(bands) for part in parts))
