"""Arithmetic on bands from a text, without ever running it as a program."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from zoompick.errors import UsageError
from zoompick.raster.raster import Pixels

_BINARY: dict[type, Callable[[Any, Any], Any]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}
_MOST_CHARACTERS, _MOST_DEPTH = 2000, 40


@dataclass(frozen=True)
class Formula:
    """Sums, differences, products and quotients of bands and numbers.

    Attributes
    ----------
    text : str
    bands : tuple of str
        Band names in it, in order of appearance.
    """

    text: str
    bands: tuple[str, ...]

    @classmethod
    def parse(cls, text: str) -> Formula:
        """Check a formula.

        Raises
        ------
        UsageError
            Anything but bands, numbers, + - * / and brackets.
        """
        if len(text) > _MOST_CHARACTERS:
            raise UsageError(f"The formula has {len(text)} characters.", f"{_MOST_CHARACTERS} are the most.")
        tree = _tree(text)
        names: list[str] = []
        _check(tree, text, names, 0)
        if not names:
            raise UsageError(f"The formula '{text}' has no band in it.", "As (nir - red) / (nir + red).")
        return cls(text, tuple(dict.fromkeys(names)))

    def compute(self, bands: Mapping[str, Pixels]) -> Pixels:
        """Value for arrays of equal shape; a division by zero gives NaN or infinity."""
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            return np.asarray(_value(_tree(self.text), bands))


def _tree(text: str) -> ast.expr:
    try:
        return ast.parse(text, mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        raise UsageError(f"The formula '{text}' cannot be read.", "As (nir - red) / (nir + red).") from error


def _check(node: ast.AST, text: str, names: list[str], depth: int) -> None:
    if depth > _MOST_DEPTH:
        raise UsageError("The formula is nested too deeply.", "Write it more simply.")
    if isinstance(node, ast.Name):
        names.append(node.id)
    elif isinstance(node, ast.BinOp) and type(node.op) in _BINARY:
        _check(node.left, text, names, depth + 1)
        _check(node.right, text, names, depth + 1)
    elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        _check(node.operand, text, names, depth + 1)
    elif not (isinstance(node, ast.Constant) and type(node.value) in (int, float)):
        piece = ast.get_source_segment(text, node) if isinstance(node, ast.expr) else type(node).__name__
        raise UsageError(f"'{piece}' has no place in a formula.", "Use band names, numbers, + - * / and brackets.")


def _value(node: ast.expr, bands: Mapping[str, Pixels]) -> Any:
    if isinstance(node, ast.Name):
        return bands[node.id]
    if isinstance(node, ast.BinOp):
        return _BINARY[type(node.op)](_value(node.left, bands), _value(node.right, bands))
    if isinstance(node, ast.UnaryOp):
        return -_value(node.operand, bands)
    assert isinstance(node, ast.Constant)
    return node.value
