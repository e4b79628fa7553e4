"""What all SQL targets share: how they are reached, their columns, types and digests."""

from __future__ import annotations

import json
import logging
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any, ClassVar

import pyarrow.compute as pc
import sqlalchemy as sa
from sqlalchemy.engine import URL, Connection
from sqlalchemy.exc import NoSuchTableError, SQLAlchemyError
from sqlalchemy.schema import CreateTable

from splarn.core.digest import ColumnDigest
from splarn.core.engine import ReadBack, TableColumn, Writer
from splarn.core.errors import OutsideError, RequestError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.marks import Marks
from splarn.core.names import schema_and_name
from splarn.engines.connected import is_crowded, reason
from splarn.engines.figures import read_digests
from splarn.engines.tables import TablesSession

# What it logs of connections that break while they are closed is told by sessions, as sentences.
logging.getLogger("sqlalchemy.pool").setLevel(logging.CRITICAL)
# A table of one session's own, for rows that are looked for.
OWN = "splarn_sample"


class SqlEngine(ABC):
    """A target that SQLAlchemy has a dialect for."""

    name = ""
    title = ""
    driver = ""
    extra = ""
    in_process = False
    reads_parts = False
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "durability": ("full",),
        "indexes": ("keep", "rebuild"),
        "route": ("direct", "landing"),
    }
    reach_hint = "check that the server runs and that the URL is right"

    def __init__(self, url: URL) -> None:
        self.url = url
        self.place = url.set(query={}).render_as_string(hide_password=True)

    def connect(self) -> SqlSession:
        """Opens a session. Raises OutsideError when the target cannot be reached."""
        try:
            engine = self._make_engine()
        except ModuleNotFoundError as error:
            raise RequestError(
                f"{self.place} needs the driver {error.name}, which is not installed: "
                f"pip install 'splarn[{self.extra}]'."
            ) from None
        try:
            return self._session(engine.connect())
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
            self.url.set(drivername=f"{self.name}+{self.driver}"), poolclass=sa.NullPool
        )

    @abstractmethod
    def _session(self, connection: Connection) -> SqlSession:
        """The kind of session this engine has."""


