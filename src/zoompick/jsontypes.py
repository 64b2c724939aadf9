"""Kinds of JSON values, for annotations: what is written here, and what others wrote, of which nothing is certain."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

JsonObject = dict[str, Any]
"""An object that is put together here."""
JsonMap = Mapping[str, Any]
"""An object that is only read: of a catalogue, a record, a brief."""
