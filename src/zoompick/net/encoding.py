"""Content encodings: what is compressed for the way is undone within bounds, or refused by name.

Source: RFC 9110, section 8.4 (Content-Encoding); RFC 1950 and 1952 (zlib and gzip).
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator, Mapping

from zoompick.addresses import public
from zoompick.errors import SourceError
from zoompick.net.refusals import TransientError

ACCEPTED = "gzip"
"""Asked for documents; files are asked for as they are."""
_KNOWN = ("gzip", "x-gzip", "deflate")
_STEP = 1 << 20
_FREE_BYTES, _MOST_RATIO = 8 << 20, 250
"""A body that swells beyond the first may be no more than so many times what came: no document is that even."""


def encoding_of(headers: Mapping[str, str]) -> str:
    """The content encoding of an answer; empty for none."""
    told = headers.get("Content-Encoding", "").strip().lower()
    return "" if told == "identity" else told


def refuse_encoded(headers: Mapping[str, str], url: str) -> None:
    """Refuse a part of a file in an encoding: its bytes are at other places than were asked for.

    Raises
    ------
    SourceError
    """
    encoding = encoding_of(headers)
    if encoding:
        raise SourceError(
            f"{public(url)} is sent in the encoding {encoding}, though it was asked for as it is: no part of it can "
            "be read alone.",
            "Download it whole: 'zoompick download' with `whole`.",
        )


def inflated(chunks: Iterable[bytes], encoding: str, url: str, most: int | None = None) -> Iterator[bytes]:
    """A body without its encoding, in pieces; whole or an error.

    Parameters
    ----------
    most : int, optional
        Bytes that it may have at most.

    Raises
    ------
    SourceError
        Another encoding, no such stream, or one that swells beyond all reason.
    TransientError
        It ends early.
    """
    if encoding not in _KNOWN:
        what = f"{public(url)} is sent in the encoding {encoding}, which was not asked for."
        raise SourceError(what, "Tell those who run it.")
    stream = zlib.decompressobj(wbits=47 if "gzip" in encoding else 15)
    came = made = 0
    try:
        for chunk in chunks:
            came += len(chunk)
            data = chunk
            while data and not stream.eof:
                piece = stream.decompress(data, _STEP)
                data, made = stream.unconsumed_tail, made + len(piece)
                if (most is not None and made > most) or made > max(_FREE_BYTES, _MOST_RATIO * came):
                    raise SourceError(
                        f"{public(url)} swells from {came} to over {made} bytes when it is unpacked.",
                        "It was not kept. Tell the people who run the source.",
                    )
                if piece:
                    yield piece
    except zlib.error as error:
        what = f"{public(url)} is announced as {encoding}, and does not unpack: {error}."
        raise SourceError(what, "Tell those who run it.") from error
    if not stream.eof:
        raise TransientError(f"{public(url)} ended before its {encoding} stream did.", "Try again.")
