"""Which bands a scene's files hold, read from the assets of its item, STAC 1.1 or 1.0."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from zoompick import foreign
from zoompick.errors import SourceError
from zoompick.files import sha256_of_multihash
from zoompick.jsontypes import JsonMap
from zoompick.net.links import address_of, has_role, joined

CLASS_BAND = "classes"
_RASTERS, _CONTAINERS = ("tiff", "jp2", "j2k"), ("hdf", "netcdf")
_FORMATS = {
    "geotiff": ("tiff", "tif"), "hdf5": ("hdf", "h5"), "netcdf": ("netcdf", "nc"), "jpeg2000": ("jp2", "j2k"),
    "grib": ("grib", "grb"), "zarr": ("zarr",),
}  # fmt: skip
"""Formats of bands, by words of which a media type has one; the words are also what people call them."""


@dataclass(frozen=True, slots=True)
class BandFile:
    """One band of a scene and the file that holds it.

    Attributes
    ----------
    name : str
        Common name; ``classes`` for the class layer.
    href : str
        Absolute address.
    size : int or None
        Bytes of the file, where the item tells.
    sha256 : str or None
        Hexadecimal, where the item tells.
    scale, offset : float
        Physical value = stored value * scale + offset.
    is_scaled : bool
        The item tells scale or offset.
    pixel_m : float or None
    classes : tuple of mapping
        ``classification:classes`` of a class layer, or its ``classification:bitfields``.
    index : int
        Place among the bands of a raster file, from 0.
    is_container : bool
        The file is an HDF5 or netCDF container, not a raster file.
    key : str
        Key of its asset.
    nodata : float or None
        Value of a missing pixel, where the item tells one: for files of formats that have no place for it.
    own : str
        What the instrument's people call it, where that is told: its name inside a container.
    wavelength_um, width_um : float or None
        Centre and full width at half maximum, in micrometres, where the item tells.
    """

    name: str
    href: str
    size: int | None = None
    sha256: str | None = None
    scale: float = 1.0
    offset: float = 0.0
    is_scaled: bool = False
    pixel_m: float | None = None
    classes: tuple[JsonMap, ...] = ()
    index: int = 0
    is_container: bool = False
    key: str = ""
    nodata: float | None = None
    own: str = ""
    wavelength_um: float | None = None
    width_um: float | None = None


def bands_of(item: JsonMap, form: str = "") -> dict[str, BandFile]:
    """Band files by common name; the first of a name counts. What is no data is left out.

    Parameters
    ----------
    form : str
        Only files of this format (see :func:`format_called`); by default rasters and containers.
    """
    found: dict[str, BandFile] = {}
    second: dict[str, BandFile] = {}
    for key, asset, href in _assets(item):
        kind = str(asset.get("type", ""))
        is_container = any(word in kind for word in _CONTAINERS)
        is_wanted = _format_of(asset) == form if form else any(word in kind for word in _RASTERS) or is_container
        if not has_role(asset, "data") or not is_wanted:
            continue
        # Where a band comes as GeoTIFF too, that one is meant.
        kept = second if not form and _format_of(asset) == "jpeg2000" else found
        for band in _of_asset(key, asset, href, is_container):
            kept.setdefault(band.name, band)
    return found | {name: band for name, band in second.items() if name not in found}


def band_words(item: JsonMap) -> frozenset[str]:
    """All names by which bands of a scene can be meant: common ones, the instrument's own, those of assets."""
    return frozenset(
        word for key, asset, href in _assets(item) if has_role(asset, "data")
        for band in _of_asset(key, asset, href, False) for word in (band.name, band.own, band.key) if word
    )  # fmt: skip


def formats_of(item: JsonMap) -> list[str]:
    """Formats that a scene's bands are offered in, each once."""
    data = (asset for _, asset, _ in _assets(item) if has_role(asset, "data"))
    return [form for form in dict.fromkeys(map(_format_of, data)) if form]


