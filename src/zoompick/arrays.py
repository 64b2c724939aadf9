"""Kinds of arrays as annotations name them; nothing is loaded for them.

``Pixels`` are stored values of any type, shape (bands, rows, cols) where nothing else is said; ``Numbers`` values of
any type that are no pixels; ``PixelType`` is the type of stored values.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Pixels = npt.NDArray[Any]
    Numbers = npt.NDArray[Any]
    Mask = npt.NDArray[np.bool_]
    Floats = npt.NDArray[np.float64]
    Counts = npt.NDArray[np.int64]
    PixelType = np.dtype[Any]
else:
    Pixels = Numbers = Mask = Floats = Counts = PixelType = Any
