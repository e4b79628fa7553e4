"""What a MariaDB server's own catalogue says of tables, whatever their names are."""

from __future__ import annotations

import json
import re
from typing import Any

from sqlalchemy.engine import Connection

from splarn.core.engine import TableColumn, TableIndex
from splarn.core.errors import RequestError
from splarn.core.names import join_name, schema_and_name
from splarn.engines.base import SqlEngine, SqlSession


class MariadbCatalogue(SqlSession):
    """The part of a session that reads the catalogue."""

    def __init__(self, engine: SqlEngine, connection: Connection) -> None:
        super().__init__(engine, connection)
        self._numbered: dict[str, str | None] = {}

    def canonical(self, table: str) -> str:
        """See Session. The database and the name, in small letters where the server wants that."""
        schema, bare = schema_and_name(table)
        with self.failing("Looking for the table", table):
            here, small = self.run("SELECT database(), @@lower_case_table_names").fetchall()[0]
        schema = schema or here
        if schema is None:
            raise RequestError(
                f"{self.engine.place} names no database for the table {table}: put it at the end "
                "of the URL, or write database.table."
            )
        return join_name(schema.lower(), bare.lower()) if small else join_name(schema, bare)

    def longest_name(self) -> tuple[int, str] | None:
        """See Session."""
        return 64, "characters"

    def against_name(self, name: str) -> str:
        """See Session. Names are kept in UTF-8 of three bytes at most."""
        if name.endswith(" "):
            return "ends with a blank"
        odd = next((sign for sign in name if ord(sign) > 0xFFFF), "")
        return f"holds {odd}, a character beyond U+FFFF" if odd else ""

    def kind(self, table: str) -> str:
        """See Session."""
        found = self._of_table("table_type", table)
        if found is None:
            return ""
        return "table" if "TABLE" in found else f"a {found.lower()}"

    def about(self, table: str) -> int:
        """The server's estimate of the rows in a table."""
        return int(self._of_table("table_rows", table) or 0)

    def _of_table(self, what: str, table: str) -> Any:
        """What the catalogue says of a table, None where it has none of that name."""
        schema, bare = schema_and_name(table)
        with self.failing("Looking for the table", table):
            found = self.run(
                f"SELECT {what} FROM information_schema.tables WHERE table_name = :name "
                "AND table_schema = coalesce(:schema, database())",
                name=bare,
                schema=schema,
            )
            return found.scalar_one_or_none()

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session. Asked of the server's own catalogue, whatever the names are."""
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
        """See Session."""
        return json.dumps([[name, whole] for name, _, whole, *_ in self._described(table)])

    def _described(self, table: str) -> list[Any]:
        schema, bare = schema_and_name(table)
        with self.failing("Looking at the table", table):
            found = self.run(
                "SELECT column_name, data_type, column_type, is_nullable, column_default, extra "
                "FROM information_schema.columns WHERE table_name = :name "
                "AND table_schema = coalesce(:schema, database()) ORDER BY ordinal_position",
                name=bare,
                schema=schema,
            )
            return list(found.fetchall())

    def identity(self, table: str) -> str | None:
        """The column that the engine numbers, if there is one."""
        if table not in self._numbered:
            found = [column.name for column in self.columns(table) or () if column.identity]
            self._numbered[table] = found[0] if found else None
        return self._numbered[table]

    def indexes(self, table: str) -> list[TableIndex]:
        """See Session. Not those that a foreign key or the engine's numbering needs."""
        with self.failing("Looking at the indexes of", table):
            made = self.run(f"SHOW CREATE TABLE {self.quoted(table)}").fetchall()[0][1]
        lines = [line.strip().rstrip(",") for line in made.splitlines()]
        needed = [m[1] for line in lines if (m := _FOREIGN.search(line))]
        needed += [m[1] for line in lines if (m := _NUMBERED.match(line))]
        found = []
        for line in lines:
            key = _KEY.match(line)
            if key is None or any(key[3].startswith(columns) for columns in needed):
                continue
            statement = f"ALTER TABLE {self.quoted(table)} ADD {line}"
            found.append(TableIndex(key[2].replace("``", "`"), statement, key[1] == "UNIQUE "))
        return found

    def bound(self, table: str) -> list[str]:
        """See Session."""
        schema, bare = schema_and_name(table)
        with self.failing("Looking at what hangs on", table):
            found = self.run(
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
            return [str(row[0]) for row in found]


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
