"""Scales of colours that people with any kind of colour vision can read."""

from __future__ import annotations

COLOURS = {
    "viridis": "viridis", "cividis": "cividis", "magma": "magma", "grey": "gray", "brown-green": "BrBG",
    "red-blue": "RdBu",
}  # fmt: skip
"""By what they are called here: what the library that draws calls them."""
