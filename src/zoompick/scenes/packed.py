"""An SQLite R*Tree written as a whole: nodes packed full in the order given, much faster than one insert a row.

Source: SQLite documentation, "The SQLite R*Tree Module", section 4.2 (shadow tables), and the node format described
at the head of its source, ``ext/rtree/rtree.c``: two bytes of depth (root only), two bytes of count, then cells of a
64-bit number and 32-bit floats, all big-endian.
"""

from __future__ import annotations

from zoompick.arrays import Floats, Numbers
from zoompick.later import np, npt, sqlite3

_ROOT = 1
_MOST_CELLS = 51


def fill(database: sqlite3.Connection, table: str, edges: Floats) -> None:
    """Fill an empty R*Tree; rows are numbered from 0.

    Parameters
    ----------
    table : str
        Name of the virtual table.
    edges : float64, shape (rows, 2 * dimensions)
        Lower and upper end in each dimension in turn, neighbours close together.
    """
    dimensions = edges.shape[1] // 2
    size = database.execute(f"SELECT length(data) FROM {table}_node WHERE nodeno = {_ROOT}").fetchone()[0]
    cell = np.dtype([("number", ">i8"), ("ends", ">f4", 2 * dimensions)])
    fits = min(_MOST_CELLS, (size - 4) // cell.itemsize)
    level = np.empty(len(edges), cell)
    level["number"] = np.arange(len(edges))
    level["ends"] = _outwards(edges)
    first, depth = _ROOT + 1, 0
    while len(level) > fits:
        owners = np.arange(len(level)) // fits + first
        children = "rowid" if depth == 0 else "parent"
        columns = "(rowid, nodeno)" if depth == 0 else "(nodeno, parentnode)"
        database.executemany(
            f"INSERT INTO {table}_{children} {columns} VALUES (?, ?)",
            zip(level["number"].tolist(), owners.tolist(), strict=True),
        )
        level, first = _write_nodes(database, table, level, fits, size, first), int(owners[-1]) + 1
        depth += 1
    children = "rowid (rowid, nodeno)" if depth == 0 else "parent (nodeno, parentnode)"
    database.executemany(
        f"INSERT INTO {table}_{children} VALUES (?, {_ROOT})", ((number,) for number in level["number"].tolist())
    )
    data = _node(level, size, depth)
    database.execute(f"UPDATE {table}_node SET data = ? WHERE nodeno = {_ROOT}", (data,))


def _outwards(edges: Floats) -> npt.NDArray[np.float32]:
    """Rounded to 32 bits so that every box still holds what it held."""
    rounded = edges.astype(np.float32)
    lower, upper = rounded[:, 0::2], rounded[:, 1::2]
    lower[...] = np.where(lower > edges[:, 0::2], np.nextafter(lower, np.float32(-np.inf)), lower)
    upper[...] = np.where(upper < edges[:, 1::2], np.nextafter(upper, np.float32(np.inf)), upper)
    return rounded


def _write_nodes(
    database: sqlite3.Connection, table: str, level: Numbers, fits: int, size: int, first: int
) -> Numbers:
    """Write one level's nodes; returns the cells of the level above."""
    starts = np.arange(0, len(level), fits)
    nodes = ((first + n, _node(level[start : start + fits], size, 0)) for n, start in enumerate(starts.tolist()))
    database.executemany(f"INSERT INTO {table}_node (nodeno, data) VALUES (?, ?)", nodes)
    above = np.empty(len(starts), level.dtype)
    above["number"] = np.arange(first, first + len(starts))
    ends = level["ends"].astype(np.float32)
    above["ends"][:, 0::2] = np.minimum.reduceat(ends[:, 0::2], starts)
    above["ends"][:, 1::2] = np.maximum.reduceat(ends[:, 1::2], starts)
    return above


def _node(cells: Numbers, size: int, depth: int) -> bytes:
    data = depth.to_bytes(2, "big") + len(cells).to_bytes(2, "big") + cells.tobytes()
    return bytes(data.ljust(size, b"\0"))
