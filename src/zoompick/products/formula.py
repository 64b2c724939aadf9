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
    ast.Div: operator.truediv,
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
Step = Callable[[Mapping[str, Pixels]], Any]


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

    def compute(self, bands: Mapping[str, Pixels]) -> Pixels:
        """Value for arrays of equal shape; what has no value, as 0 / 0, is NaN or infinite."""
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            return np.asarray(_read(self.text)[2](bands))


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
        case ast.BinOp(op=op) if type(op) in _BINARY:
            return _joined(_BINARY[type(op)], below(node.left), below(node.right))
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
        case _:
            pass
    piece = ast.get_source_segment(text.strip(), node) if isinstance(node, ast.expr) else type(node).__name__
    raise UsageError(
        f"'{piece}' has no place in a formula.",
        f"Use band names, numbers, + - * / and brackets, < <= > >= and or not, {', '.join(_FUNCTIONS)}.",
    )


def _joined(join: Callable[[Any, Any], Any], left: Step, right: Step) -> Step:
    return lambda bands: join(left(bands), right(bands))


def _called(name: str, parts: list[Step]) -> Step:
    if name not in _FUNCTIONS:
        raise UnknownNameError.of("function", name, tuple(_FUNCTIONS))
    function, least, most = _FUNCTIONS[name]
    if not least <= len(parts) <= most:
        wanted = str(least) if least == most else f"{least} to {most}"
        raise UsageError(f"{name} takes {wanted} values, not {len(parts)}.", _EXAMPLE)
    return lambda bands: function(*(part(bands) for part in parts))
