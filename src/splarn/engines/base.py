"""What all SQL targets share: connections, tables, notes of loads, counts and digests."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import URL, Connection
from sqlalchemy.exc import NoSuchTableError, SQLAlchemyError
from sqlalchemy.schema import CreateTable

from splarn.core.digest import ColumnDigest
from splarn.core.engine import LoadNote, PartNote, TableColumn, Writer
from splarn.core.errors import OutsideError, RefusedError, RequestError
from splarn.core.layout import Field, Layout
from splarn.engines.figures import read_digests

_NOTES = sa.MetaData()
# One row a load (with an empty part_id) and one a part of it.
PROGRESS = sa.Table(
    "splarn_progress",
    _NOTES,
    sa.Column("load_id", sa.String(40), primary_key=True),
    sa.Column("part_id", sa.String(80), primary_key=True),
    sa.Column("table_name", sa.String(200), nullable=False),
    sa.Column("name", sa.String(500), nullable=False),
    sa.Column("state", sa.String(10), nullable=False),
    sa.Column("mode", sa.String(10), nullable=False),
    sa.Column("started", sa.String(40), nullable=False),
    sa.Column("position", sa.BigInteger, nullable=False),
    sa.Column("rows_in", sa.BigInteger, nullable=False),
    sa.Column("rows_refused", sa.BigInteger, nullable=False),
)


class SqlEngine(ABC):
    """A target that SQLAlchemy has a dialect for."""

    name = ""
    driver = ""
    extra = ""
    in_process = False
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
        except (SQLAlchemyError, OSError) as error:
            engine.dispose()
            raise OutsideError(
                f"{self.place} cannot be reached ({reason(error)}): {self.reach_hint}."
            ) from None

    def ddl(self, table: str, layout: Layout) -> str:
        """The statement that makes the table."""
        statement = CreateTable(self.table(table, layout))
        return str(statement.compile(dialect=self.url.get_dialect()())).strip() + ";"

    def table(self, name: str, layout: Layout) -> sa.Table:
        """The table as SQLAlchemy sees it; a schema may stand before a dot."""
        schema, _, bare = name.rpartition(".")
        columns = [
            sa.Column(field.name, self.column_type(field), nullable=not field.required)
            for field in layout.fields
        ]
        return sa.Table(bare, sa.MetaData(), *columns, schema=schema or None)

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


class SqlSession(ABC):
    """One connection and its transaction."""

    def __init__(self, engine: SqlEngine, connection: Connection) -> None:
        self.engine = engine
        self.connection = connection
        self._notes_made = False

    @property
    def driver_connection(self) -> Any:
        """The driver's own connection, for the bulk path in the same transaction."""
        return self.connection.connection.driver_connection

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session."""
        with self.failing("Looking at the table", table):
            schema, _, bare = table.rpartition(".")
            try:
                found = sa.inspect(self.connection).get_columns(bare, schema=schema or None)
            except NoSuchTableError:
                return None
            return [
                TableColumn(entry["name"], field_type(entry["type"]), _is_optional(entry))
                for entry in found
            ]

    def create(self, table: str, layout: Layout) -> None:
        """See Session."""
        with self.failing("Making the table", table):
            self.connection.execute(CreateTable(self.engine.table(table, layout)))

    def empty(self, table: str) -> None:
        """See Session."""
        with self.failing("Emptying the table", table):
            self.connection.execute(sa.text(f"DELETE FROM {self.quoted(table)}"))

    def drop(self, table: str) -> None:
        """See Session."""
        with self.failing("Dropping the table", table):
            self.connection.execute(sa.text(f"DROP TABLE IF EXISTS {self.quoted(table)}"))
            if self._has_notes():
                self.connection.execute(PROGRESS.delete().where(PROGRESS.c.table_name == table))

    def count(self, table: str) -> int:
        """See Session."""
        with self.failing("Counting the rows of", table):
            found = self.connection.execute(sa.text(f"SELECT count(*) FROM {self.quoted(table)}"))
            return int(found.scalar_one())

    @abstractmethod
    def writer(self, table: str, layout: Layout) -> Writer:
        """See Session."""

    def digest(self, table: str, fields: Sequence[Field]) -> list[ColumnDigest]:
        """See Session. One scan for all columns."""
        parts = ["count(*)"]
        for field in fields:
            column = self.quoted(field.name, dotted=False)
            parts += [f"count({column})", self.total(column, field)]
            if not field.is_text:
                parts += self.extremes(column, field)
        with self.failing("Reading the digests of", table):
            # The driver's own cursor: the statement holds no value from outside.
            cursor = self.driver_connection.cursor()
            cursor.execute(f"SELECT {', '.join(parts)} FROM {self.quoted(table)}")
            found = list(cursor.fetchone())
            cursor.close()
        return read_digests(found, fields)

    @abstractmethod
    def total(self, column: str, field: Field) -> str:
        """An SQL expression for a column's sum as its digest has it."""

    def extremes(self, column: str, field: Field) -> list[str]:
        """SQL expressions for a column's smallest and largest value, which `figure` can read."""
        return [f"min({column})", f"max({column})"]

    def loads(self, table: str) -> list[LoadNote]:
        """See Session."""
        if not self._has_notes():
            return []
        with self.failing("Reading the notes of", table):
            found = self.connection.execute(
                sa.select(PROGRESS)
                .where(PROGRESS.c.table_name == table, PROGRESS.c.part_id == "")
                .order_by(PROGRESS.c.started, PROGRESS.c.load_id)
            )
            return [
                LoadNote(row.load_id, row.table_name, row.state, row.mode, row.started)
                for row in found
            ]

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Session."""
        if not load_ids or not self._has_notes():
            return []
        with self.failing("Reading the notes of", "earlier loads"):
            found = self.connection.execute(
                sa.select(PROGRESS).where(
                    PROGRESS.c.load_id.in_(load_ids), PROGRESS.c.part_id != ""
                )
            )
            return [
                PartNote(
                    row.load_id,
                    row.part_id,
                    row.name,
                    row.state,
                    row.position,
                    row.rows_in,
                    row.rows_refused,
                )
                for row in found
            ]

    def note_load(self, note: LoadNote) -> None:
        """See Session."""
        with self.failing("Noting a load into", note.table):
            if not self._has_notes():
                self.connection.execute(CreateTable(PROGRESS))
                self._notes_made = True
            changed = self.connection.execute(
                PROGRESS.update()
                .where(PROGRESS.c.load_id == note.load_id, PROGRESS.c.part_id == "")
                .values(state=note.state)
            )
            if not changed.rowcount:
                self._insert(note.load_id, "", note.table, "", note.state, note.mode, note.started)

    def note_part(self, note: PartNote) -> None:
        """See Session."""
        with self.failing("Noting the part", note.name):
            self._insert(note.load_id, note.part_id, "", note.name, note.state, "", "")

    def _insert(
        self,
        load_id: str,
        part_id: str,
        table: str,
        name: str,
        state: str,
        mode: str,
        started: str,
    ) -> None:
        self.connection.execute(
            PROGRESS.insert().values(
                load_id=load_id,
                part_id=part_id,
                table_name=table,
                name=name,
                state=state,
                mode=mode,
                started=started,
                position=0,
                rows_in=0,
                rows_refused=0,
            )
        )

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Session."""
        with self.failing("Noting the progress of", now.name):
            changed = self.connection.execute(
                PROGRESS.update()
                .where(
                    PROGRESS.c.load_id == was.load_id,
                    PROGRESS.c.part_id == was.part_id,
                    PROGRESS.c.state == was.state,
                    PROGRESS.c.position == was.position,
                )
                .values(
                    state=now.state,
                    position=now.position,
                    rows_in=now.rows,
                    rows_refused=now.refused,
                )
            )
        if changed.rowcount != 1:
            raise OutsideError(
                f"Another loader is at work on {now.name} in {self.engine.place}: this one stopped "
                "before its batch was committed; wait for the other to end."
            )

    def commit(self) -> None:
        """See Session."""
        with self.failing("Committing to", self.engine.place):
            self.connection.commit()

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

    def quoted(self, name: str, dotted: bool = True) -> str:
        """An identifier as the engine writes it; a table may have its schema before a dot."""
        quote = self.connection.dialect.identifier_preparer.quote_identifier
        return ".".join(quote(piece) for piece in (name.split(".") if dotted else [name]))

    def _has_notes(self) -> bool:
        if not self._notes_made:
            self._notes_made = sa.inspect(self.connection).has_table(PROGRESS.name)
        return self._notes_made

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


def refused(doing: str, what: str, place: str, error: Exception) -> OutsideError:
    """The error for an engine's refusal."""
    why = reason(error)
    sentence = f"{doing} {what} failed in {place}: {why}; nothing of the open batch was kept."
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
    text = lines[0] if lines else type(cause).__name__
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


def _from_driver(error: Exception) -> bool:
    return type(error).__module__.split(".")[0] in (
        "sqlite3",
        "psycopg",
        "pymysql",
        "duckdb",
        "_duckdb",
    )


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