class SqlSession(TablesSession):
    """One connection and its transaction."""

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session."""
        with self.failing("Looking at the table", table):
            schema, bare = schema_and_name(table)
            try:
                found = sa.inspect(self.connection).get_columns(bare, schema=schema)
            except NoSuchTableError:
                return None
            return [
                TableColumn(
                    entry["name"],
                    field_type(entry["type"]),
                    _is_optional(entry),
                    entry.get("autoincrement") is True or bool(entry.get("identity")),
                    bool(entry.get("computed")),
                )
                for entry in found
            ]

    def create(self, table: str, layout: Layout) -> None:
        """See Session."""
        with self.failing("Making the table", table):
            self.connection.execute(CreateTable(self.engine.table(table, layout)))

    # What of a changed row its mark tells.
    marks_changes = False

    def columns_text(self, table: str) -> str:
        """See Session."""
        schema, bare = schema_and_name(table)
        with self.failing("Looking at the table", table):
            found = sa.inspect(self.connection).get_columns(bare, schema=schema)
        return json.dumps([[column["name"], str(column["type"])] for column in found])

    def fingerprint(self, table: str, marks: Marks | None = None) -> str:
        """See Session. The sum of a hash of each row, so that their order does not matter."""
        declared = json.loads(self.columns_text(table))
        where = "" if marks is None else f" WHERE {self.within(table, marks)}"
        columns = [
            self.hashed_cell(self.quoted(name, dotted=False), str(kind)) for name, kind in declared
        ]
        with self.failing("Reading the rows of", table):
            found = self.run(
                f"SELECT sum({self.row_hash(columns)}) FROM {self.quoted(table)} AS t{where}"
            )
            return f"{self.hash_name()}:{found.scalar_one() or 0}"

    @abstractmethod
    def hash_name(self) -> str:
        """How rows are hashed: figures by another way cannot be held against one another."""

    def hashed_cell(self, column: str, declared: str) -> str:
        """An expression for a cell that `row_hash` takes."""
        return column

    @abstractmethod
    def row_hash(self, columns: Sequence[str]) -> str:
        """An expression for a hash of a row's cells, each told from the next and from null."""

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Session. They go into a table of this session's own, as the engine stores them."""
        key = _most_telling(fields, rows)
        if key is None:
            return ReadBack()
        rows = rows.filter(pc.is_valid(rows.column(key)))
        names = rows.column_names
        listed, wanted = self.listed(names), self.quoted(key, dotted=False)
        texts = ", ".join(self.as_text(self.quoted(name, dotted=False)) for name in names)
        with self.failing("Reading rows back from", table):
            try:
                query = f"SELECT {listed} FROM {self.quoted(table)} WHERE 1 = 0"
                self.run(self.own_table(query, next(f for f in fields if f.name == key)))
                self.fill(OWN, rows)
                found = self.run(
                    f"SELECT {texts} FROM {self.quoted(OWN)} EXCEPT SELECT {texts} FROM "
                    f"{self.quoted(table)} WHERE {wanted} IN "
                    f"(SELECT {wanted} FROM {self.quoted(OWN)})"
                ).fetchall()
            finally:
                self.drop_own()
        absent = (
            {
                name: value.decode(errors="replace") if isinstance(value, bytes) else value
                for name, value in zip(names, row, strict=True)
            }
            for row in found
        )
        return ReadBack(len(rows), tuple(absent))

    def own_table(self, query: str, key: Field) -> str:
        """The statement that makes a table of this session's own like a query's result.

        Its rows are looked for by their `key`. It must not end the open transaction.
        """
        return f"CREATE TEMPORARY TABLE {self.quoted(OWN)} AS {query}"

    def drop_own(self) -> None:
        """Removes that table; where the transaction has failed it goes with it."""
        with suppress(Exception):
            self.run(f"DROP TABLE IF EXISTS {self.quoted(OWN)}")

    def fill(self, table: str, rows: Any) -> None:
        """Puts the rows of a pyarrow Table into a table."""
        names = rows.column_names
        writer = self.writer(table, Layout(table, Dialect(), (Field("any"),)), names)
        writer.put(Loose(rows), 0, len(rows))  # type: ignore[arg-type]
        writer.close()

    @abstractmethod
    def as_text(self, column: str) -> str:
        """An expression for a value as text to the letter, null for null."""

    @abstractmethod
    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Session."""

    def digest(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Session."""
        where = None if marks is None else self.within(table, marks)
        return self.digest_where(table, fields, where)

    def digest_where(
        self, table: str, fields: Sequence[Field], condition: str | None
    ) -> list[ColumnDigest]:
        """Digests of the rows for which a condition holds, in one scan for so many columns."""
        if len(fields) > AT_ONCE:
            # Engines limit how many columns a result may have.
            found = []
            for first in range(0, len(fields), AT_ONCE):
                found += self.digest_where(table, fields[first : first + AT_ONCE], condition)
            return found
        parts = ["count(*)"]
        for field in fields:
            column = self.quoted(field.name, dotted=False)
            parts += [f"count({column})", self.total(column, field)]
            if not field.is_text:
                parts += self.extremes(column, field)
        where = f" WHERE {condition}" if condition else ""
        with self.failing("Reading the digests of", table):
            # The driver's own cursor: the statement holds no value from outside.
            cursor = self.driver_connection.cursor()
            cursor.execute(f"SELECT {', '.join(parts)} FROM {self.quoted(table)}{where}")
            found = list(cursor.fetchone())
            cursor.close()
        return read_digests(found, fields)

    @abstractmethod
    def total(self, column: str, field: Field) -> str:
        """An SQL expression for a column's sum as its digest has it."""

    def extremes(self, column: str, field: Field) -> list[str]:
        """SQL expressions for a column's smallest and largest value, which `figure` can read."""
        return [f"min({column})", f"max({column})"]


# Columns whose digests are asked for in one statement; each takes up to four of its result.
AT_ONCE = 300


@dataclass(frozen=True)
class Loose:
    """Typed rows that were read from no file."""

    table: Any


def _most_telling(fields: Sequence[Field], rows: Any) -> str | None:
    """The field that tells most rows apart and can be looked for; None where there is none."""
    known = [
        field for field in fields
        if not field.is_json and not (field.type == "number" and not field.is_decimal)
    ]  # fmt: skip
    unique = [field for field in known if field.unique]
    counts = {
        field.name: pc.count_distinct(rows.column(field.name), mode="only_valid").as_py()
        for field in unique or known
    }
    # A number is looked for more quickly than a text.
    best = sorted(known, key=lambda field: (-counts.get(field.name, 0), field.is_text))
    return best[0].name if best and counts.get(best[0].name) else None


def _is_optional(column: Any) -> bool:
    return bool(
        column["nullable"]
        or column.get("default") is not None
        or column.get("autoincrement") is True
        or column.get("identity")
        or column.get("computed")
    )


def field_type(type_: sa.types.TypeEngine[Any]) -> str:
    """Our word for a column type; `any` for one that Splarn does not judge."""
    for kind, name in (
        (sa.Boolean, "boolean"),
        (sa.Integer, "integer"),
        (sa.Numeric, "number"),
        (sa.DateTime, "datetime"),
        (sa.Date, "date"),
        (sa.Time, "time"),
        (sa.Uuid, "string"),
        (sa.JSON, "string"),
        (sa.String, "string"),
    ):
        if isinstance(type_, kind):
            return name
    return "any"
