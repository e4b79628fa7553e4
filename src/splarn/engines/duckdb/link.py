"""DuckDB's connections: cursors on a file that this process has open once."""

from __future__ import annotations

import threading
from collections import defaultdict
from contextlib import suppress
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine.default import DefaultDialect
from sqlalchemy.sql.compiler import IdentifierPreparer

from splarn.engines.sql.link import Answer, Link


class _Preparer(IdentifierPreparer):
    """Quotes every name: which words are reserved changes between versions."""

    def _requires_quotes(self, value: str) -> bool:
        return True


class _Dialect(DefaultDialect):
    preparer = _Preparer


_DIALECT = _Dialect(paramstyle="qmark")


class _Shared:
    """The open files of this process; the last user closes."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._open: dict[str, tuple[Any, int]] = {}
        # Held by those who begin or end a load, one after the other.
        self.turns: dict[str, threading.Lock] = defaultdict(threading.Lock)

    def take(self, database: str) -> Any:
        """A connection of its own to the file."""
        import duckdb

        with self._lock:
            connection, users = self._open.get(database, (None, 0))
            if connection is None:
                connection = duckdb.connect(database)
            self._open[database] = (connection, users + 1)
            return connection.cursor()

    def leave(self, database: str) -> None:
        """One user fewer."""
        with self._lock:
            connection, users = self._open.pop(database)
            if users > 1:
                self._open[database] = (connection, users - 1)
            else:
                connection.close()


_shared = _Shared()


class DuckdbLink(Link):
    """A cursor of its own on the shared file."""

    dialect = _DIALECT

    def __init__(self, place: str, database: str) -> None:
        super().__init__(place)
        self.database = database
        self._driver: Any = _shared.take(database)
        self._begun = self._in_turn = False

    @property
    def driver(self) -> Any:
        """See Link."""
        return self._driver

    def run(self, statement: str, **values: Any) -> Answer:
        """See Link."""
        if values:
            return self.execute(sa.text(statement).bindparams(**values))
        return self._ask(statement, [])

    def execute(self, statement: sa.Executable) -> Answer:
        """See Link."""
        return self._ask(*compiled(statement))

    def _ask(self, statement: str, values: list[Any]) -> Answer:
        self.begin()
        self._driver.execute(statement, values)
        names = tuple(column[0] for column in self._driver.description or ())
        rows = self._driver.fetchall() if names else []
        changes = statement.lstrip()[:6].upper() in ("UPDATE", "INSERT", "DELETE")
        return Answer(names, rows, int(rows[0][0]) if changes and rows else -1)

    def begin(self) -> None:
        """See Link."""
        if not self._begun:
            self._driver.execute("BEGIN TRANSACTION")
            self._begun = True

    def wait_turn(self) -> None:
        """Waits until no other connection has its turn; this one has it until it commits."""
        if not self._in_turn:
            self.rollback()
            _shared.turns[self.database].acquire()
            self._in_turn = True

    def _commit(self) -> None:
        self._end("COMMIT")

    def _rollback(self) -> None:
        # A transaction that has failed is gone already.
        with suppress(Exception):
            self._end("ROLLBACK")

    def _end(self, statement: str) -> None:
        try:
            if self._begun:
                self._begun = False
                self._driver.execute(statement)
        finally:
            if self._in_turn:
                self._in_turn = False
                _shared.turns[self.database].release()

    def close(self) -> None:
        """See Link."""
        if self._driver is not None:
            try:
                self.rollback()
            finally:
                self._driver.close()
                self._driver = None
                _shared.leave(self.database)


def compiled(statement: Any) -> tuple[str, list[Any]]:
    """A statement as text with question marks, and their values in order."""
    compiled = statement.compile(dialect=_DIALECT, compile_kwargs={"render_postcompile": True})
    names = getattr(compiled, "positiontup", None) or []
    return str(compiled), [compiled.params[name] for name in names]
