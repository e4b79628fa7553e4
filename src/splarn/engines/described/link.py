"""A connection to a described engine by a driver of the Python database interface (PEP 249)."""

from __future__ import annotations

import re
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import import_module
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine.default import DefaultDialect
from sqlalchemy.sql.compiler import IdentifierPreparer

from splarn.core.errors import OutsideError, RequestError
from splarn.core.source.secrets import filled
from splarn.engines.described.description import Description
from splarn.engines.described.templates import Quoting
from splarn.engines.sql.errors import add_driver, from_driver, reason
from splarn.engines.sql.link import Answer, Link

FLIGHT = "adbc_driver_flightsql.dbapi"


# What is warned of is caught for one thread at a time.
_WARNED = threading.Lock()


class Unkept(Exception):
    """What a driver warns of as it connects: a transaction that would be none."""


def driver_of(description: Description) -> Any:
    """The driver's module. Raises RequestError where it is not installed or is none."""
    told = description.connection
    name = told.module or ("pyodbc" if told.odbc else FLIGHT)
    try:
        module = import_module(name)
    except ImportError as error:
        bringing = {FLIGHT: "pip install 'splarn[flight]'", "pyodbc": "pip install pyodbc"}
        raise RequestError(
            f"The description {description.path} needs the driver {name}, which cannot be imported "
            f"({error}): {bringing.get(name, 'install the package that brings it')}."
        ) from None
    if not hasattr(module, "connect") or not hasattr(module, "paramstyle"):
        raise RequestError(
            f"The description {description.path} names the module {name}, which is no driver of "
            "the Python database interface (it has no connect or no paramstyle): name another."
        )
    # What it raises is told as sentences.
    add_driver(name)
    for kind in (getattr(module, "Error", None), getattr(module, "Warning", None)):
        if kind is not None:
            add_driver(kind.__module__)
    return module


def _filled(value: Any, what: str) -> Any:
    """What connect is given, with what stands under ${NAME} in the environment."""
    if isinstance(value, dict):
        return {name: _filled(one, what) for name, one in value.items()}
    if isinstance(value, list):
        return [_filled(one, what) for one in value]
    return filled(value, what) if isinstance(value, str) else value


_NAMED = re.compile(r"'(\$\{\w+\})'|(\$\{\w+\})")


def _with_secrets(statement: str, quoting: Quoting, what: str) -> str:
    """A statement with each ${NAME} as a text, whether or not marks stand around it."""
    return _NAMED.sub(lambda found: quoting.text(filled(found[1] or found[2], what)), statement)


def quoting_of(description: Description) -> Quoting:
    """How this engine's statements are written."""
    texts = description.texts
    return Quoting(description.names.quotes, texts.backslashes, texts.true, texts.false)


def _flown(module: Any, positional: list[str], arguments: dict[str, Any]) -> Any:
    """A connection by Arrow Flight SQL, whose driver only warns where it keeps no transactions.

    Raises Unkept where they were asked for.
    """
    with _WARNED, warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        link = module.connect(*positional, **arguments)
    if said and not arguments.get("autocommit"):
        link.close()
        raise Unkept(str(said[0].message))
    return link


def _dialect(module: Any, description: Description) -> DefaultDialect:
    before, behind = description.names.quotes

    class Preparer(IdentifierPreparer):
        """Quotes every name by the declared marks."""

        def __init__(self, dialect: Any, **_: Any) -> None:
            super().__init__(dialect, initial_quote=before, final_quote=behind)

        def _requires_quotes(self, value: str) -> bool:
            return True

    class Dialect(DefaultDialect):
        """What SQLAlchemy must know to write the statements of notes."""

        preparer: Any = Preparer
        supports_statement_cache = False
        supports_multivalues_insert = True

    return Dialect(paramstyle=module.paramstyle)


