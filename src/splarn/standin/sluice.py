"""Sluice, a simulated engine that takes statements: a driver of the interface of PEP 249.

It is there to be described. Its tables lie in an SQLite file and its SQL is SQLite's, and beside
that it knows what most rented engines do:

    TAKE IN 'path' INTO table (columns) [TAGGED 'name']   brings a file of delimited text in, whole
    RESIZE TO 'u3'                                        gives its compute another size

Each statement is committed by itself. What was taken in is in its table `sluice_history` (path,
tag, row_count, queued, started, finished), and its size in `sluice_size` (tier, state). It takes in
a million rows a second for each unit of its size, or as many as `rows_a_second` says.
"""

from __future__ import annotations

import csv
import re
import sqlite3
import time
from pathlib import Path
from typing import Any

apilevel, threadsafety, paramstyle = "2.0", 1, "qmark"

# What is going to happen to the next files that are taken in, for tests: `lost` (it comes in, and
# the reply is lost), `refused` (nothing comes, nor does a reply), `torn` (half of it comes).
FAULTS: list[str] = []

_TAKE = re.compile(
    r"TAKE\s+IN\s+'(?P<path>(?:[^']|'')*)'\s+INTO\s+(?P<table>.+?)\s*\((?P<columns>.*?)\)"
    r"(?:\s+TAGGED\s+'(?P<tag>(?:[^']|'')*)')?\s*;?\s*$",
    re.IGNORECASE | re.DOTALL,
)
_RESIZE = re.compile(r"RESIZE\s+TO\s+'u(?P<units>[0-9]+)'\s*;?\s*$", re.IGNORECASE)
_OWN = """
CREATE TABLE IF NOT EXISTS sluice_history (path, tag, row_count, queued, started, finished);
CREATE TABLE IF NOT EXISTS sluice_size (tier, state);
INSERT INTO sluice_size SELECT 'u1', 'running' WHERE NOT EXISTS (SELECT 1 FROM sluice_size);
"""


class Error(Exception):
    """Whatever it raises."""


class OperationalError(Error):
    """The connection or the server."""


class ProgrammingError(Error):
    """The statement."""


class Cursor:
    """See PEP 249."""

    def __init__(self, link: sqlite3.Connection, rate: float, silent: bool) -> None:
        self._cursor, self._rate, self._silent = link.cursor(), rate, silent
        self._changed = -1

    @property
    def rowcount(self) -> int:
        """See PEP 249; many drivers do not tell."""
        return -1 if self._silent else self._changed

    @property
    def description(self) -> Any:
        """See PEP 249."""
        return self._cursor.description

    def execute(self, statement: str, given: Any = ()) -> None:
        """See PEP 249."""
        text = statement.strip()
        take, resize = _TAKE.match(text), _RESIZE.match(text)
        try:
            if take is not None:
                self._take(*(take[name] for name in ("path", "table", "columns", "tag")))
            elif resize is not None:
                tier = f"u{resize['units']}"
                self._cursor.execute("UPDATE sluice_size SET tier = ?", (tier,))
            else:
                self._cursor.execute(statement, given)
                self._changed = self._cursor.rowcount
        except (sqlite3.Error, OSError, UnicodeDecodeError) as error:
            raise ProgrammingError(str(error)) from None

    def _take(self, path: str, table: str, columns: str, tag: str | None) -> None:
        fault = FAULTS.pop(0) if FAULTS else ""
        if fault == "refused":
            raise OperationalError("the connection was closed")
        queued = time.time()
        with Path(path.replace("''", "'")).open(newline="", encoding="utf-8") as file:
            rows = [[value or None for value in row] for row in csv.reader(file)]
        if fault == "torn":
            rows = rows[: len(rows) // 2]
        (units,) = self._cursor.execute("SELECT substr(tier, 2) FROM sluice_size").fetchone()
        started = time.time()
        marks = ", ".join("?" * (columns.count(",") + 1))
        self._cursor.execute("BEGIN IMMEDIATE")
        try:
            self._cursor.executemany(f"INSERT INTO {table} ({columns}) VALUES ({marks})", rows)
            # Its compute is simulated: a larger one is quicker.
            time.sleep(len(rows) / (self._rate * int(units)))
            self._cursor.execute(
                "INSERT INTO sluice_history VALUES (?, ?, ?, ?, ?, ?)",
                (path, tag, len(rows), queued, started, time.time()),
            )
        except BaseException:
            self._cursor.execute("ROLLBACK")
            raise
        self._cursor.execute("COMMIT")
        self._changed = len(rows)
        if fault:
            raise OperationalError("the connection was closed")

    def fetchall(self) -> list[Any]:
        """See PEP 249."""
        return self._cursor.fetchall()

    def fetchone(self) -> Any:
        """See PEP 249."""
        return self._cursor.fetchone()

    def close(self) -> None:
        """See PEP 249."""
        self._cursor.close()


class Connection:
    """See PEP 249. Each statement is committed by itself."""

    def __init__(self, path: str, rows_a_second: float, silent: bool) -> None:
        self._rate, self._silent = rows_a_second, silent
        try:
            self._link = sqlite3.connect(
                path, isolation_level=None, timeout=60, check_same_thread=False
            )
            self._link.executescript(_OWN)
        except sqlite3.Error as error:
            raise OperationalError(str(error)) from None

    def cursor(self) -> Cursor:
        """See PEP 249."""
        return Cursor(self._link, self._rate, self._silent)

    def commit(self) -> None:
        """Nothing waits for it."""

    def rollback(self) -> None:
        """Nothing can be taken back."""

    def close(self) -> None:
        """See PEP 249."""
        self._link.close()


def connect(path: str, rows_a_second: float = 1e6, silent: bool = False) -> Connection:
    """A connection to the Sluice whose tables lie in a file, which is made where there is none.

    A `silent` one does not tell how many rows a statement changed.
    """
    return Connection(path, rows_a_second, silent)