def format_called(word: str) -> str:
    """The name here of a format that people call ``word``: ``tif``, ``GeoTIFF``, ``h5``; empty for none."""
    small = word.strip().lower().removeprefix(".")
    return next((name for name, words in _FORMATS.items() if small == name or small in words), "")


def _format_of(asset: JsonMap) -> str:
    kind = str(asset.get("type", "")).lower()
    return next((name for name, words in _FORMATS.items() if any(word in kind for word in words)), "")


def files_of(item: JsonMap, form: str = "") -> dict[str, BandFile]:
    """All files of a scene: those of its bands (in one format) by band, the others by the key of their asset."""
    found = bands_of(item, form)
    known = {band.href for band in found.values()}
    for key, asset, href in _assets(item):
        file = next(_of_asset(key, asset, href, False))
        if file.href not in known and key not in found:
            found[key] = replace(file, name=key)
    return found


def self_address(item: JsonMap) -> str:
    """The item's own address, to which others in it are relative; empty when it tells none."""
    return address_of(item, "self")


def _assets(item: JsonMap) -> Iterator[tuple[str, JsonMap, str]]:
    """Key, asset and absolute address of each asset whose address can be one."""
    base, assets = self_address(item), item.get("assets")
    for key, asset in (assets if isinstance(assets, dict) else {}).items():
        if isinstance(asset, dict) and isinstance(asset.get("href"), str):
            try:
                href = joined(base, asset["href"])
            except SourceError:
                continue
            yield key, asset, href


def _of_asset(key: str, asset: JsonMap, href: str, is_container: bool) -> Iterator[BandFile]:
    """Names, scales and sizes as STAC 1.1 writes them, else as ``eo:bands`` and ``raster:bands`` of 1.0."""
    lists = [_objects(asset.get(name)) for name in ("bands", "eo:bands", "raster:bands")]
    count = max(1, *map(len, lists))
    checksum, size = asset.get("file:checksum"), asset.get("file:size")
    for index in range(count):
        band, optical, raster = (entries[index] if index < len(entries) else {} for entries in lists)
        told = (one.get(f"classification:{kind}") for kind in ("classes", "bitfields") for one in (asset, band))
        classes = next((one for one in told if isinstance(one, list) and one), ())
        common = band.get("eo:common_name") or optical.get("common_name")
        scale = _first_number(band.get("raster:scale"), asset.get("raster:scale"), raster.get("scale"))
        offset = _first_number(band.get("raster:offset"), asset.get("raster:offset"), raster.get("offset"))
        # One band to a file is often named by the asset alone.
        own = (band.get("name") or optical.get("name")) if count > 1 or is_container else None
        yield BandFile(
            name=CLASS_BAND if classes else str(common or own or key),
            href=href,
            size=foreign.whole(size),
            sha256=sha256_of_multihash(checksum) if isinstance(checksum, str) else None,
            scale=1.0 if scale is None else scale,
            offset=0.0 if offset is None else offset,
            is_scaled=scale is not None or offset is not None,
            pixel_m=foreign.number(band.get("gsd") or asset.get("gsd")),
            classes=tuple(entry for entry in classes if isinstance(entry, dict)),
            index=index,
            is_container=is_container,
            key=key,
            own=str(band.get("name") or optical.get("name") or ""),
            nodata=_first_number(band.get("nodata"), asset.get("nodata"), raster.get("nodata")),
            wavelength_um=_first_number(band.get("eo:center_wavelength"), optical.get("center_wavelength")),
            width_um=_first_number(band.get("eo:full_width_half_max"), optical.get("full_width_half_max")),
        )


def _objects(value: object) -> list[JsonMap]:
    """The objects of a list, anything else in it as an empty one; no list is an empty one."""
    return [entry if isinstance(entry, dict) else {} for entry in value] if isinstance(value, list) else []


def _first_number(*values: object) -> float | None:
    return next((number for number in map(foreign.number, values) if number is not None), None)
