"""Kinds of arrays as annotations name them; nothing is loaded for them."""

from __future__ import annotations

from typing import Any, TypeAlias

from zoompick.later import np, npt

Pixels: TypeAlias = "npt.NDArray[Any]"
"""Stored values of any type, shape (bands, rows, cols) where nothing else is said."""
Mask: TypeAlias = "npt.NDArray[np.bool_]"
Floats: TypeAlias = "npt.NDArray[np.float64]"
Counts: TypeAlias = "npt.NDArray[np.int64]"
Numbers: TypeAlias = "npt.NDArray[Any]"
"""Values of any type that are no pixels."""
