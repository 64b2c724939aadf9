"""Whether a product is up to date: made in the same way of the same inputs, and unchanged since."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from zoompick.addresses import is_remote
from zoompick.files import multihash_of
from zoompick.products.step import Step
from zoompick.scenes import fetched as record
from zoompick.scenes.sidecar import Origin, read_sidecar

if TYPE_CHECKING:
    from zoompick.raster.codec import Codec


def is_current(
    step: Step, origin: Origin, digest: Callable[[Path], str] = multihash_of, codec: Codec | None = None
) -> bool:
    """True when the output and its companions are there, unchanged since they were made in the same way.

    Parameters
    ----------
    codec : Codec, optional
        What the output must be pressed with; with another it shows the same, so that it counts without this.
    """
    recorded = read_sidecar(step.output)
    if recorded is None or recorded.fingerprint != origin.fingerprint:
        return False
    if codec is not None and type(codec).of_text(recorded.codec) != codec:
        return False
    if not all(path.is_file() for path in (step.output, *step.companions)):
        return False
    if step.output.stat().st_size != recorded.size or digest(step.output) != recorded.multihash:
        return False
    return all(digest(path) == recorded.companions.get(path.name) for path in step.companions)


def digest_of(path: Path, digest: Callable[[Path], str] = multihash_of) -> str:
    """Multihash of an input: of a checked download from its record, else computed; of a member its archive's.

    Of what lies elsewhere its state: size and entity tag.
    """
    if is_remote(path):
        from zoompick.scenes.opening import state_of

        return state_of(path)
    outer, mark, _ = str(path).rpartition("#")
    if mark and not path.exists():
        return digest(Path(outer))
    fetched = record.read(path.parent).get(path.name)
    if fetched is not None and record.is_as_recorded(path, fetched):
        return fetched.multihash
    if digest is multihash_of:
        from zoompick.scenes.opening import open_raster

        open_raster(path)
    return digest(path)