class DescribedLink(Link):
    """One connection of the driver's own."""

    def __init__(self, description: Description) -> None:
        super().__init__(description.engine.place)
        module = driver_of(description)
        self.description, self.quoting = description, quoting_of(description)
        self.dialect = _dialect(module, description)
        told = description.connection
        what = f"The description {description.path}"
        arguments = _filled(told.arguments, what)
        if told.flight and not description.abilities.transactions:
            arguments = {"autocommit": True, **arguments}
        self._begin, self._begun = told.begin, False
        self._held: Any = None
        positional = [filled(told.odbc or told.flight, what)] if not told.module else []
        try:
            if told.flight:
                self._driver = _flown(module, positional, arguments)
            else:
                self._driver = module.connect(*positional, **arguments)
            for statement in told.begins:
                self._ask(_with_secrets(statement, self.quoting, what), None)
            self._commit()
        except Unkept as error:
            raise RequestError(
                f"The driver of {self.place} keeps no transactions ({error}): take "
                f"abilities.transactions out of {description.path}, or mend connection.arguments "
                "where it is that nobody is let in."
            ) from None
        except TypeError as error:
            raise RequestError(
                f"{what} gives {told.module or 'the driver'} arguments that it does not take "
                f"({error}): mend connection.arguments."
            ) from None
        except Exception as error:
            if not from_driver(error) and not isinstance(error, OSError):
                raise
            raise OutsideError(
                f"{self.place} cannot be reached ({reason(error)}): check that it runs, and "
                f"connection.arguments in {description.path}."
            ) from None

    @property
    def driver(self) -> Any:
        """See Link."""
        return self._driver

    def say(self, template: str, **values: Any) -> Answer:
        """Runs a statement of the description with its values quoted by the declared rules."""
        return self._ask(self.quoting.filled(template, values), None)

    def number(self, key: str, answer: Answer) -> int:
        """The whole number that a statement of the description answers; 0 for null and no row.

        Raises OutsideError where it is none; `key` is the statement's.
        """
        try:
            return int(answer.value or 0)
        except (TypeError, ValueError):
            raise self.unreadable(key, "a number", answer) from None

    def unreadable(self, key: str, wanted: str, answer: Answer) -> OutsideError:
        """The error for an answer that is not what it must be."""
        found = ", ".join(map(repr, answer.rows[0])) if answer.rows else "no row"
        return OutsideError(
            f"{key} of {self.description.path} must answer {wanted}, and {self.place} answered "
            f"{found}: mend it (`splarn doctor --engine` tries all of them)."
        )

    def run(self, statement: str, **values: Any) -> Answer:
        """See Link."""
        if values:
            return self.execute(sa.text(statement).bindparams(**values))
        return self._ask(statement, None)

    def execute(self, statement: sa.Executable) -> Answer:
        """See Link."""
        writing: Any = statement
        compiled = writing.compile(
            dialect=self.dialect, compile_kwargs={"render_postcompile": True}
        )
        positions = getattr(compiled, "positiontup", None)
        if positions is not None:
            given: Any = [compiled.params[name] for name in positions]
        else:
            given = compiled.params
        return self._ask(str(compiled), given or None)

    def _ask(self, statement: str, given: Any) -> Answer:
        self.begin()
        with self._cursor() as cursor:
            if given is None:
                cursor.execute(statement)
            else:
                cursor.execute(statement, given)
            if cursor.description:
                names = tuple(str(column[0]) for column in cursor.description)
                rows = [tuple(row) for row in cursor.fetchall()]
                changed = rows[0][0] if _counts(statement, rows) else cursor.rowcount
                return Answer(names, rows, int(changed))
            return Answer((), (), int(cursor.rowcount))

    @contextmanager
    def _cursor(self) -> Iterator[Any]:
        """A cursor: of its own for each statement, or the one that holds the transaction."""
        if self._held is not None:
            yield self._held
            return
        cursor = self._driver.cursor()
        try:
            yield cursor
        finally:
            cursor.close()

    def begin(self) -> None:
        """See Link. Most drivers begin transactions by themselves."""
        if not self._begun and self._begin:
            self._held = self._held or self._driver.cursor()
            self._held.execute(self._begin)
        self._begun = True

    def _commit(self) -> None:
        if self._begun:
            self._end("COMMIT", self._driver.commit)
        self._begun = False

    def _rollback(self) -> None:
        begun, self._begun = self._begun, False
        try:
            if begun:
                self._end("ROLLBACK", self._driver.rollback)
        except Exception as error:
            # A transaction or a connection that is gone needs none.
            if not from_driver(error):
                raise

    def _end(self, statement: str, by_driver: Callable[[], object]) -> None:
        if self._held is not None:
            self._held.execute(statement)
        else:
            by_driver()

    def close(self) -> None:
        """See Link."""
        try:
            if self._held is not None:
                self._held.close()
            self._driver.close()
        except Exception as error:
            if not from_driver(error):
                raise


def _counts(statement: str, rows: list[tuple[Any, ...]]) -> bool:
    """Whether a driver answers a change with a row that says how many rows it changed."""
    word = statement.split(None, 1)[0].upper() if statement.strip() else ""
    changes = word in ("UPDATE", "INSERT", "DELETE", "COPY", "LOAD")
    return changes and len(rows) == 1 and len(rows[0]) == 1 and isinstance(rows[0][0], int)
