"""Sluice, a simulated engine that takes statements: a driver of the Python database interface.

It is made up so that an engine can be described without renting one. Its tables lie in a file and
are asked by SQL (SQLite's); beside that it knows what most rented engines do:

    TAKE IN 'readings.csv' INTO gauges (no, level)        reads a file itself, whole or not at all
        MARKED 7 AS brought_by TAGGED 'x' LEAVING BAD ROWS
    RESIZE TO 'u3'                                        gives its compute another size
    WAKE                                                  starts a compute that rests

Each statement is committed by itself. What was taken in is in its table `sluice_history` (path,
tag, row_count, queued, started, finished, into_table), what is still to come in `sluice_under_way`
(tag), rows that were left out in `sluice_refused` (tag, row, field, reason, record), its size in
`sluice_size` (tier, state), its clock in `sluice_clock` (now). Each unit of its size is at work on
one file at a time, at a million rows a second, or as many as `rows_a_second` says; others wait.
"""

from __future__ import annotations

import csv
import io
import os
import re
import sqlite3
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import filterfalse
from pathlib import Path
from threading import Thread
from typing import Any

import psutil

apilevel, threadsafety, paramstyle = "2.0", 1, "qmark"

# What is going to happen to the next files that are taken in, for tests: `lost` (it comes in, and
# the reply is lost), `late` (so too, and it comes in a while after), `refused` (nothing comes, nor
# does a reply), `torn` (half of it comes).
FAULTS: list[str] = []
# How much later, in seconds.
LATE = 0.7
# How often a file looks whether a unit is free, in seconds.
LOOK_EVERY = 0.01

_TAKE = re.compile(
    r"TAKE\s+IN\s+'(?P<path>(?:[^']|'')*)'\s+INTO\s+(?P<table>.+?)\s*\((?P<columns>.*?)\)"
    r"(?:\s+MARKED\s+(?P<mark>\d+)\s+AS\s+(?P<marking>\S+))?"
    r"(?:\s+TAGGED\s+'(?P<tag>(?:[^']|'')*)')?(?P<leaving>\s+LEAVING\s+BAD\s+ROWS)?\s*;?\s*$",
    re.IGNORECASE | re.DOTALL,
)
_RESIZE = re.compile(r"RESIZE\s+TO\s+'(?P<tier>u[0-9]+)'\s*;?\s*$", re.IGNORECASE)
_WAKE = re.compile(r"WAKE\s*;?\s*$", re.IGNORECASE)
_NOW = "((julianday('now') - 2440587.5) * 86400)"
_OWN = f"""
CREATE TABLE IF NOT EXISTS sluice_history (
    path, tag, row_count, queued, started, finished, into_table
);
CREATE TABLE IF NOT EXISTS sluice_under_way (tag, process, started);
CREATE TABLE IF NOT EXISTS sluice_refused (tag, row, field, reason, record);
CREATE TABLE IF NOT EXISTS sluice_compute (tier, wanted, ready, awake);
INSERT INTO sluice_compute SELECT 'u1', 'u1', 0, 0
WHERE NOT EXISTS (SELECT 1 FROM sluice_compute);
CREATE VIEW IF NOT EXISTS sluice_clock AS SELECT {_NOW} AS now;
CREATE VIEW IF NOT EXISTS sluice_size AS SELECT
    CASE WHEN ready <= {_NOW} THEN wanted ELSE tier END AS tier,
    CASE WHEN awake IS NULL THEN 'resting' WHEN awake > {_NOW} THEN 'waking' ELSE 'running' END
    AS state FROM sluice_compute;
"""
# What a value must look like in a column whose type begins so.
_FORMS = {
    "BIGINT|INT|SMALLINT": r"[+-]?\d+",
    "DOUBLE|DECIMAL|REAL": r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?",
    "BOOL": "true|false",
    "DATE(?!TIME)": r"\d{4}-\d\d-\d\d",
    "TIMESTAMP|DATETIME": r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d+)?)?",
    "TIME(?!STAMP)": r"\d\d:\d\d(:\d\d(\.\d+)?)?",
}


class Error(Exception):
    """See PEP 249."""


class OperationalError(Error):
    """See PEP 249."""


class ProgrammingError(Error):
    """See PEP 249."""


