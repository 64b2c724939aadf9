"""A guess: layers of few small whole numbers, of which nothing tells what they are, are taken for classes."""

from __future__ import annotations

from zoompick.later import np
from zoompick.raster.grid import Window
from zoompick.raster.raster import valid_mask
from zoompick.scenes.deliveries import Layer
from zoompick.sensors.classes import few_codes
from zoompick.sensors.guide import known_bands

_SIDE_PX, _PLACES = 128, 3
GUESS = "guess"


def guessed_codes(layer: Layer) -> tuple[int, ...]:
    """The codes of a layer that looks like classes; none for one of which something tells what it is.

    Squares over the raster are looked at: values of 2 to 16 whole numbers from 0 to 255, without a scale, a unit, a
    wavelength or the name of a band.
    """
    raster, band = layer.raster, layer.raster.bands[0]
    told = band.unit or band.wavelength_um or (band.scale, band.offset) != (1.0, 0.0)
    if layer.is_class or told or layer.name in known_bands() or raster.dtype.itemsize > np.dtype(np.int32).itemsize:
        return ()
    found: set[float] = set()
    grid = raster.grid
    for down in range(_PLACES):
        for right in range(_PLACES):
            col, row = (round((size - _SIDE_PX) * place / (_PLACES - 1)) for size, place in
                        ((grid.width, right), (grid.height, down)))  # fmt: skip
            pixels = raster.read(Window(max(0, col), max(0, row), _SIDE_PX, _SIDE_PX).intersect(grid.window))[0]
            found |= set(np.unique(pixels[valid_mask(pixels, raster.nodata)]).tolist())
            if len(found) > 1 and not few_codes(np.array(sorted(found))):
                return ()
    return few_codes(np.array(sorted(found)))


def told(name: str, codes: tuple[int, ...]) -> str:
    """The guess in a sentence, and what undoes it."""
    shown = ", ".join(map(str, codes[:8])) + (" …" if len(codes) > 8 else "")
    return (
        f"{name} holds few small whole numbers ({shown}) and nothing tells what they are: it is taken for classes, "
        f"which are never averaged. `resampling` {name}=bilinear takes it for measurements."
    )
