"""MariaDB's tables, by what the server's own catalogue says of them, whatever their names are."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

import sqlalchemy as sa

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.target.names import join_name, schema_and_name
from splarn.core.target.tables import LIKE, Likeness, TableColumn, TableIndex
from splarn.engines.sql.link import Link
from splarn.engines.sql.tables import SqlTables


class MariadbTables(SqlTables):
    """Tables of any database of the server. Changes of them commit whatever is open."""

    def __init__(self, link: Link, make_table: Callable[[str, Layout], sa.Table]) -> None:
        super().__init__(link, make_table)
        self._numbered: dict[str, str | None] = {}
        # Quoted names of columns of the table that was looked at last.
        self.encoded_otherwise: frozenset[str] = frozenset()

    def canonical(self, table: str) -> str:
        """See Tables. The database and the name, in small letters where the server wants that."""
        schema, bare = schema_and_name(table)
        with self.link.failing("Looking for the table", table):
            here, small = self.link.run("SELECT database(), @@lower_case_table_names").rows[0]
        schema = schema or here
        if schema is None:
            raise RequestError(
                f"{self.link.place} names no database for the table {table}: put it at the end "
                "of the URL, or write database.table."
            )
        return join_name(schema.lower(), bare.lower()) if small else join_name(schema, bare)

    def longest_name(self) -> tuple[int, str] | None:
        """See Tables."""
        return 64, "characters"

    def name_refusal(self, name: str) -> str:
        """See Tables. Names are kept in UTF-8 of three bytes at most."""
        if name.endswith(" "):
            return "ends with a blank"
        odd = next((sign for sign in name if ord(sign) > 0xFFFF), "")
        return f"holds {odd}, a character beyond U+FFFF" if odd else ""

    def kind(self, table: str) -> str:
        """See Tables."""
        type_ = self._of_table("table_type", table)
        if type_ is None:
            return ""
        return "table" if "TABLE" in type_ else f"a {type_.lower()}"

    def about(self, table: str) -> int:
        """The server's estimate of the rows in a table."""
        return int(self._of_table("table_rows", table) or 0)

    def _of_table(self, what: str, table: str) -> Any:
        """What the catalogue says of a table, None where it has none of that name."""
        schema, bare = schema_and_name(table)
        with self.link.failing("Looking for the table", table):
            answer = self.link.run(
                f"SELECT {what} FROM information_schema.tables WHERE table_name = :name "
                "AND table_schema = coalesce(:schema, database())",
                name=bare,
                schema=schema,
            )
            return answer.value

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Tables. Asked of the server's own catalogue, whatever the names are."""
        return [
            TableColumn(
                name,
                _TYPES.get(kind, "any"),
                optional == "YES" or default is not None or bool(extra),
                "auto_increment" in extra.lower(),
                "GENERATED" in extra.upper() and "DEFAULT_GENERATED" not in extra.upper(),
            )
            for name, kind, _, optional, default, extra in self._described(table)
        ] or None

    def columns_text(self, table: str) -> str:
        """See Tables."""
        return json.dumps([[name, whole] for name, _, whole, *_ in self._described(table)])

    def _described(self, table: str) -> list[Any]:
        return self._of_columns(
            "column_name, data_type, column_type, is_nullable, column_default, extra", table
        )

    def _of_columns(self, facts: str, table: str) -> list[Any]:
        """What the catalogue says of a table's columns, in their order."""
        schema, bare = schema_and_name(table)
        with self.link.failing("Looking at the table", table):
            answer = self.link.run(
                f"SELECT {facts} FROM information_schema.columns WHERE table_name = :name "
                "AND table_schema = coalesce(:schema, database()) ORDER BY ordinal_position",
                name=bare,
                schema=schema,
            )
            return list(answer.rows)

    def look_at_encodings(self, table: str) -> None:
        """Finds which columns of a table keep text in another encoding than UTF-8."""
        self.encoded_otherwise = frozenset(
            self.link.quoted(name, dotted=False)
            for name, encoding in self._of_columns("column_name, character_set_name", table)
            if encoding is not None and not encoding.startswith("utf8")
        )

    def identity(self, table: str) -> str | None:
        """The column that the engine numbers, if there is one."""
        if table not in self._numbered:
            numbered = [column.name for column in self.columns(table) or () if column.identity]
            self._numbered[table] = numbered[0] if numbered else None
        return self._numbered[table]

    def indexes(self, table: str) -> list[TableIndex]:
        """See Tables. Not those that a foreign key or the engine's numbering needs."""
        with self.link.failing("Looking at the indexes of", table):
            made = self.link.run(f"SHOW CREATE TABLE {self.link.quoted(table)}").rows[0][1]
        lines = [line.strip().rstrip(",") for line in made.splitlines()]
        needed = [m[1] for line in lines if (m := _FOREIGN.search(line))]
        needed += [m[1] for line in lines if (m := _NUMBERED.match(line))]
        indexes = []
        for line in lines:
            key = _KEY.match(line)
            if key is None or any(key[3].startswith(columns) for columns in needed):
                continue
            statement = f"ALTER TABLE {self.link.quoted(table)} ADD {line}"
            indexes.append(TableIndex(key[2].replace("``", "`"), statement, key[1] == "UNIQUE "))
        return indexes

    def ties(self, table: str) -> list[str]:
        """See Tables."""
        schema, bare = schema_and_name(table)
        with self.link.failing("Looking at what hangs on", table):
            answer = self.link.run(
                "SELECT DISTINCT CASE WHEN referenced_table_name = :name "
                "THEN concat('a foreign key of ', table_name, ' refers to it') "
                "ELSE concat('it has the foreign key ', constraint_name) END "
                "FROM information_schema.key_column_usage WHERE referenced_table_name IS NOT NULL "
                "AND table_schema = coalesce(:schema, database()) "
                "AND (table_name = :name OR referenced_table_name = :name) "
                "UNION ALL SELECT concat('it has the trigger ', trigger_name) "
                "FROM information_schema.triggers WHERE event_object_table = :name "
                "AND event_object_schema = coalesce(:schema, database())",
                name=bare,
                schema=schema,
            )
            return [str(row[0]) for row in answer.rows]

    def clone(self, table: str, copy: str, like: Likeness = LIKE) -> None:
        """See Tables."""
        with self.link.failing("Making the table", copy):
            self.link.run(
                f"CREATE TABLE IF NOT EXISTS {self.link.quoted(copy)} "
                f"LIKE {self.link.quoted(table)}"
            )
        if not like.indexes:
            self._drop_plain_indexes(copy)

    def make_bare(self, table: str, copy: str) -> None:
        """See Tables."""
        with self.link.failing("Making the table", copy):
            self.link.run(
                f"CREATE TABLE IF NOT EXISTS {self.link.quoted(copy)} AS "
                f"SELECT * FROM {self.link.quoted(table)} LIMIT 0"
            )

    def swap(self, table: str, side_table: str, before: str) -> None:
        """See Tables. One statement renames both or neither."""
        pairs = [(side_table, table)]
        if self.columns(table) is not None:
            pairs.insert(0, (table, before))
        renames = ", ".join(f"{self.link.quoted(a)} TO {self.link.quoted(b)}" for a, b in pairs)
        with self.link.failing("Swapping in the table", table):
            self.link.run(f"RENAME TABLE {renames}")
        for index in self.indexes(before) if len(pairs) > 1 else ():
            addition = index.statement.removeprefix(f"ALTER TABLE {self.link.quoted(before)}")
            self.restore_index(
                table,
                TableIndex(index.name, f"ALTER TABLE {self.link.quoted(table)}{addition}", False),
            )

    def drop_index(self, table: str, index: TableIndex) -> None:
        """See Tables."""
        # MySQL cannot drop one only if it is there.
        if index.name not in {there.name for there in self.indexes(table)}:
            return
        with self.link.failing("Dropping an index of", table):
            name = self.link.quoted(index.name, dotted=False)
            self.link.run(f"ALTER TABLE {self.link.quoted(table)} DROP INDEX {name}")


_KEY = re.compile(r"(UNIQUE |FULLTEXT |SPATIAL |)KEY `((?:[^`]|``)*)` \((.*)\)")
_FOREIGN = re.compile(r"FOREIGN KEY \((.*?)\) REFERENCES")
_NUMBERED = re.compile(r"(`(?:[^`]|``)*`).* AUTO_INCREMENT")


_TYPES = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint", "year"), "integer"),
    **dict.fromkeys(("decimal", "float", "double"), "number"),
    **dict.fromkeys(("datetime", "timestamp"), "datetime"),
    "date": "date",
    "time": "time",
    **dict.fromkeys(
        ("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "json", "uuid", "enum",
         "set"), "string",
    ),
}  # fmt: skip
