"""Tables as wholes: copies, moves, swaps and indexes, the same way for all SQL targets."""

from __future__ import annotations

import json
import re
from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any

import sqlalchemy as sa
from sqlalchemy.exc import NoSuchTableError
from sqlalchemy.schema import CreateTable

from splarn.core.layout import Layout
from splarn.core.target.names import schema_and_name, sibling
from splarn.core.target.tables import LIKE, Likeness, TableColumn, TableIndex
from splarn.engines.sql.link import Concern, Link, SqlLink

_NAME = r"""(?:"(?:[^"]|"")*"|\[[^\]]*\]|`[^`]*`|'[^']*'|[^\s("'`\[.]+)"""
_TABLE = re.compile(
    rf"\s*CREATE\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?(?:{_NAME}\.)?{_NAME}", re.IGNORECASE
)
_INDEX = re.compile(
    rf"\s*CREATE\s+(UNIQUE\s+)?INDEX\s+(?:IF\s+NOT\s+EXISTS\s+)?(?:{_NAME}\.)?{_NAME}"
    rf"\s+ON\s+(?:{_NAME}\.)?{_NAME}",
    re.IGNORECASE,
)


class SqlTables(Concern, ABC):
    """Changes to tables, for engines that change them within transactions.

    `make_table` gives the table of a layout as SQLAlchemy has it.
    """

    def __init__(self, link: Link, make_table: Callable[[str, Layout], sa.Table]) -> None:
        super().__init__(link)
        self.make_table = make_table

    @abstractmethod
    def canonical(self, table: str) -> str:
        """See Tables."""

    @abstractmethod
    def kind(self, table: str) -> str:
        """See Tables."""

    def longest_name(self) -> tuple[int, str] | None:
        """See Tables."""
        return None

    def name_refusal(self, name: str) -> str:
        """See Tables."""
        return ""

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables."""
        with self.link.failing("Looking at the table", table):
            schema, bare = schema_and_name(table)
            try:
                described = self._inspected().get_columns(bare, schema=schema)
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
                for entry in described
            ]

    def columns_text(self, table: str) -> str:
        """See Tables."""
        schema, bare = schema_and_name(table)
        with self.link.failing("Looking at the table", table):
            described = self._inspected().get_columns(bare, schema=schema)
        return json.dumps([[column["name"], str(column["type"])] for column in described])

    def _inspected(self) -> sa.Inspector:
        assert isinstance(self.link, SqlLink), "other links ask in their own way"
        return sa.inspect(self.link.connection)

    def create(self, table: str, layout: Layout) -> None:
        """See Tables."""
        with self.link.failing("Making the table", table):
            self.link.execute(CreateTable(self.make_table(table, layout)))

    @abstractmethod
    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables."""

    def _drop_plain_indexes(self, table: str) -> None:
        """Drops the indexes that refuse nothing."""
        for index in self.indexes(table):
            if not index.unique:
                self.drop_index(table, index)

    def drop(self, table: str) -> None:
        """See Tables."""
        with self.link.failing("Dropping the table", table):
            self.link.run(f"DROP TABLE IF EXISTS {self.link.quoted(table)}")

    def make_bare(self, table: str, copy: str) -> None:
        """See Tables."""
        with self.link.failing("Making the table", copy):
            self.link.run(
                f"CREATE TABLE {self.link.quoted(copy)} AS "
                f"SELECT * FROM {self.link.quoted(table)} WHERE 1=0"
            )

    @abstractmethod
    def indexes(self, table: str) -> list[TableIndex]:
        """See Tables."""

    def drop_index(self, table: str, index: TableIndex) -> None:
        """See Tables."""
        name = sibling(table, index.name)
        with self.link.failing("Dropping an index of", table):
            self.link.run(f"DROP INDEX IF EXISTS {self.link.quoted(name)}")

    def restore_index(self, table: str, index: TableIndex) -> None:
        """See Tables."""
        if index.name not in {there.name for there in self.indexes(table)}:
            with self.link.failing(f"Making the index {index.name} of", table):
                self.link.run(index.statement)

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables."""
        with self.link.failing("Swapping in the table", table):
            if self.columns(table) is not None:
                self.rename(table, before)
            self.rename(side_table, table)

    def rename(self, table: str, name: str) -> None:
        """Gives a table another name in the same schema."""
        bare = self.link.quoted(schema_and_name(name)[1], dotted=False)
        self.link.run(f"ALTER TABLE {self.link.quoted(table)} RENAME TO {bare}")

    def ties(self, table: str) -> list[str]:
        """See Tables."""
        return []

    def continue_numbers(self, table: str, column: str) -> str:
        """See Tables. The engine sees to it itself."""
        return ""


class FileTables(SqlTables):
    """For engines whose database is a file and that keep the statements tables were made with."""

    @abstractmethod
    def statement_of(self, table: str) -> str:
        """The statement that made the table."""

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables."""
        with self.link.failing("Making the table", copy):
            statement = self.statement_of(table)
            definition = statement[_end(_TABLE, statement) :]
            self.link.run(f"CREATE TABLE {self.link.quoted(copy)}{definition}")
            for index in self.indexes(table):
                if index.unique or like.indexes:
                    name = self.link.quoted(
                        sibling(copy, f"{schema_and_name(copy)[1]}_{index.name}")
                    )
                    kind = "UNIQUE " if index.unique else ""
                    definition = rest_of_index(index.statement)
                    self.link.run(
                        f"CREATE {kind}INDEX {name} ON {self.link.quoted(copy)}{definition}"
                    )

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables. Names of indexes are taken once a schema, so they move with the name."""
        kept = self.indexes(table)
        for old in kept:
            self.drop_index(table, old)
        for own in self.indexes(side_table):
            self.drop_index(side_table, own)
        super().swap(table, side_table, before)
        for index in kept:
            self.restore_index(table, index)


def rest_of_index(statement: str) -> str:
    """What follows the table's name in the statement that makes an index."""
    return statement[_end(_INDEX, statement) :]


def _end(pattern: re.Pattern[str], statement: str) -> int:
    match = pattern.match(statement)
    assert match is not None, f"not understood: {statement}"
    return match.end()


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
