"""A connection to a described engine by a driver of the Python database interface (PEP 249)."""

from __future__ import annotations

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
from splarn.engines.sql.errors import DRIVERS, reason
from splarn.engines.sql.link import Answer, Link

FLIGHT = "adbc_driver_flightsql.dbapi"


def driver_of(description: Description) -> Any:
    """The driver's module. Raises RequestError where it is not installed or is none."""
    told = description.connection
    name = told.module or ("pyodbc" if told.odbc else FLIGHT)
    try:
        module = import_module(name)
    except ImportError as error:
        raise RequestError(
            f"The description {description.path} needs the driver {name}, which cannot be imported "
            f"({error}): install the package that brings it."
        ) from None
    if not hasattr(module, "connect") or not hasattr(module, "paramstyle"):
        raise RequestError(
            f"The description {description.path} names the module {name}, which is no driver of "
            "the Python database interface (it has no connect or no paramstyle): name another."
        )
    # What it raises is told as sentences.
    DRIVERS.add(name.split(".")[0])
    for kind in (getattr(module, "Error", None), getattr(module, "Warning", None)):
        if kind is not None:
            DRIVERS.add(kind.__module__.split(".")[0])
    return module


def _filled(value: Any, what: str) -> Any:
    """What connect is given, with what stands under ${NAME} in the environment."""
    if isinstance(value, dict):
        return {name: _filled(one, what) for name, one in value.items()}
    if isinstance(value, list):
        return [_filled(one, what) for one in value]
    return filled(value, what) if isinstance(value, str) else value


def quoting_of(description: Description) -> Quoting:
    """How this engine's statements are written."""
    texts = description.texts
    return Quoting(description.names.quotes, texts.backslashes, texts.true, texts.false)


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
        self._begin, self._begun = told.begin, False
        self._held: Any = None
        positional = [filled(told.odbc or told.flight, what)] if not told.module else []
        try:
            self._driver = module.connect(*positional, **arguments)
            for statement in told.begins:
                self._ask(statement, None)
            self._commit()
        except TypeError as error:
            raise RequestError(
                f"{what} gives {told.module or 'the driver'} arguments that it does not take "
                f"({error}): mend connection.arguments."
            ) from None
        except Exception as error:
            if type(error).__module__.split(".")[0] not in DRIVERS and not isinstance(
                error, OSError
            ):
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
            if type(error).__module__.split(".")[0] not in DRIVERS:
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
            if type(error).__module__.split(".")[0] not in DRIVERS:
                raise


def _counts(statement: str, rows: list[tuple[Any, ...]]) -> bool:
    """Whether a driver answers a change with a row that says how many rows it changed."""
    word = statement.split(None, 1)[0].upper() if statement.strip() else ""
    changes = word in ("UPDATE", "INSERT", "DELETE", "COPY", "LOAD")
    return changes and len(rows) == 1 and len(rows[0]) == 1 and isinstance(rows[0][0], int)
