"""A made-up engine behind a driver of the Python database interface: SQL of SQLite, a statement
that takes in files, a history of them, no transaction over it, and replies that may be lost."""

from __future__ import annotations

import csv
import re
import sqlite3
from pathlib import Path
from typing import Any

paramstyle = "qmark"
apilevel, threadsafety = "2.0", 1

# What is going to happen to the next statements that take a file in: `lost` (it comes in, and the
# reply is lost), `refused` (nothing comes, and neither does a reply), `torn` (half of it comes).
FAULTS: list[str] = []
_TAKE = re.compile(r"TAKE IN '(?P<path>.*?)' INTO (?P<table>\S+) \((?P<columns>.*)\)\s*$", re.S)


class Error(Exception):
    """Whatever it raises."""


class OperationalError(Error):
    """The connection or the server."""


class Cursor:
    """See PEP 249."""

    def __init__(self, link: sqlite3.Connection) -> None:
        self._cursor = link.cursor()
        self._link = link
        self.rowcount = -1

    @property
    def description(self) -> Any:
        return self._cursor.description

    def execute(self, statement: str, given: Any = ()) -> None:
        take = _TAKE.match(statement.strip())
        try:
            if take is not None:
                self._take(take["path"], take["table"], take["columns"])
            else:
                self._cursor.execute(statement, given)
                self.rowcount = self._cursor.rowcount
        except sqlite3.Error as error:
            raise OperationalError(str(error)) from None

    def _take(self, path: str, table: str, columns: str) -> None:
        fault = FAULTS.pop(0) if FAULTS else ""
        if fault == "refused":
            raise OperationalError("the connection was closed")
        with Path(path).open(newline="", encoding="utf-8") as file:
            rows = [[value or None for value in row] for row in csv.reader(file)]
        if fault == "torn":
            rows = rows[: len(rows) // 2]
        marks = ", ".join("?" * (columns.count(",") + 1))
        self._cursor.execute("BEGIN IMMEDIATE")
        try:
            self._cursor.executemany(f"INSERT INTO {table} ({columns}) VALUES ({marks})", rows)
            self._cursor.execute("CREATE TABLE IF NOT EXISTS taken (path, rows)")
            self._cursor.execute("INSERT INTO taken VALUES (?, ?)", (path, len(rows)))
        except BaseException:
            self._cursor.execute("ROLLBACK")
            raise
        self._cursor.execute("COMMIT")
        self.rowcount = len(rows)
        if fault:
            raise OperationalError("the connection was closed")

    def fetchall(self) -> list[Any]:
        return self._cursor.fetchall()

    def close(self) -> None:
        self._cursor.close()


class Connection:
    """See PEP 249. Each statement is committed by itself."""

    def __init__(self, path: str) -> None:
        self._link = sqlite3.connect(
            path, isolation_level=None, timeout=20, check_same_thread=False
        )

    def cursor(self) -> Cursor:
        return Cursor(self._link)

    def commit(self) -> None:
        """Nothing waits for it."""

    def rollback(self) -> None:
        """Nothing can be taken back."""

    def close(self) -> None:
        self._link.close()


def connect(path: str) -> Connection:
    return Connection(path)
