"""The ledger: an SQLite file in the job's folder that remembers loads, trials, models and plans."""

from __future__ import annotations

import json
import os
import secrets
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from splarn.core.errors import OutsideError, RequestError
from splarn.core.source.secrets import hide, hide_all
from splarn.core.work.disk import explain
from splarn.core.work.words import nearest

FOLDER = ".splarn"
FILE = "ledger.sqlite"
KINDS = (
    "ship", "load", "undo", "unload", "compact", "sweep", "trial", "plan", "run", "probe",
)  # fmt: skip

# One entry a version: each brings the schema from the version before to its own.
_MIGRATIONS = (
    """
    CREATE TABLE entry (
        number INTEGER PRIMARY KEY,
        kind TEXT NOT NULL,
        id TEXT NOT NULL,
        parent TEXT NOT NULL DEFAULT '',
        at TEXT NOT NULL,
        summary TEXT NOT NULL,
        seconds REAL,
        document TEXT NOT NULL,
        UNIQUE (kind, id)
    );
    CREATE INDEX entry_parent ON entry (kind, parent);
    """,
)


@dataclass(frozen=True)
class Entry:
    """One thing that happened. `parent` is the sweep of a trial, or the plan of a run."""

    kind: str
    id: str
    parent: str
    at: str
    summary: str
    seconds: float | None
    document: dict[str, Any]

    def as_json(self) -> dict[str, Any]:
        """Everything, ready for JSON."""
        return dict(self.__dict__)


def _entry(row: tuple[Any, ...]) -> Entry:
    kind, id_, parent, at, summary, seconds, document = row
    return Entry(kind, id_, parent, at, summary, seconds, json.loads(document))


def entry_id(kind: str, at: datetime | None = None) -> str:
    """A new id for an entry of a kind, by the time in UTC."""
    return f"{kind}-{at or datetime.now(UTC):%Y%m%d-%H%M%S}-{secrets.token_hex(2)}"


class Ledger:
    """The ledger of one job's folder, made when first written to."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / FOLDER / FILE
        self._connection: sqlite3.Connection | None = None

    def put(
        self,
        kind: str,
        id_: str,
        summary: str,
        document: dict[str, Any],
        *,
        parent: str = "",
        seconds: float | None = None,
        at: str = "",
    ) -> None:
        """Notes an entry, replacing the one of the same kind and id; `at` is now unless given.

        Raises OutsideError when the disk refuses.
        """
        at = at or datetime.now(UTC).isoformat(timespec="seconds")
        text = json.dumps(hide_all(document))
        row = (kind, id_, parent, at, hide(summary), seconds, text)
        with self._open() as connection:
            connection.execute(
                "INSERT INTO entry (kind, id, parent, at, summary, seconds, document)"
                " VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (kind, id) DO UPDATE SET"
                " at = excluded.at, summary = excluded.summary, seconds = excluded.seconds,"
                " document = excluded.document",
                row,
            )

    def entries(
        self, kind: str | None = None, parent: str | None = None, id_: str | None = None
    ) -> list[Entry]:
        """Entries in the order they were first noted, narrowed by what is given.

        Raises OutsideError when the file cannot be read.
        """
        if not self.path.exists():
            return []
        wanted = {"kind": kind, "parent": parent, "id": id_}
        given = {name: value for name, value in wanted.items() if value is not None}
        where = " AND ".join(f"{name} = ?" for name in given) or "1"
        with self._open() as connection:
            rows = connection.execute(
                "SELECT kind, id, parent, at, summary, seconds, document FROM entry"
                f" WHERE {where} ORDER BY number",
                tuple(given.values()),
            )
            return [_entry(row) for row in rows]

    def last(self, kind: str) -> Entry | None:
        """The newest entry of a kind."""
        entries = self.entries(kind)
        return entries[-1] if entries else None

    def find(self, start: str) -> Entry:
        """The one entry whose id begins like this.

        Raises RequestError when none or several do.
        """
        hits = [entry for entry in self.entries() if entry.id.startswith(start)]
        exact = [entry for entry in hits if entry.id == start]
        hits = exact or hits
        if len(hits) != 1:
            state = "no entry" if not hits else f"{len(hits)} entries"
            hint = "" if hits else nearest(start, [one.id for one in self.entries()])
            raise RequestError(
                f"{state.capitalize()} in the ledger {self.path} begin{'' if len(hits) else 's'} "
                f"with {start!r}{hint}: `splarn ledger` lists them."
            )
        return hits[0]

    def check(self) -> None:
        """Makes sure that it can be written to, before any work whose end it is to note.

        One that is still to be made is not made by this. Raises OutsideError when it cannot.
        """
        if not self.path.exists():
            above = next(one for one in self.path.absolute().parents if one.exists())
            if not above.is_dir() or not os.access(above, os.W_OK | os.X_OK):
                raise OutsideError(
                    f"The ledger {self.path} cannot be made, since {above} cannot be written to: "
                    "check who owns it."
                )
            return
        with self._open() as connection:
            connection.execute("BEGIN IMMEDIATE")
            connection.execute("PRAGMA user_version")
            verdict = connection.execute("PRAGMA quick_check(1)").fetchone()[0]
            if verdict != "ok":
                raise sqlite3.DatabaseError(str(verdict).splitlines()[0])

    def close(self) -> None:
        """Closes the file."""
        if self._connection is not None:
            self._connection.close()
            self._connection = None

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        try:
            if self._connection is None:
                self.path.parent.mkdir(parents=True, exist_ok=True)
                connection = sqlite3.connect(self.path, timeout=60, isolation_level=None)
                try:
                    self._migrate(connection)
                except BaseException:
                    connection.close()
                    raise
                self._connection = connection
            try:
                yield self._connection
            except BaseException:
                if self._connection.in_transaction:
                    self._connection.execute("ROLLBACK")
                raise
            if self._connection.in_transaction:
                self._connection.execute("COMMIT")
        except OSError as error:
            raise OutsideError(
                f"The ledger {self.path} cannot be opened: {explain(error)}."
            ) from None
        except sqlite3.Error as error:
            raise OutsideError(
                f"The ledger {self.path} cannot be used ({error}): move it away to begin a new one."
            ) from None

    def _migrate(self, connection: sqlite3.Connection) -> None:
        if connection.execute("PRAGMA user_version").fetchone()[0] == len(_MIGRATIONS):
            return
        # Several may come at once: the first one makes it, the others wait and look again.
        connection.execute("BEGIN IMMEDIATE")
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        if version > len(_MIGRATIONS):
            raise OutsideError(
                f"The ledger {self.path} was written by a newer Splarn (schema {version}, this one "
                f"knows {len(_MIGRATIONS)}): update Splarn."
            )
        for number in range(version, len(_MIGRATIONS)):
            for statement in _MIGRATIONS[number].split(";"):
                connection.execute(statement)
            connection.execute(f"PRAGMA user_version = {number + 1}")
        connection.execute("COMMIT")
