"""Addresses of files asked for again: signed ones end, and their secrets are not kept with the scenes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from zoompick.addresses import is_remote
from zoompick.errors import SourceError
from zoompick.net.authority import Purpose
from zoompick.net.client import Client
from zoompick.scenes.fetchplan import Fetch, file_of
from zoompick.scenes.scene import Scene


def renewed(item: str, band: str, client: Client, form: str = "") -> str | None:
    """Today's address of a scene's file, from its item at its source; None where that does not tell.

    Parameters
    ----------
    item : str
        Address of the item.
    client : Client
        The session that fetches the file on behalf of its source.
    form : str
        Format that the bands are wanted in.
    """
    if not is_remote(item):
        return None
    by = client.authority
    asking = client.acting(replace(by, purpose=Purpose.SEARCH) if by else None)
    try:
        fresh = replace(Scene.from_item(asking.json(item)), form=form)
    except (SourceError, AttributeError):
        return None
    file = file_of(fresh, band)
    return file.href if file else None


def renewing(scenes: Sequence[Scene], client: Client) -> Callable[[Fetch], str | None]:
    """The same for the files of a download."""
    known = {scene.key: scene for scene in scenes}

    def renew(entry: Fetch) -> str | None:
        scene = known.get(entry.key)
        if scene is None:
            return None
        return renewed(scene.address, entry.band, client.on_behalf(scene.source), scene.form)

    return renew
