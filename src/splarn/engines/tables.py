"""Tables as wholes: copies, moves, swaps and indexes, the same way for all SQL targets."""

from __future__ import annotations

import glob
import os
import re
from abc import abstractmethod
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO

from splarn.core.engine import TableColumn, TableIndex
from splarn.core.files import outside
from splarn.core.marks import Marks
from splarn.core.names import schema_and_name, sibling
from splarn.engines.notes import NotesSession

try:
    import fcntl
except ImportError:  # Not on Windows.
    fcntl = None  # type: ignore[assignment]

# The ending of a claim's file.
CLAIM = ".splarn-claim"
_NAME = r"""(?:"(?:[^"]|"")*"|\[[^\]]*\]|`[^`]*`|'[^']*'|[^\s("'`\[.]+)"""
_TABLE = re.compile(
    rf"\s*CREATE\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?(?:{_NAME}\.)?{_NAME}", re.IGNORECASE
)
_INDEX = re.compile(
    rf"\s*CREATE\s+(UNIQUE\s+)?INDEX\s+(?:IF\s+NOT\s+EXISTS\s+)?(?:{_NAME}\.)?{_NAME}"
    rf"\s+ON\s+(?:{_NAME}\.)?{_NAME}",
    re.IGNORECASE,
)


def between(value: str, marks: Marks) -> str:
    """The condition that holds for rows whose numbers, as an expression, are marked."""
    ranges = [f"{value} BETWEEN {first} AND {last}" for first, last in marks]
    return f"({' OR '.join(ranges)})" if ranges else "1 = 0"


