"""Whose turn it is: claims of loads, for targets that keep none of their own."""

from __future__ import annotations

import glob
import hashlib
import os
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from typing import IO, Any

import sqlalchemy as sa

from splarn.core.errors import OutsideError
from splarn.core.work.disk import outside
from splarn.engines.sql.link import Concern, Link
from splarn.engines.sql.notes import SqlNotes, notes_table

try:
    import fcntl as fcntl
except ImportError:  # Not on Windows.
    fcntl = None  # type: ignore[assignment]

# The ending of a claim's file.
CLAIM = ".splarn-claim"
# How long a session waits for its turn with a table, and between two looks, in seconds.
PATIENCE, LOOK_EVERY = 120.0, 0.02


class SqlClaims(Concern):
    """For a target that one process alone may open: there is nobody to wait for."""

    def take_turn(self, table: str) -> None:
        """See Claims."""

    def end_turn(self, table: str) -> None:
        """See Claims. The lock ends with the transaction."""

    def claim(self, load_id: str) -> bool:
        """See Claims."""
        return True

    def await_batches(self, load_id: str) -> None:
        """See Claims. Embedded targets have no one else's open transactions."""

    def close(self) -> None:
        """Lets go of all claims; comes after the connection is closed."""


class ServerClaims(SqlClaims):
    """For a server, where notes of a load that others are about to commit can be waited for."""

    def __init__(self, link: Link, notes: SqlNotes) -> None:
        super().__init__(link)
        self.notes = notes

    def await_batches(self, load_id: str) -> None:
        """See Claims."""
        with self.link.failing("Waiting for the batches of", load_id):
            for schema in self.notes.note_schemas():
                notes = notes_table(schema)
                mine = sa.select(notes.c.state).where(notes.c.load_id == load_id)
                self.link.execute(mine.with_for_update())
            self.link.commit()


def to_be_locked(path: Path) -> IO[bytes]:
    """A file for a lock, also where it is another user's. Raises OSError."""
    try:
        file = path.open("ab")
    except PermissionError:
        if not path.exists():
            raise
        return path.open("rb")
    # Other users must be able to see that it is locked.
    with suppress(OSError):
        path.chmod(0o666)
    return file


class FileClaims(SqlClaims):
    """Claims as locked files beside that of the database, which all of its users see."""

    def __init__(self, link: Link, database: Path) -> None:
        super().__init__(link)
        self.database = database
        self._claims: dict[str, IO[bytes]] = {}

    def claim(self, load_id: str) -> bool:
        """See Claims. A locked file beside the database's, which all of its users see.

        The lock ends with the process.
        """
        if fcntl is None:
            return True
        if load_id in self._claims:
            return True
        path = self._claim_file(load_id)
        with outside(f"Claiming the load {load_id} beside {self.link.place}"):
            self._forget_claims()
            file = to_be_locked(path)
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                file.close()
                return False
        # Whoever held it before has removed it on leaving.
        same = path.exists() and path.stat().st_ino == os.fstat(file.fileno()).st_ino
        if not same:
            file.close()
            return self.claim(load_id)
        self._claims[load_id] = file
        return True

    def _claim_file(self, load_id: str) -> Path:
        name = self.database.name
        return self.database.with_name(f".{name}.{load_id}{CLAIM}")

    def _forget_claims(self) -> None:
        """Removes the files of claims whose holders were killed."""
        assert fcntl is not None, "asked for only where there are locks"
        pattern = self._claim_file("*")
        for path in pattern.parent.glob(glob.escape(pattern.name).replace("[*]", "*")):
            if any(path.name == Path(file.name).name for file in self._claims.values()):
                continue
            with suppress(OSError), path.open("rb") as file:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                path.unlink(missing_ok=True)

    def close(self) -> None:
        """See SqlClaims."""
        for file in self._claims.values():
            with suppress(OSError):
                Path(file.name).unlink(missing_ok=True)
            file.close()
        self._claims.clear()


class MachineClaims(FileClaims):
    """Claims and turns as locked files of this machine, for targets that have no locks."""

    def __init__(self, link: Any) -> None:
        """`link` has the `place` by which all who use the target know it."""
        place = hashlib.sha256(link.place.encode()).hexdigest()[:16]
        super().__init__(link, Path(tempfile.gettempdir(), "splarn-claims", place))
        self._turns: dict[str, IO[bytes]] = {}
        if fcntl is not None:
            with outside(f"Making {self.database.parent}"), suppress(FileExistsError):
                self.database.parent.mkdir()
                # Other users come here too.
                self.database.parent.chmod(0o1777)

    def take_turn(self, table: str) -> None:
        """See Claims. Raises OutsideError when others do not leave the table for long."""
        if fcntl is not None and table not in self._turns:
            self._turns[table] = self._turn(table)

    def _turn(self, table: str) -> IO[bytes]:
        name = hashlib.sha256(table.encode()).hexdigest()[:16]
        path = self.database.with_name(f".{self.database.name}.turn-{name}")
        with outside(f"Waiting for a turn with {table}"):
            file = to_be_locked(path)
        until = time.monotonic() + PATIENCE
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                return file
            except BlockingIOError:
                if time.monotonic() > until:
                    file.close()
                    raise OutsideError(
                        f"Another load has held {table} of {self.link.place} for {PATIENCE:.0f} s: "
                        "wait for it to end, or stop it."
                    ) from None
            time.sleep(LOOK_EVERY)

    def end_turn(self, table: str) -> None:
        """See Claims."""
        if (file := self._turns.pop(table, None)) is not None:
            file.close()

    def close(self) -> None:
        """See SqlClaims."""
        super().close()
        for file in self._turns.values():
            file.close()
        self._turns.clear()
