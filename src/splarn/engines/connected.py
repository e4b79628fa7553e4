"""One connection to an SQL target and its transaction; the engine's errors as sentences."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from types import FunctionType
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection
from sqlalchemy.exc import SQLAlchemyError

from splarn.core.errors import OutsideError, RefusedError, RequestError
from splarn.core.handover import Carried, Order, Size, Watch
from splarn.core.names import split_name

if TYPE_CHECKING:
    from splarn.engines.base import SqlEngine


class Connected:
    """One connection and its transaction.

    Whatever a driver raises in a public method leaves it as an OutsideError, wherever it arises.
    """

    def __init_subclass__(cls, **given: Any) -> None:
        super().__init_subclass__(**given)
        for name, method in list(vars(cls).items()):
            if isinstance(method, FunctionType) and not name.startswith("_"):
                setattr(cls, name, _telling(method))

    def __init__(self, engine: SqlEngine, connection: Connection) -> None:
        self.engine = engine
        self.connection = connection

    @property
    def driver_connection(self) -> Any:
        """The driver's own connection, for the bulk path in the same transaction."""
        return self.connection.connection.driver_connection

    def run(self, statement: str, **values: Any) -> Any:
        """Runs a statement of text in the open transaction; `:name` stands for a value.

        One with values holds no names from outside, which may have colons and percent signs.
        """
        if values:
            return self.connection.execute(sa.text(statement).bindparams(**values))
        return self.connection.exec_driver_sql(statement, execution_options={"no_parameters": True})

    def commit(self) -> None:
        """See Session."""
        try:
            self.connection.commit()
        except Exception as error:
            if not isinstance(error, SQLAlchemyError) and not _from_driver(error):
                raise
            self.rollback()
            if _is_lost(getattr(error, "orig", None) or error):
                raise OutsideError(
                    f"The reply of {self.engine.place} to a commit was lost ({reason(error)}), so "
                    "whether the last batch is in is not known: run the same command again, which "
                    "finds out and goes on."
                ) from None
            raise refused("Committing to", "the target", self.engine.place, error) from None

    def rollback(self) -> None:
        """See Session. A connection that is gone has rolled back already."""
        try:
            self.connection.rollback()
        except Exception:
            self.connection.invalidate()

    def close(self) -> None:
        """See Session."""
        try:
            self.connection.close()
        except SQLAlchemyError:
            self.connection.invalidate()

    def clock(self) -> float:
        """See Session."""
        return time.perf_counter()

    def size(self) -> Size | None:
        """See Session. A server that is ours has the size it has."""
        return None

    def resize(self, tier: str) -> None:
        """See Session. Raises RequestError."""
        raise RequestError(f"{self.engine.title} has no tiers to choose from.")

    def carry(self, order: Order, watch: Watch) -> Carried:
        """See Session. Raises RequestError."""
        raise RequestError(f"{self.engine.title} is given rows, not files.")

    def quoted(self, name: str, dotted: bool = True) -> str:
        """An identifier as the engine writes it; a table may have its schema before a dot."""
        preparer = self.connection.dialect.identifier_preparer
        quoted = [
            preparer.quote_identifier(one) for one in (split_name(name) if dotted else [name])
        ]
        # Statements go to the driver as they are; where it fills in values, percents are doubled.
        doubled = getattr(preparer, "_double_percents", False)
        return ".".join(one.replace("%%", "%") if doubled else one for one in quoted)

    def listed(self, names: Any) -> str:
        """Column names as a statement lists them."""
        return ", ".join(self.quoted(name, dotted=False) for name in names)

    @contextmanager
    def failing(self, doing: str, what: str) -> Iterator[None]:
        """Turns the engine's errors into one sentence. Raises OutsideError."""
        try:
            yield
        except SQLAlchemyError as error:
            self.rollback()
            raise refused(doing, what, self.engine.place, error) from None
        except Exception as error:
            if not _from_driver(error):
                raise
            self.rollback()
            raise refused(doing, what, self.engine.place, error) from None


def _telling(method: FunctionType) -> Callable[..., Any]:
    """A method of a session that tells the driver's errors as sentences, if nothing in it did."""

    @wraps(method)
    def told(self: Connected, *given: Any, **named: Any) -> Any:
        try:
            return method(self, *given, **named)
        except Exception as error:
            if not isinstance(error, SQLAlchemyError) and not _from_driver(error):
                raise
            self.rollback()
            raise refused("Asking", "the target", self.engine.place, error) from None

    return told


def refused(doing: str, what: str, place: str, error: Exception) -> OutsideError:
    """The error for an engine's refusal."""
    why = reason(error)
    # Only where rows were on their way is there a batch to speak of.
    open_batch = doing in ("Writing to", "Committing to")
    kept = "nothing of the open batch was kept" if open_batch else "what was committed stays"
    sentence = f"{doing} {what} failed in {place}: {why}; {kept}."
    if _is_lost(getattr(error, "orig", None) or error):
        sentence = f"{sentence[:-1]}, and the same command goes on when {place} answers again."
    elif _is_full(why):
        sentence = f"{sentence[:-1]}: free some space there, then the same command goes on."
    if _is_refusal(getattr(error, "orig", None) or error):
        return RefusedError(sentence, why)
    return OutsideError(sentence)


def reason(error: BaseException) -> str:
    """The first line of what a driver says, without SQL, addresses of manuals or secrets."""
    cause = getattr(error, "orig", None) or error
    if len(cause.args) == 2 and isinstance(cause.args[0], int):
        # MariaDB's drivers give a number and a sentence.
        cause = Exception(cause.args[1])
    lines = [line.strip() for line in str(cause).splitlines() if line.strip()]
    text = lines[0] if lines else "the connection is closed"
    return text.removeprefix("(").rstrip(".")


# What drivers call it when rows are to blame rather than the server or the statement.
_REFUSALS = {
    "IntegrityError",
    "DataError",
    "ConstraintException",
    "ConversionException",
    "OutOfRangeException",
}


def _is_refusal(error: BaseException) -> bool:
    return any(kind.__name__ in _REFUSALS for kind in type(error).__mro__)


def _is_full(why: str) -> bool:
    """Whether the server's disk has no room left, in the words of any of the engines."""
    words = ("no space left", "disk full", "disk is full", "' is full", "out of disk")
    return any(word in why.lower() for word in words)


def is_crowded(why: str) -> bool:
    """Whether a server has no connection left for us, in the words of any of the engines."""
    words = ("too many clients", "too many connections", "slots are reserved")
    return any(word in why.lower() for word in words)


def _is_lost(error: BaseException) -> bool:
    """Whether the connection broke, rather than the server having refused."""
    kind, module = type(error).__name__, type(error).__module__.split(".")[0]
    if module == "psycopg":
        state = getattr(error, "sqlstate", None) or ""
        # Without a state the server said nothing; 08 and 57P are its words for going away.
        gone = not state or state.startswith(("08", "57P"))
        return gone and isinstance(error, (_psycopg().OperationalError, _psycopg().InterfaceError))
    if module == "pymysql":
        # The client's own numbers begin at 2000.
        number = error.args[0] if error.args else 0
        return kind == "InterfaceError" or (isinstance(number, int) and 2000 <= number < 3000)
    return isinstance(error, OSError)


def _psycopg() -> Any:
    import psycopg

    return psycopg


def _from_driver(error: Exception) -> bool:
    return type(error).__module__.split(".")[0] in (
        "sqlite3",
        "psycopg",
        "pymysql",
        "duckdb",
        "_duckdb",
    )
