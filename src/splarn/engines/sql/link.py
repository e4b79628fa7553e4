"""One connection to an SQL target and its transaction; what works over it tells its errors."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import wraps
from types import FunctionType
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection, Dialect
from sqlalchemy.exc import SQLAlchemyError

from splarn.core.errors import OutsideError
from splarn.core.target.names import split_name
from splarn.engines.sql.errors import from_driver, is_lost, reason, refused


@dataclass(frozen=True)
class Answer:
    """What a statement gave back: rows of values, and how many rows it changed.

    `last_number` is the first number that the engine gave to rows of an insert, where it says so.
    """

    names: tuple[str, ...] = ()
    rows: Sequence[tuple[Any, ...]] = ()
    changed: int = -1
    last_number: int | None = None

    @property
    def value(self) -> Any:
        """The first value of the first row, None where there is no row."""
        return self.rows[0][0] if self.rows else None

    def named(self) -> Iterator[Mapping[str, Any]]:
        """The rows with the names of their columns."""
        return (dict(zip(self.names, row, strict=True)) for row in self.rows)


class Link(ABC):
    """One connection and its transaction, however the driver has it."""

    dialect: Dialect

    def __init__(self, place: str) -> None:
        self.place = place
        # What must end before the transaction is taken back.
        self.before_rollback: list[Callable[[], None]] = []

    @property
    @abstractmethod
    def driver(self) -> Any:
        """The driver's own connection, for the bulk path in the same transaction."""

    @abstractmethod
    def run(self, statement: str, **values: Any) -> Answer:
        """Runs a statement of text in the open transaction; `:name` stands for a value.

        One with values holds no names from outside, which may have colons and percent signs.
        """

    @abstractmethod
    def execute(self, statement: sa.Executable) -> Answer:
        """Runs a statement that SQLAlchemy wrote."""

    @abstractmethod
    def begin(self) -> None:
        """Begins a transaction unless one is open."""

    @abstractmethod
    def _commit(self) -> None: ...

    @abstractmethod
    def _rollback(self) -> None: ...

    @abstractmethod
    def close(self) -> None:
        """Lets go of the connection; what is open is taken back."""

    def commit(self) -> None:
        """Ends the transaction for good. Raises OutsideError, also where that is not known."""
        try:
            self._commit()
        except Exception as error:
            if not isinstance(error, SQLAlchemyError) and not from_driver(error):
                raise
            self.rollback()
            if is_lost(getattr(error, "orig", None) or error):
                raise OutsideError(
                    f"The reply of {self.place} to a commit was lost ({reason(error)}), so "
                    "whether the last batch is in is not known: run the same command again, which "
                    "finds out and goes on."
                ) from None
            raise refused("Committing to", "the target", self.place, error) from None

    def rollback(self) -> None:
        """Takes the transaction back. A connection that is gone has done so already."""
        for end in self.before_rollback:
            end()
        self._rollback()

    def quoted(self, name: str, dotted: bool = True) -> str:
        """An identifier as the engine writes it; a table may have its schema before a dot."""
        preparer = self.dialect.identifier_preparer
        quoted = [
            preparer.quote_identifier(one) for one in (split_name(name) if dotted else [name])
        ]
        # Statements go to the driver as they are; where it fills in values, percents are doubled.
        doubled = getattr(preparer, "_double_percents", False)
        return ".".join(one.replace("%%", "%") if doubled else one for one in quoted)

    def listed(self, names: Iterable[str]) -> str:
        """Column names as a statement lists them."""
        return ", ".join(self.quoted(name, dotted=False) for name in names)

    @contextmanager
    def failing(self, doing: str, what: str) -> Iterator[None]:
        """Turns the engine's errors into one sentence. Raises OutsideError."""
        try:
            yield
        except Exception as error:
            if not isinstance(error, SQLAlchemyError) and not from_driver(error):
                raise
            self.rollback()
            raise refused(doing, what, self.place, error) from None


class SqlLink(Link):
    """A connection that SQLAlchemy holds."""

    def __init__(self, place: str, connection: Connection) -> None:
        super().__init__(place)
        self.connection = connection
        self.dialect = connection.dialect

    @property
    def driver(self) -> Any:
        """See Link."""
        return self.connection.connection.driver_connection

    def run(self, statement: str, **values: Any) -> Answer:
        """See Link."""
        if values:
            return _answer(self.connection.execute(sa.text(statement).bindparams(**values)))
        options = {"no_parameters": True}
        return _answer(self.connection.exec_driver_sql(statement, execution_options=options))

    def execute(self, statement: sa.Executable) -> Answer:
        """See Link."""
        return _answer(self.connection.execute(statement))

    def begin(self) -> None:
        """See Link."""
        if not self.connection.in_transaction():
            self.connection.begin()

    def _commit(self) -> None:
        self.connection.commit()

    def _rollback(self) -> None:
        try:
            self.connection.rollback()
        except Exception:
            self.connection.invalidate()

    def close(self) -> None:
        """See Link."""
        try:
            self.connection.close()
        except SQLAlchemyError:
            self.connection.invalidate()


def _answer(result: sa.CursorResult[Any]) -> Answer:
    if result.returns_rows:
        names = tuple(result.keys())
        return Answer(names, [tuple(row) for row in result], result.rowcount)
    # Not every driver has it.
    return Answer((), (), result.rowcount, getattr(result, "lastrowid", None))


class Concern:
    """What one part of the contract does over a link.

    Whatever a driver raises in a public method leaves it as an OutsideError, wherever it arises.
    """

    def __init_subclass__(cls, **given: Any) -> None:
        super().__init_subclass__(**given)
        for name, method in list(vars(cls).items()):
            if isinstance(method, FunctionType) and not name.startswith("_"):
                setattr(cls, name, _telling(method))

    def __init__(self, link: Link) -> None:
        self.link = link


def _telling(method: FunctionType) -> Callable[..., Any]:
    """A method that tells the driver's errors as sentences, if nothing in it did."""

    @wraps(method)
    def told(self: Concern, *given: Any, **named: Any) -> Any:
        try:
            return method(self, *given, **named)
        except Exception as error:
            if not isinstance(error, SQLAlchemyError) and not from_driver(error):
                raise
            self.link.rollback()
            raise refused("Asking", "the target", self.link.place, error) from None

    return told
