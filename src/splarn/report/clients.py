"""The programs that people have for each kind of target, and how parts go in by them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote, urlsplit

from splarn.core.errors import RequestError
from splarn.core.layout import Layout

# Rows of one statement where parts are statements.
ROWS = 500


@dataclass(frozen=True)
class Client:
    """The program that people have for a kind of target.

    `base` gives its command line for a URL, `load` what brings one part in within a transaction
    that notes it, of the table, its columns, and where parts are noted. `form` is what parts are
    written as, `parallel` whether several may go in at once.
    """

    program: str
    form: str
    parallel: bool
    base: Callable[[str], str]
    query: str
    load: Callable[[str, Sequence[str], str], str]


def _database(url: str) -> str:
    """The path of a database file."""
    return unquote(urlsplit(url).path)[1:]


def for_shell(text: str) -> str:
    """A text for the shell, in which nothing is replaced but the part and `${NAME}`."""
    escaped = re.sub(r'([\\"`$])', r"\\\1", text)
    return '"' + re.sub(r"\\\$(?=PART\b|NAME\b|\{[A-Za-z_])", "$", escaped) + '"'


def _mariadb(url: str) -> str:
    pieces = urlsplit(url)
    words = ["mariadb --no-defaults --local-infile=1 --batch --skip-column-names"]
    words.append(f"--host={for_shell(pieces.hostname or '127.0.0.1')} --protocol=tcp")
    words += [f"--port={pieces.port}"] if pieces.port else []
    words += [f"--user={for_shell(unquote(pieces.username))}"] if pieces.username else []
    words += [f"--password={for_shell(unquote(pieces.password))}"] if pieces.password else []
    return " ".join([*words, for_shell(pieces.path[1:])])


def _note(noted: str) -> str:
    return f"INSERT INTO {noted} VALUES ('$NAME');"


def _null(columns: Sequence[str]) -> str:
    """How parts write a null; a line of one empty column would be no row."""
    return "" if len(columns) > 1 else "\\N"


def _postgresql_load(table: str, columns: Sequence[str], noted: str) -> str:
    copy = (
        f"\\copy {table} ({', '.join(columns)}) FROM '$PART' WITH (FORMAT csv, ENCODING 'UTF8', "
        f"NULL '{_null(columns)}')"
    )
    return f"client --single-transaction -c {for_shell(_note(noted))} -c {for_shell(copy)}"


def _duckdb_load(table: str, columns: Sequence[str], noted: str) -> str:
    copy = (
        f"COPY {table} ({', '.join(columns)}) FROM '$PART' (FORMAT csv, HEADER false, "
        "AUTO_DETECT false, DELIMITER ',', QUOTE '\"', ESCAPE '\"', "
        f"NULLSTR '{_null(columns)}');"
    )
    return f"client -c {for_shell(f'BEGIN; {_note(noted)} {copy} COMMIT;')}"


def _mariadb_load(table: str, columns: Sequence[str], noted: str) -> str:
    load = (
        f"LOAD DATA LOCAL INFILE '$PART' INTO TABLE {table} CHARACTER SET utf8mb4 "
        f"({', '.join(columns)});"
    )
    strict = "SET sql_mode = 'STRICT_ALL_TABLES';"
    return f"client -e {for_shell(f'{strict} START TRANSACTION; {_note(noted)} {load} COMMIT;')}"


def _sqlite_load(table: str, columns: Sequence[str], noted: str) -> str:
    begin = for_shell(f"BEGIN IMMEDIATE; {_note(noted)}")
    return f"{{ echo {begin}; cat \"$PART\"; echo 'COMMIT;'; }} | client"


CLIENTS = {
    "postgresql": Client(
        "psql", "csv", True,
        lambda url: f"psql {for_shell(url)} --no-psqlrc -q -v ON_ERROR_STOP=1", "-At -c",
        _postgresql_load,
    ),
    "mariadb": Client("mariadb", "tsv", True, _mariadb, "-e", _mariadb_load),
    "sqlite": Client(
        "sqlite3", "sql", False,
        lambda url: f"sqlite3 -bail -batch {for_shell(_database(url))}", "", _sqlite_load,
    ),
    "duckdb": Client(
        "duckdb", "csv", False, lambda url: f"duckdb {for_shell(_database(url))}",
        "-noheader -list -c", _duckdb_load,
    ),
}  # fmt: skip


def client_of(kind: str) -> Client:
    """The client of a kind of target. Raises RequestError where people have none."""
    kind = "mariadb" if kind == "mysql" else kind
    if kind not in CLIENTS:
        raise RequestError(
            f"There is no client that people have for targets of the kind {kind}: a runbook can be "
            f"written for {', '.join(CLIENTS)}."
        )
    return CLIENTS[kind]


def statements(tables: Iterable[Any], layout: Layout, into: str, columns: Sequence[str]) -> Any:
    """Rows as INSERT statements, as SQLite stores what Splarn would."""
    from splarn.core.reading.text import value_text

    bare = {field.name for field in layout.fields if field.type in ("integer", "number")}
    for table in tables:
        told = []
        for field, column in zip(layout.fields, table.columns, strict=True):
            texts = value_text(column).to_pylist()
            if field.type == "boolean":
                told.append(["NULL" if one is None else str(int(one == "true")) for one in texts])
            elif field.name in bare:
                told.append(["NULL" if one is None else one for one in texts])
            else:
                told.append(
                    ["NULL" if one is None else "'" + one.replace("'", "''") + "'" for one in texts]
                )
        rows = [f"({', '.join(row)})" for row in zip(*told, strict=True)]
        for at in range(0, len(rows), ROWS):
            values = ",\n".join(rows[at : at + ROWS])
            yield f"INSERT INTO {into} ({', '.join(columns)}) VALUES\n{values};\n".encode()
