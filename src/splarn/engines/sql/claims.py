"""Whose turn it is: claims of loads, for targets that keep none of their own."""

from __future__ import annotations

import glob
import os
from contextlib import suppress
from pathlib import Path
from typing import IO

import sqlalchemy as sa

from splarn.core.work.disk import outside
from splarn.engines.sql.link import Concern, Link
from splarn.engines.sql.notes import SqlNotes, notes_table

try:
    import fcntl as fcntl
except ImportError:  # Not on Windows.
    fcntl = None  # type: ignore[assignment]

# The ending of a claim's file.
CLAIM = ".splarn-claim"


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
