"""Whether the footer of a Parquet file can be looked at alive: asked in a process of its own, once for each file.

Where a footer's column chunks contradict its schema, the library beneath ends the whole interpreter in place of an
error (an exception of C++ that finds no way out of a function). What such a file does, it does to a child.
"""

from __future__ import annotations

import hashlib
import subprocess
import sys
import tempfile
from pathlib import Path

from zoompick import cache
from zoompick.bytesource import ByteSource
from zoompick.errors import FormatError
from zoompick.settings import cache_folder

_TAIL = 8
"""Length of the footer, and the file's mark (Parquet format, File Format)."""
_MOST_FOOTER = 256 << 20
_SECONDS = 120
_LOOK = """
import sys
import pyarrow.parquet as parquet
told = parquet.read_metadata(sys.argv[1])
for number in range(told.num_row_groups):
    group = told.row_group(number)
    for place in range(group.num_columns):
        group.column(place).statistics
"""


def refuse_deadly(place: Path | ByteSource) -> None:
    """Refuse a file whose footer would end this process.

    Raises
    ------
    FormatError
        It is no Parquet file, or is damaged in its footer.
    """
    if isinstance(place, Path):
        state = place.stat()
        address, told = str(place), f"{place.resolve()} {state.st_size} {state.st_mtime_ns}"
    else:
        address, told = place.address, " ".join(map(str, place.identity))
    seen = cache_folder() / "footprints" / f"{hashlib.sha256(told.encode()).hexdigest()[:24]}.looked-at"
    if seen.exists():
        cache.use(seen)
        return
    why = _fault_in(place) if isinstance(place, Path) else _fault_there(place)
    if why:
        raise FormatError(f"{address} is not GeoParquet that can be read: {why}.", "Make it again.")
    seen.parent.mkdir(parents=True, exist_ok=True)
    seen.touch()


def _fault_there(source: ByteSource) -> str:
    """What is wrong with the footer of a file elsewhere, by a file here that is empty but for its two ends."""
    tail = source.read(max(0, source.size - _TAIL), _TAIL)
    length = int.from_bytes(tail[:4], "little") if tail[4:] == b"PAR1" else -1
    if not 0 <= length <= min(_MOST_FOOTER, source.size - _TAIL):
        return "its end tells no footer"
    with tempfile.NamedTemporaryFile(suffix=".parquet") as copy:
        copy.write(source.read(0, 4))
        copy.seek(source.size - _TAIL - length)
        copy.write(source.read(source.size - _TAIL - length, length + _TAIL))
        copy.flush()
        return _fault_in(Path(copy.name))


def _fault_in(path: Path) -> str:
    """What is wrong with a footer; empty for nothing."""
    command = [sys.executable, "-c", _LOOK, str(path)]
    try:
        done = subprocess.run(command, capture_output=True, timeout=_SECONDS, check=False)
    except subprocess.TimeoutExpired:
        return "nobody can read its footer in good time"
    if done.returncode:
        last = done.stderr.decode("utf-8", "replace").strip().splitlines()[-1:]
        return f"its footer is damaged ({last[0][:160] if last else 'no reason is told'})"
    return ""
