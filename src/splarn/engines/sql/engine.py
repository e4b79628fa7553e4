"""How SQL targets are reached, and the types of their columns."""

from __future__ import annotations

import logging
from abc import ABC, abstractmethod
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy.engine import URL, Connection
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.schema import CreateTable

from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Field, Layout
from splarn.core.target.names import schema_and_name
from splarn.engines.sql.errors import is_crowded, reason
from splarn.engines.sql.link import SqlLink
from splarn.engines.sql.session import SqlSession

# What it logs of connections that break while they are closed is told by sessions, as sentences.
logging.getLogger("sqlalchemy.pool").setLevel(logging.CRITICAL)


_HERE = ("localhost", "127.0.0.1", "::1")


class SqlEngine(ABC):
    """A target that SQLAlchemy has a dialect for."""

    name = ""
    title = ""
    driver = ""
    extra = ""
    in_process = False
    reads_parts = False
    has_sizes = False
    gathers = False
    sets_aside = True
    promises: tuple[str, ...] = ()
    # Whether the URL's database is a path.
    is_file = False
    folders: tuple[Path, ...] = ()
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "durability": ("full",),
        "indexes": ("keep", "rebuild"),
        "route": ("straight", "landing"),
    }
    # What the driver is given besides the URL.
    connect_args: ClassVar[Mapping[str, Any]] = {}
    reach_hint = "check that the server runs and that the URL is right"
    # Names of the server's processes.
    server: ClassVar[tuple[str, ...]] = ()

    def __init__(self, url: URL) -> None:
        self.url = url
        self.place = url.set(query={}).render_as_string(hide_password=True)

    @property
    def processes_here(self) -> tuple[str, ...]:
        """Names of the server's processes, where it is on this machine."""
        return self.server if (self.url.host or "localhost") in _HERE else ()

    def preload(self) -> None:
        """See Engine."""
        # What is wrong with the URL is told by whoever connects.
        with suppress(ModuleNotFoundError, SQLAlchemyError, TypeError):
            self._make_engine().dispose()

    def connect(self) -> SqlSession:
        """Opens a session. Raises OutsideError when the target cannot be reached."""
        return self.session(self.link())

    def link(self) -> SqlLink:
        """Opens a connection. Raises OutsideError when the target cannot be reached."""
        try:
            engine = self._make_engine()
        except ModuleNotFoundError as error:
            raise RequestError(
                f"{self.place} needs the driver {error.name}, which is not installed: "
                f"pip install 'splarn[{self.extra}]'."
            ) from None
        try:
            connection = engine.connect()
            self._look(connection)
            return SqlLink(self.place, connection)
        except TypeError as error:
            # Options of the URL go to the driver by name.
            engine.dispose()
            option = str(error).rpartition("argument ")[2] or "an option"
            raise RequestError(
                f"{self.place} cannot be opened, since its driver does not know {option} of the "
                "URL: take that option out."
            ) from None
        except (SQLAlchemyError, OSError) as error:
            engine.dispose()
            why, hint = reason(error), self.reach_hint
            if is_crowded(why):
                hint = "try again when others have left, or ask for fewer --streams"
            raise OutsideError(f"{self.place} cannot be reached ({why}): {hint}.") from None

    def ddl(self, table: str, layout: Layout) -> str:
        """The statement that makes the table."""
        statement = CreateTable(self.table(table, layout))
        return str(statement.compile(dialect=self.url.get_dialect()())).strip() + ";"

    def table(self, name: str, layout: Layout) -> sa.Table:
        """The table as SQLAlchemy sees it; a schema may stand before a dot."""
        schema, bare = schema_and_name(name)
        columns = [
            sa.Column(field.name, self.column_type(field), nullable=not field.required)
            for field in layout.fields
        ]
        return sa.Table(bare, sa.MetaData(), *columns, schema=schema)

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """The column type that holds a field."""
        if field.is_decimal:
            return sa.Numeric(field.precision, field.scale or 0)
        types: dict[str, sa.types.TypeEngine[Any]] = {
            "integer": {16: sa.SmallInteger(), 32: sa.Integer(), 64: sa.BigInteger()}[field.bits],
            "number": sa.Double(),
            "boolean": sa.Boolean(),
            "date": sa.Date(),
            "datetime": sa.DateTime(),
            "time": sa.Time(),
        }
        if field.max_length is not None:
            return sa.String(field.max_length)
        return types.get(field.type, sa.Text())

    def _make_engine(self) -> sa.Engine:
        return sa.create_engine(
            self.url.set(drivername=f"{self.name}+{self.driver}"),
            poolclass=sa.NullPool,
            connect_args=dict(self.connect_args),
        )

    def _look(self, connection: Connection) -> None:  # noqa: B027
        """Raises where there is no database though there is a connection."""

    @abstractmethod
    def session(self, link: SqlLink) -> SqlSession:
        """A session of this engine's over a link."""
