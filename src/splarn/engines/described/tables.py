"""Tables of a described engine, by its own statements."""

from __future__ import annotations

import json
from typing import Any

from splarn.core.layout import Field, Layout
from splarn.core.target.names import join_name, schema_and_name, split_name
from splarn.core.target.tables import LIKE, Likeness, TableColumn
from splarn.engines.described.description import Description
from splarn.engines.described.link import DescribedLink
from splarn.engines.described.templates import Name, Names, Quoting, Written
from splarn.engines.plain import PlainTables
from splarn.engines.sql.link import Concern

# What engines call the types of columns, by how the name begins; later ones are narrower.
_BEGINNINGS = (
    ("int", "integer"), ("bigint", "integer"), ("smallint", "integer"), ("tinyint", "integer"),
    ("hugeint", "integer"), ("long", "integer"), ("interval", "any"), ("num", "number"),
    ("dec", "number"), ("double", "number"), ("float", "number"), ("real", "number"),
    ("bool", "boolean"), ("date", "date"), ("datetime", "datetime"), ("timestamp", "datetime"),
    ("time", "time"), ("timestamp", "datetime"), ("char", "string"), ("varchar", "string"),
    ("text", "string"), ("string", "string"), ("longtext", "string"), ("mediumtext", "string"),
    ("character", "string"), ("nvarchar", "string"), ("clob", "string"), ("uuid", "string"),
    ("json", "string"),
)  # fmt: skip


def table_values(table: str) -> dict[str, Any]:
    """What statements may say of a table."""
    return {
        "table": Name(table),
        "table_text": table,
        "name_text": schema_and_name(table)[1],
    }


def column_type(description: Description, field: Field) -> str:
    """The type of the column that holds a field."""
    types = description.types
    if field.is_decimal:
        kind, values = types.decimal, {"precision": field.precision, "scale": field.scale or 0}
    elif field.type == "integer":
        kind = {16: types.integer16, 32: types.integer32, 64: types.integer}[field.bits]
        values = {}
    elif field.is_text or field.is_json:
        kind = types.text if field.max_length is None else types.varchar
        values = {"length": field.max_length}
    else:
        kind, values = getattr(types, field.type), {}
    return Quoting(['"', '"'], False).filled(kind, values)


def with_types(description: Description, quoting: Quoting, layout: Layout) -> Written:
    """The columns of a layout as a table's statement has them."""
    return Written(", ".join(
        f"{quoting.name(field.name)} {column_type(description, field)}"
        f"{' NOT NULL' if field.required else ''}"
        for field in layout.fields
    ))  # fmt: skip


class DescribedTables(PlainTables, Concern):
    """See Tables. It has no indexes that are known of, and numbers nothing."""

    link: DescribedLink

    def canonical(self, table: str) -> str:
        """See Tables. Pieces are folded as the description says."""
        folding = self.link.description.names.folding
        pieces = split_name(table)
        if folding != "none":
            pieces = [getattr(piece, folding)() for piece in pieces]
        return join_name(*pieces)

    def kind(self, table: str) -> str:
        """See Tables."""
        return "" if self.columns(table) is None else "table"

    def longest_name(self) -> tuple[int, str] | None:
        """See Tables."""
        return self.link.description.names.longest, "characters"

    def name_refusal(self, name: str) -> str:
        """See Tables."""
        return ""

    def _described(self, table: str) -> list[tuple[str, str, str]]:
        found = self.link.say(self.link.description.statements.look, **table_values(table))
        if found.rows and len(found.rows[0]) < 3:
            raise self.link.unreadable(
                "statements.look", "name, type and YES or NO for each column", found
            )
        return [(str(row[0]), str(row[1]), str(row[2])) for row in found.rows]

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables."""
        with self.link.failing("Looking at the table", table):
            described = self._described(table)
        return [
            TableColumn(name, _field_type(kind), optional.strip().upper()[:1] in ("Y", "T", "1"))
            for name, kind, optional in described
        ] or None

    def columns_text(self, table: str) -> str:
        """See Tables."""
        with self.link.failing("Looking at the table", table):
            return json.dumps([[name, kind] for name, kind, _ in self._described(table)])

    def create(self, table: str, layout: Layout) -> None:
        """See Tables."""
        description = self.link.description
        with self.link.failing("Making the table", table):
            self.link.say(
                description.statements.create,
                columns_with_types=with_types(description, self.link.quoting, layout),
                **table_values(table),
            )

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables. What it keeps of rules and indexes is what the statement keeps."""
        with self.link.failing("Making the table", copy):
            statement = self.link.description.statements.clone
            self.link.say(statement, into=Name(copy), **table_values(table))

    def make_bare(self, table: str, copy: str) -> None:
        """See Tables."""
        self.clone(table, copy)

    def drop(self, table: str) -> None:
        """See Tables."""
        with self.link.failing("Dropping the table", table):
            self.link.say(self.link.description.statements.drop, **table_values(table))

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables."""
        with self.link.failing("Swapping in the table", table):
            there = self.columns(table) is not None
            statement = self.link.description.statements.swap
            if there and statement:
                values = table_values(table)
                self.link.say(statement, before=Name(before), into=Name(side_table), **values)
                return
            if there:
                self._rename(table, before)
            self._rename(side_table, table)

    def _rename(self, table: str, name: str) -> None:
        bare = Name(join_name(schema_and_name(name)[1]))
        self.link.say(self.link.description.statements.rename, name=bare, **table_values(table))


def _field_type(kind: str) -> str:
    """Our word for a column type; `any` for one that Splarn does not judge."""
    told = "any"
    for beginning, ours in _BEGINNINGS:
        if kind.strip().lower().startswith(beginning):
            told = ours
    return told


def columns_of(names: tuple[str, ...]) -> Names:
    """Columns as statements list them."""
    return Names(names)
