"""HDF5 files of the archive; a netCDF-4 file is one whose datasets know their dimensions."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import h5py


@dataclass(frozen=True)
class Variable:
    """One dataset: its values, the names of its dimensions, its attributes."""

    values: Any
    dimensions: tuple[str, ...]
    attributes: Mapping[str, Any] = field(default_factory=dict)


def write_container(path: Path, variables: Mapping[str, Variable], attributes: Mapping[str, Any]) -> None:
    """Write variables by path (``group/name``), dimensions as HDF5 dimension scales.

    A variable named as its only dimension is that dimension's coordinate; it stands before those that have it.

    Source: netCDF-4 as HDF5 (NetCDF User's Guide, appendix "File format specifications").
    """
    with h5py.File(path, "w", track_order=True, libver="v110") as file:
        file.attrs.update(attributes)
        for name, variable in variables.items():
            place = file.require_group(name.rpartition("/")[0] or "/")
            lengths = dict(zip(variable.dimensions, variable.values.shape, strict=True))
            for dimension, length in lengths.items():
                if dimension in variables:
                    continue
                if dimension not in place:
                    scale = place.create_dataset(dimension, data=range(length), dtype="i4", track_times=False)
                    scale.make_scale(dimension)
            data = file.create_dataset(
                name, data=variable.values, chunks=True, compression="gzip", compression_opts=4, track_times=False
            )
            data.attrs.update(variable.attributes)
            if variable.dimensions == (name,):
                data.make_scale(name)
                continue
            for number, dimension in enumerate(variable.dimensions):
                data.dims[number].attach_scale(place[dimension])