class TablesSession(NotesSession):
    """Changes to tables, for engines that change them within transactions."""

    @abstractmethod
    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session."""

    @abstractmethod
    def kind(self, table: str) -> str:
        """See Session."""

    def longest_name(self) -> tuple[int, str] | None:
        """See Session."""
        return None

    def against_name(self, name: str) -> str:
        """See Session."""
        return ""

    def checkpoint(self) -> None:
        """See Session. Changes of tables belong to the open transaction."""

    def release(self, table: str) -> None:
        """See Session. The lock ends with the transaction."""

    def relax(self) -> None:
        """See Session."""

    def last_mark(self, table: str) -> int | None:
        """See Session."""
        return None

    def empty(self, table: str) -> None:
        """See Session."""
        with self.failing("Emptying the table", table):
            self.run(f"DELETE FROM {self.quoted(table)}")

    def drop(self, table: str) -> None:
        """See Session."""
        with self.failing("Dropping the table", table):
            self.run(f"DROP TABLE IF EXISTS {self.quoted(table)}")

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Session."""
        where = "" if marks is None else f" WHERE {self.within(table, marks)}"
        with self.failing("Counting the rows of", table):
            return int(self.run(f"SELECT count(*) FROM {self.quoted(table)}{where}").scalar_one())

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Session."""
        return True

    def pour(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """See Session."""
        if names is None:
            kept = {column.name for column in self.columns(into) or () if not column.computed}
            names = [column.name for column in self.columns(source) or () if column.name in kept]
        listed = self.listed(names)
        with self.failing("Moving rows into", into):
            return self.marking(
                into,
                names,
                f"INSERT INTO {self.quoted(into)} ({listed}) {self.keeping_identity} "
                f"SELECT {listed} FROM {self.quoted(source)}",
            )

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """Runs an insert; how many rows it brought in, and their marks."""
        return int(self.run(statement).rowcount), None

    # What an insert says so that given values of identity columns are stored.
    keeping_identity = ""

    def remove(self, table: str, marks: Marks) -> int:
        """See Session."""
        with self.failing("Removing rows from", table):
            where = self.within(table, marks)
            return int(self.run(f"DELETE FROM {self.quoted(table)} WHERE {where}").rowcount)

    @abstractmethod
    def within(self, table: str, marks: Marks) -> str:
        """The condition that holds for the marked rows."""

    def shell(self, table: str, copy: str) -> None:
        """See Session."""
        with self.failing("Making the table", copy):
            self.run(
                f"CREATE TABLE {self.quoted(copy)} AS SELECT * FROM {self.quoted(table)} WHERE 1=0"
            )

    @abstractmethod
    def indexes(self, table: str) -> list[TableIndex]:
        """See Session."""

    def drop_index(self, table: str, index: TableIndex) -> None:
        """See Session."""
        name = sibling(table, index.name)
        with self.failing("Dropping an index of", table):
            self.run(f"DROP INDEX IF EXISTS {self.quoted(name)}")

    def restore_index(self, table: str, index: TableIndex) -> None:
        """See Session."""
        if index.name not in {there.name for there in self.indexes(table)}:
            with self.failing(f"Making the index {index.name} of", table):
                self.run(index.statement)

    def swap(self, table: str, aside: str, before: str) -> None:
        """See Session."""
        with self.failing("Swapping in the table", table):
            if self.columns(table) is not None:
                self.rename(table, before)
            self.rename(aside, table)

    def rename(self, table: str, name: str) -> None:
        """Gives a table another name in the same schema."""
        bare = schema_and_name(name)[1]
        self.run(f"ALTER TABLE {self.quoted(table)} RENAME TO {self.quoted(bare, dotted=False)}")

    def bound(self, table: str) -> list[str]:
        """See Session."""
        return []

    def follow_identity(self, table: str, column: str) -> str:
        """See Session. The engine sees to it itself."""
        return ""


class FileTables(TablesSession):
    """For engines whose database is a file and that keep the statements tables were made with."""

    _claims: dict[str, IO[bytes]] | None = None

    def claim(self, load_id: str) -> bool:
        """See Session. A locked file beside the database's, which all of its users see.

        The lock ends with the process.
        """
        if fcntl is None:
            return True
        self._claims = self._claims or {}
        if load_id in self._claims:
            return True
        path = self._claim_file(load_id)
        with outside(f"Claiming the load {load_id} beside {self.engine.place}"):
            self._forget_claims()
            try:
                file: IO[bytes] = path.open("ab")
                # Other users must be able to see that it is locked.
                with suppress(OSError):
                    path.chmod(0o666)
            except PermissionError:
                if not path.exists():
                    raise
                file = path.open("rb")
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
        place = Path(self.engine.url.database or "").resolve()
        return place.with_name(f".{place.name}.{load_id}{CLAIM}")

    def _forget_claims(self) -> None:
        """Removes the files of claims whose holders were killed."""
        assert fcntl is not None, "asked for only where there are locks"
        pattern = self._claim_file("*")
        for path in pattern.parent.glob(glob.escape(pattern.name).replace("[*]", "*")):
            if any(path.name == Path(file.name).name for file in (self._claims or {}).values()):
                continue
            with suppress(OSError), path.open("rb") as file:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                path.unlink(missing_ok=True)

    def close(self) -> None:
        """See Session."""
        super().close()
        for file in (self._claims or {}).values():
            with suppress(OSError):
                Path(file.name).unlink(missing_ok=True)
            file.close()
        self._claims = None

    @abstractmethod
    def statement_of(self, table: str) -> str:
        """The statement that made the table."""

    def clone(
        self,
        table: str,
        copy: str,
        *,
        logged: bool = True,
        indexes: bool = False,
        twin: bool = False,
    ) -> None:
        """See Session."""
        with self.failing("Making the table", copy):
            statement = self.statement_of(table)
            rest = statement[_end(_TABLE, statement) :]
            self.run(f"CREATE TABLE {self.quoted(copy)}{rest}")
            for index in self.indexes(table):
                if index.unique or indexes:
                    name = self.quoted(sibling(copy, f"{schema_and_name(copy)[1]}_{index.name}"))
                    kind = "UNIQUE " if index.unique else ""
                    rest = rest_of_index(index.statement)
                    self.run(f"CREATE {kind}INDEX {name} ON {self.quoted(copy)}{rest}")

    def swap(self, table: str, aside: str, before: str) -> None:
        """See Session. Names of indexes are taken once a schema, so they move with the name."""
        kept = self.indexes(table)
        for old in kept:
            self.drop_index(table, old)
        for own in self.indexes(aside):
            self.drop_index(aside, own)
        super().swap(table, aside, before)
        for index in kept:
            self.restore_index(table, index)


def rest_of_index(statement: str) -> str:
    """What follows the table's name in the statement that makes an index."""
    return statement[_end(_INDEX, statement) :]


def _end(pattern: re.Pattern[str], statement: str) -> int:
    found = pattern.match(statement)
    assert found is not None, f"not understood: {statement}"
    return found.end()
