"""MariaDB and MySQL: LOAD DATA LOCAL from a pipe, one connection a stream."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.engine import URL, Connection

from splarn.core.digest import ColumnDigest, add_digests
from splarn.core.engine import TableIndex, Writer
from splarn.core.errors import OutsideError
from splarn.core.layout import Field, Layout
from splarn.core.marks import Marks
from splarn.engines.base import OWN, SqlEngine
from splarn.engines.mariadb_catalogue import MariadbCatalogue
from splarn.engines.mariadb_writer import LoadDataWriter
from splarn.engines.notes import notes_table
from splarn.engines.pipe import Flow
from splarn.engines.tables import between

# Rows from which on two connections read a table's digests in less time than one.
WORTH_TWO = 200_000
# Seconds for which the server bears with a client that sends nothing.
PATIENCE = 3600


class MariadbEngine(SqlEngine):
    """A database on a MariaDB or MySQL server."""

    name = "mysql"
    title = "MariaDB"
    driver = "pymysql"
    extra = "mariadb"

    def __init__(self, url: URL) -> None:
        super().__init__(url)
        # One dialect for both servers, under the name that its options go by.
        self.url = url.set(drivername=f"{self.name}+{self.driver}")

    def table(self, name: str, layout: Layout) -> sa.Table:
        """See SqlEngine. Text is told apart to the letter."""
        table = super().table(name, layout)
        table.dialect_options["mysql"]["engine"] = "InnoDB"
        table.dialect_options["mysql"]["charset"] = "utf8mb4"
        table.dialect_options["mysql"]["collate"] = "utf8mb4_bin"
        return table

    def column_type(self, field: Field) -> sa.types.TypeEngine[Any]:
        """See SqlEngine."""
        if field.is_uuid:
            return mysql.CHAR(36)
        if field.type == "string" and field.max_length is not None and field.max_length < 16_000:
            return mysql.VARCHAR(field.max_length)
        if field.is_text:
            return mysql.LONGTEXT()
        types: dict[str, sa.types.TypeEngine[Any]] = {
            "datetime": mysql.DATETIME(fsp=6),
            "time": mysql.TIME(fsp=6),
            "number": mysql.DOUBLE(),
        }
        if field.is_decimal or field.type not in types:
            return super().column_type(field)
        return types[field.type]

    def _make_engine(self) -> sa.Engine:
        engine = sa.create_engine(
            self.url,
            poolclass=sa.NullPool,
            connect_args={"local_infile": True, "charset": "utf8mb4"},
        )

        @sa.event.listens_for(engine, "connect")
        def strictly(connection: Any, _record: Any) -> None:
            with connection.cursor() as cursor:
                cursor.execute("SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES'")
                cursor.execute("SET SESSION time_zone = '+00:00'")
                cursor.execute(f"SET SESSION net_read_timeout = {PATIENCE}")

        return engine

    def _session(self, connection: Connection) -> MariadbSession:
        return MariadbSession(self, connection)


class MariadbSession(MariadbCatalogue):
    """One connection to the server. Changes of tables commit whatever is open."""

    def __init__(self, engine: SqlEngine, connection: Connection) -> None:
        super().__init__(engine, connection)
        self._locked: set[str] = set()
        self.flowing: Flow | None = None

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Session."""
        return LoadDataWriter(self, table, names)

    def flow(self, into: str) -> None:
        """Begins a LOAD DATA LOCAL in the open transaction."""
        if not self.connection.in_transaction():
            self.connection.begin()
        self.flowing = Flow(self.driver_connection, into)

    def end_flow(self) -> Flow:
        """Ends the LOAD DATA LOCAL under way, all of it being handed on."""
        done, self.flowing = self.flowing, None
        assert done is not None, "no load is under way"
        done.end()
        return done

    def rollback(self) -> None:
        """See Session. What is under way is ended first; its rows go too."""
        if self.flowing is not None:
            with suppress(Exception):
                self.end_flow()
        super().rollback()

    def close(self) -> None:
        """See Session."""
        if self.flowing is not None:
            self.rollback()
        super().close()

    def checkpoint(self) -> None:
        """See Session."""
        self.connection.commit()

    def lock(self, table: str) -> None:
        """See Session. Held over the commits of table changes; earlier reads are forgotten."""
        if table not in self._locked and not self._get(f"splarn table {table}", 120):
            raise OutsideError(
                f"Another loader has been beginning or ending a load into {table} of "
                f"{self.engine.place} for two minutes: wait for it to end."
            )
        self._locked.add(table)
        self.connection.commit()

    def hash_name(self) -> str:
        """See SqlSession."""
        return "mariadb-crc32"

    def row_hash(self, columns: Sequence[str]) -> str:
        """See SqlSession. A null is written as a byte that no UTF-8 has."""
        cells = ", ".join(f"ifnull(cast({column} AS BINARY), 0xFE)" for column in columns)
        return f"crc32(concat_ws(0xFF, {cells}))"

    def as_text(self, column: str) -> str:
        """See SqlSession."""
        return f"cast({column} AS BINARY)"

    def own_table(self, query: str, key: Field) -> str:
        """See SqlSession. Without an index each row would be held against each."""
        column = f"{self.quoted(key.name, dotted=False)}{'(60)' if key.is_text else ''}"
        return f"CREATE TEMPORARY TABLE {self.quoted(OWN)} (INDEX ({column})) AS {query}"

    def drop_own(self) -> None:
        """See SqlSession."""
        with suppress(Exception):
            self.run(f"DROP TEMPORARY TABLE IF EXISTS {self.quoted(OWN)}")

    def note_schemas(self) -> list[str | None]:
        """See NotesSession. Of the database of the URL, and of those that were loaded into."""
        here = self.run("SELECT database()").scalar_one()
        wanted = {here, *self._notes_made} - {None}
        return [schema for schema in sorted(wanted) if self._has_notes(schema)]

    def _make_notes(self, schema: str | None) -> None:
        # Making a table commits, so whoever else makes it waits for a lock of its own.
        name = f"splarn notes {schema}"
        made = self._has_notes(schema)
        if not made and not self._get(name, 120):
            raise OutsideError(f"Another loader has held the notes of {schema} for two minutes.")
        super()._make_notes(schema)
        if not made:
            self.connection.commit()
            self._leave(name)

    def claim(self, load_id: str) -> bool:
        """See Session."""
        return self._get(f"splarn load {load_id}", 0)

    def _get(self, name: str, seconds: int) -> bool:
        with self.failing("Waiting for", self.engine.place):
            # Names of locks are short, and the same on the whole server.
            key = hashlib.sha256(name.encode()).hexdigest()[:32]
            return bool(self.run("SELECT GET_LOCK(:key, :s)", key=key, s=seconds).scalar_one())

    def release(self, table: str) -> None:
        """See Session."""
        if table in self._locked:
            self._locked.discard(table)
            with self.failing("Releasing", table):
                self._leave(f"splarn table {table}")
                self.connection.commit()

    def _leave(self, name: str) -> None:
        key = hashlib.sha256(name.encode()).hexdigest()[:32]
        self.run("SELECT RELEASE_LOCK(:key)", key=key)

    def settle(self, load_id: str) -> None:
        """See Session."""
        with self.failing("Waiting for the batches of", load_id):
            for schema in self.note_schemas():
                notes = notes_table(schema)
                mine = sa.select(notes.c.state).where(notes.c.load_id == load_id)
                self.connection.execute(mine.with_for_update()).fetchall()
            self.commit()

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
            self.run(f"CREATE TABLE IF NOT EXISTS {self.quoted(copy)} LIKE {self.quoted(table)}")
        if not indexes:
            for index in self.indexes(copy):
                if not index.unique:
                    self.drop_index(copy, index)

    def shell(self, table: str, copy: str) -> None:
        """See Session."""
        with self.failing("Making the table", copy):
            self.run(
                f"CREATE TABLE IF NOT EXISTS {self.quoted(copy)} AS "
                f"SELECT * FROM {self.quoted(table)} LIMIT 0"
            )

    def swap(self, table: str, aside: str, before: str) -> None:
        """See Session. One statement renames both or neither."""
        pairs = [(aside, table)]
        if self.columns(table) is not None:
            pairs.insert(0, (table, before))
        renames = ", ".join(f"{self.quoted(a)} TO {self.quoted(b)}" for a, b in pairs)
        with self.failing("Swapping in the table", table):
            self.run(f"RENAME TABLE {renames}")
        for index in self.indexes(before) if len(pairs) > 1 else ():
            what = index.statement.removeprefix(f"ALTER TABLE {self.quoted(before)}")
            self.restore_index(
                table, TableIndex(index.name, f"ALTER TABLE {self.quoted(table)}{what}", False)
            )

    def drop_index(self, table: str, index: TableIndex) -> None:
        """See Session."""
        # MySQL cannot drop one only if it is there.
        if index.name not in {there.name for there in self.indexes(table)}:
            return
        with self.failing("Dropping an index of", table):
            name = self.quoted(index.name, dotted=False)
            self.run(f"ALTER TABLE {self.quoted(table)} DROP INDEX {name}")

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Session. Only by the numbers that the engine gives out, one after the other."""
        if self.identity(table) in (None, *names):
            return False
        # In mode 2 the numbers of two statements at once may mingle; with steps of more than one
        # they have gaps that another server fills.
        found = self.run("SELECT @@innodb_autoinc_lock_mode, @@auto_increment_increment")
        mode, step = found.fetchall()[0]
        return int(mode) < 2 and int(step) == 1

    def marking(self, table: str, names: Sequence[str], statement: str) -> tuple[int, Marks | None]:
        """See TablesSession."""
        done = self.run(statement)
        rows = int(done.rowcount)
        if not self.can_mark(table, names):
            return rows, None
        return rows, ((done.lastrowid, done.lastrowid + rows - 1),) if rows else ()

    def within(self, table: str, marks: Marks) -> str:
        """See TablesSession."""
        return between(self.quoted(self.identity(table) or "", dotted=False), marks)

    def digest(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See SqlSession. A second connection reads the rows of half the numbers.

        The server gives each statement one core, and most of the time goes into its expressions.
        """
        whole = next((field.name for field in fields if field.type == "integer"), None)
        if whole is None or marks is not None or self.about(table) < WORTH_TWO:
            return super().digest(table, fields, marks)
        even = f"(mod({self.quoted(whole, dotted=False)}, 2) = 0)"
        with ThreadPoolExecutor(1) as other:
            half = other.submit(self._half, table, fields, f"{even} IS TRUE")
            rest = self.digest_where(table, fields, f"{even} IS NOT TRUE")
            return add_digests(half.result(), rest)

    def _half(self, table: str, fields: Sequence[Field], where: str) -> list[ColumnDigest]:
        session = self.engine.connect()
        try:
            return session.digest_where(table, fields, where)
        finally:
            session.close()

    def total(self, column: str, field: Field) -> str:
        """See SqlSession."""
        if field.is_text:
            return f"sum(char_length({column}))"
        expressions = {
            # Days and seconds since the year 0; those of 1970 are taken off.
            "date": f"to_days({column}) - 719528",
            "datetime": f"to_seconds({column}) - 62167219200",
            "time": f"floor(time_to_sec({column}))",
        }
        return f"sum({expressions.get(field.type, column)})"