class Cursor:
    """See PEP 249."""

    def __init__(self, link: Connection) -> None:
        self._link, self._cursor = link, link.open_cursor()
        self._changed = -1

    @property
    def rowcount(self) -> int:
        """See PEP 249; many drivers do not tell."""
        return -1 if self._link.silent else self._changed

    @property
    def description(self) -> Any:
        """See PEP 249."""
        return self._cursor.description

    def execute(self, operation: str, parameters: Any = ()) -> None:
        """See PEP 249."""
        text = operation.strip()
        try:
            if (take := _TAKE.match(text)) is not None:
                self._take(_Taking.of(take))
            elif (resize := _RESIZE.match(text)) is not None:
                self._cursor.execute(
                    "UPDATE sluice_compute SET tier = (SELECT tier FROM sluice_size), wanted = ?,"
                    f" ready = {_NOW} + ?", (resize["tier"], self._link.resize_seconds),
                )  # fmt: skip
            elif _WAKE.match(text):
                self._cursor.execute(
                    f"UPDATE sluice_compute SET awake = {_NOW} + ? WHERE awake IS NULL",
                    (self._link.wake_seconds,),
                )
            else:
                self._cursor.execute(text, tuple(parameters))
                self._changed = self._cursor.rowcount
        except (sqlite3.Error, OSError, UnicodeDecodeError) as error:
            raise ProgrammingError(str(error)) from None

    def _take(self, taking: _Taking) -> None:
        fault = FAULTS.pop(0) if FAULTS else ""
        if fault == "refused":
            raise OperationalError("the connection was closed")
        (state,) = self._cursor.execute("SELECT state FROM sluice_size").fetchone()
        if state != "running":
            raise OperationalError(f"the compute is {state}: WAKE it, and wait until it runs")
        rows = taking.read(self._cursor)
        if fault == "torn":
            rows = rows[: len(rows) // 2]
        if self._link.once and taking.is_known(self._cursor):
            self._changed = 0
            return
        taking.begin(self._cursor)
        if fault == "late":
            Thread(target=self._later, args=(taking, rows)).start()
        else:
            taking.end(self._cursor, rows, self._link.rate)
            self._changed = len(rows)
        if fault:
            raise OperationalError("the connection was closed")

    def _later(self, taking: _Taking, rows: list[Any]) -> None:
        time.sleep(LATE)
        other = Connection(self._link.path, self._link.rate)
        taking.end(other.open_cursor(), rows, self._link.rate)
        other.close()

    def fetchall(self) -> list[Any]:
        """See PEP 249."""
        return self._cursor.fetchall()

    def fetchmany(self, size: int = 1) -> list[Any]:
        """See PEP 249."""
        return self._cursor.fetchmany(size)

    def fetchone(self) -> Any:
        """See PEP 249."""
        return self._cursor.fetchone()

    def close(self) -> None:
        """See PEP 249."""
        self._cursor.close()


@dataclass
class _Taking:
    """A file on its way into a table."""

    path: str
    table: str
    columns: str
    tag: str | None
    mark: int | None = None
    leaving: bool = False
    queued: float = field(default_factory=time.time)
    number: int | None = None
    # Rows that are left out: row, field, reason, record.
    refused: list[tuple[int, str | None, str, str]] = field(default_factory=list)

    @classmethod
    def of(cls, told: re.Match[str]) -> _Taking:
        """As a statement says it."""
        columns = told["columns"] + (f", {told['marking']}" if told["marking"] else "")
        mark = int(told["mark"]) if told["mark"] else None
        path, tag = (text and text.replace("''", "'") for text in (told["path"], told["tag"]))
        return cls(path or "", told["table"], columns, tag, mark, bool(told["leaving"]))

    def read(self, cursor: sqlite3.Cursor) -> list[list[Any]]:
        """All of its rows. Raises OSError, UnicodeDecodeError, ProgrammingError for a bad row."""
        judge = self._judging(cursor)
        marks = [] if self.mark is None else [self.mark]
        rows = []
        with Path(self.path).open(newline="", encoding="utf-8") as file:
            for number, row in enumerate(csv.reader(file), 1):
                wrong = judge(row)
                if wrong is None:
                    rows.append([*(value or None for value in row), *marks])
                    continue
                if not self.leaving:
                    raise ProgrammingError(f"row {number} of {self.path}: {wrong[1]}")
                record = io.StringIO()
                csv.writer(record, lineterminator="").writerow(row)
                self.refused.append((number, *wrong, record.getvalue()))
        return rows

    def _judging(
        self, cursor: sqlite3.Cursor
    ) -> Callable[[list[str]], tuple[str | None, str] | None]:
        """What says why a row cannot be taken: the column, and the reason."""
        quotes = '"`[] '
        described = {
            name: (kind, bool(required))
            for name, kind, required in cursor.execute(
                'SELECT name, type, "notnull" FROM pragma_table_info(?)',
                (self.table.strip(quotes),),
            )
        }
        names = [one.strip().strip(quotes) for one in self.columns.split(",")]
        names = names if self.mark is None else names[:-1]
        forms = []
        for name in names:
            kind, required = described.get(name, ("", False))
            known = [form for begins, form in _FORMS.items() if re.match(begins, kind)]
            forms.append((name, kind, required, re.compile(known[0] if known else "(?s:.*)")))

        def judge(row: list[str]) -> tuple[str | None, str] | None:
            if len(row) != len(forms):
                return None, f"it has {len(row)} values for {len(forms)} columns"
            for value, (name, kind, required, form) in zip(row, forms, strict=True):
                if required and not value:
                    return name, "it is empty"
                if value and not form.fullmatch(value):
                    return name, f"{value!r} is no {kind}"
            return None

        return judge

    def is_known(self, cursor: sqlite3.Cursor) -> bool:
        """Whether this file came into this table before."""
        known = "SELECT 1 FROM sluice_history WHERE path = ? AND into_table = ?"
        return cursor.execute(known, (self.path, self.table)).fetchone() is not None

    def begin(self, cursor: sqlite3.Cursor) -> None:
        """It is known to be under way from now on."""
        waiting = "INSERT INTO sluice_under_way VALUES (?, ?, NULL)"
        cursor.execute(waiting, (self.tag, os.getpid()))
        self.number = cursor.lastrowid

    def end(self, cursor: sqlite3.Cursor, rows: list[Any], rate: float) -> None:
        """Waits for a unit, and brings the rows in, whole."""
        over = ("DELETE FROM sluice_under_way WHERE rowid = ?", (self.number,))
        marks = ", ".join("?" * (self.columns.count(",") + 1))
        try:
            while not self._starts(cursor):
                time.sleep(LOOK_EVERY)
            started = time.time()
            time.sleep(len(rows) / rate)
            cursor.execute("BEGIN IMMEDIATE")
            cursor.executemany(f"INSERT INTO {self.table} ({self.columns}) VALUES ({marks})", rows)
            cursor.execute(
                "INSERT INTO sluice_history VALUES (?, ?, ?, ?, ?, ?, ?)",
                (self.path, self.tag, len(rows), self.queued, started, time.time(), self.table),
            )
            cursor.executemany(
                "INSERT INTO sluice_refused VALUES (?, ?, ?, ?, ?)",
                [(self.tag, *one) for one in self.refused],
            )
            cursor.execute(*over)
            cursor.execute("COMMIT")
        except BaseException:
            if cursor.connection.in_transaction:
                cursor.execute("ROLLBACK")
            cursor.execute(*over)
            raise

    def _starts(self, cursor: sqlite3.Cursor) -> bool:
        """Whether a unit is free, and now at work on this."""
        cursor.execute(
            "UPDATE sluice_under_way SET started = 1 WHERE rowid = ? AND"
            " (SELECT count(*) FROM sluice_under_way WHERE started) <"
            " (SELECT CAST(substr(tier, 2) AS INTEGER) FROM sluice_size)", (self.number,),
        )  # fmt: skip
        return cursor.rowcount == 1


class Connection:
    """See PEP 249. Each statement is committed by itself."""

    def __init__(self, path: str, rate: float, silent: bool = False, once: bool = False) -> None:
        self.path, self.rate, self.silent, self.once = path, rate, silent, once
        self.resize_seconds = self.wake_seconds = 0.0
        try:
            self._link = sqlite3.connect(
                path, isolation_level=None, timeout=60, check_same_thread=False
            )
            self._link.executescript(_OWN)
            # It works in the processes of its clients: what was under way in one ended with it.
            known = {pid for (pid,) in self._link.execute("SELECT process FROM sluice_under_way")}
            for gone in filterfalse(psutil.pid_exists, known):
                self._link.execute("DELETE FROM sluice_under_way WHERE process = ?", (gone,))
        except sqlite3.Error as error:
            raise OperationalError(str(error)) from None

    def open_cursor(self) -> sqlite3.Cursor:
        """A cursor of the database beneath."""
        return self._link.cursor()

    def cursor(self) -> Cursor:
        """See PEP 249."""
        return Cursor(self)

    def commit(self) -> None:
        """Nothing waits for it."""

    def rollback(self) -> None:
        """Nothing is taken back."""

    def close(self) -> None:
        """See PEP 249."""
        self._link.close()


def connect(
    path: str,
    rows_a_second: float = 1e6,
    silent: bool = False,
    once: bool = False,
    resize_seconds: float = 0.0,
    wake_seconds: float = 0.0,
) -> Connection:
    """A connection to the Sluice whose tables lie in a file, which is made where there is none.

    A `silent` one does not tell how many rows a statement changed; one that takes a file `once`
    passes over what came into the same table before. A new size is there after `resize_seconds`;
    one that rests (an update of `sluice_compute`) is awake `wake_seconds` after WAKE.
    """
    link = Connection(path, rows_a_second, silent, once)
    link.resize_seconds, link.wake_seconds = resize_seconds, wake_seconds
    return link
