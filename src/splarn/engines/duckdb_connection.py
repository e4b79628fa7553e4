"""DuckDB's connection, with the methods that a session asks of SQLAlchemy's."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Iterator
from types import SimpleNamespace
from typing import Any

from sqlalchemy.engine.default import DefaultDialect
from sqlalchemy.sql.compiler import IdentifierPreparer


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


class _Connection:
    """DuckDB's connection with the methods that SqlSession asks of SQLAlchemy's."""

    dialect = _DIALECT

    def __init__(self, database: str) -> None:
        self.database = database
        self.driver: Any = _shared.take(database)
        self.begun = self.in_turn = False

    @property
    def connection(self) -> Any:
        """Where SqlSession looks for the driver's connection."""
        return SimpleNamespace(driver_connection=self.driver)

    def execute(self, statement: Any) -> _Result:
        """Runs a statement in the open transaction."""
        text, values = _sql(statement)
        self.begin()
        self.driver.execute(text, values)
        return _Result(self.driver, text)

    def exec_driver_sql(self, statement: str, **_: Any) -> _Result:
        """Runs a statement of text in the open transaction."""
        self.begin()
        self.driver.execute(statement)
        return _Result(self.driver, statement)

    def begin(self) -> None:
        """Begins a transaction unless one is open."""
        if not self.begun:
            self.driver.execute("BEGIN TRANSACTION")
            self.begun = True

    def wait_turn(self) -> None:
        """Waits until no other connection has its turn; this one has it until it commits."""
        if not self.in_turn:
            self.rollback()
            _shared.turns[self.database].acquire()
            self.in_turn = True

    def _end(self, how: str) -> None:
        try:
            if self.begun:
                self.begun = False
                self.driver.execute(how)
        finally:
            if self.in_turn:
                self.in_turn = False
                _shared.turns[self.database].release()

    def commit(self) -> None:
        self._end("COMMIT")

    def rollback(self) -> None:
        self._end("ROLLBACK")

    def invalidate(self) -> None: ...

    def close(self) -> None:
        if self.driver is not None:
            try:
                self.rollback()
            finally:
                self.driver.close()
                self.driver = None
                _shared.leave(self.database)


class _Result:
    """What a statement gave back."""

    def __init__(self, driver: Any, text: str) -> None:
        names = [column[0] for column in driver.description or []]
        self._rows = driver.fetchall() if driver.description else []
        self._names = names
        changes = text.lstrip()[:6].upper() in ("UPDATE", "INSERT", "DELETE")
        self.rowcount = int(self._rows[0][0]) if changes and self._rows else -1

    def __iter__(self) -> Iterator[Any]:
        return (SimpleNamespace(**dict(zip(self._names, row, strict=True))) for row in self._rows)

    def scalar_one(self) -> Any:
        """The only value."""
        return self._rows[0][0]

    def fetchall(self) -> list[tuple[Any, ...]]:
        """All rows as they are."""
        return list(self._rows)


def _sql(statement: Any) -> tuple[str, list[Any]]:
    """A statement as text with question marks, and their values in order."""
    compiled = statement.compile(dialect=_DIALECT, compile_kwargs={"render_postcompile": True})
    names = getattr(compiled, "positiontup", None) or []
    return str(compiled), [compiled.params[name] for name in names]
