"""Row hashes of SQLite tables: of the rows as they lie in the file, or as SQLite gives them."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from splarn.core import kernel
from splarn.core.target.hashing import RowSum
from splarn.core.target.marks import Marks
from splarn.engines.sql.link import Link
from splarn.engines.sqlite.stored import TableShape

# Arguments that a function of SQLite takes at most, and fewer.
MOST_CELLS = 100
_EVERY = ((-sys.maxsize - 1, sys.maxsize),)
# Files that were opened, by device and inode. They are never closed: that would drop the locks that
# SQLite holds on them for this process (SQLite documentation, "How To Corrupt", 2.2).
_OPEN: dict[tuple[int, int], int] = {}


class SqliteHasher:
    """Hashes rows as SQLite stores them in a table."""

    def __init__(self, shape: TableShape, names: Sequence[str]) -> None:
        self.shape, self.names = shape, list(names)

    def sum_of(self, rows: Any) -> RowSum | None:
        """See RowHasher."""
        sources = self.shape.sources(rows, self.names)
        total = None if sources is None else kernel.cell_hashes(len(rows), sources)
        return None if total is None else RowSum(len(rows), total)


def of_file(link: Link, table: str, names: Sequence[str], marks: Marks | None) -> RowSum | None:
    """The sum of a table's row hashes, read from the file itself.

    None where the file need not be what the open transaction sees, or holds the table in a way that
    is not read here: SQLite is to be asked then.
    """
    link.begin()
    driver = link.driver
    if driver.total_changes:
        return None
    found = driver.execute(
        "SELECT rootpage, sql FROM main.sqlite_master WHERE type = 'table' AND name = ? "
        "COLLATE NOCASE",
        (table,),
    ).fetchone()
    if found is None or "without rowid" in found[1].lower() or " desc" in found[1].lower():
        return None
    (mode,), (encoding,), (size,) = (
        driver.execute(f"PRAGMA main.{name}").fetchone()
        for name in ("journal_mode", "encoding", "page_size")
    )
    columns = driver.execute(f"PRAGMA main.table_xinfo({link.quoted(table)})").fetchall()
    if mode not in ("delete", "truncate", "persist") or encoding != "UTF-8":
        return None
    if any(column[6] for column in columns):
        return None
    places = {column[1]: place for place, column in enumerate(columns)}
    keys = [place for place, column in enumerate(columns) if column[5]]
    own = keys[0] if len(keys) == 1 and columns[keys[0]][2].upper() == "INTEGER" else -1
    where = next(row[2] for row in driver.execute("PRAGMA database_list") if row[1] == "main")
    file = _opened(Path(where))
    # What is left free at the end of each page.
    kept = os.pread(file, 1, 20)
    if not kept:
        return None
    order = tuple(places[name] for name in names)
    total = RowSum()
    for first, last in _EVERY if marks is None else marks:
        some = kernel.sqlite_hashes(
            file, found[0], size, size - kept[0], len(columns), own, order, first, last
        )
        if some is None:
            return None
        total = total.plus(RowSum(*some))
    return total


def _opened(path: Path) -> int:
    about = path.stat()
    key = about.st_dev, about.st_ino
    if key not in _OPEN:
        _OPEN[key] = os.open(path, os.O_RDONLY)
    return _OPEN[key]
