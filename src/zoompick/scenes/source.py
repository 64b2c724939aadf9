"""A place that offers scenes."""

from __future__ import annotations

from dataclasses import dataclass

from zoompick.addresses import is_remote
from zoompick.net.authority import Authority, Purpose
from zoompick.net.vault import joined


@dataclass(frozen=True, slots=True)
class Source:
    """A place that offers scenes.

    Attributes
    ----------
    url : str
        Landing page, root catalog, or the path of a file.
    kind : str
        One of :data:`~zoompick.scenes.sourcekinds.KINDS`.
    day : str
        Date of footprints whose file tells none.
    """

    name: str
    url: str
    kind: str = "stac-api"
    day: str = ""

    @property
    def is_web(self) -> bool:
        """True for an address, False for the path of a file."""
        return is_remote(self.url)

    @property
    def whole_url(self) -> str:
        """Its address with the secrets that are kept for it."""
        return joined(self.url, self.name) if self.is_web else self.url

    def authority(self, purpose: Purpose) -> Authority | None:
        """On its behalf, for a purpose; None for a file."""
        return Authority(self.name, self.url, purpose) if self.is_web else None
