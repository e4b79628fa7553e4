"""A round's made-up world: files, the rows in them, a target, and what plain SQL says of it."""

from __future__ import annotations

import json
import random
import secrets
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from sqlalchemy.engine import URL, make_url

# A row as the files have it and as a target must hold it.
Row = tuple[int, str, str, str]

LAYOUT = {
    "name": "gauges",
    "format": "csv",
    "encoding": "utf-8",
    "dialect": {"delimiter": ",", "quoteChar": '"', "header": True},
    "schema": {
        "fields": [
            {"name": "reading_no", "type": "integer", "constraints": {"required": True}},
            {"name": "lock_code", "type": "string"},
            {"name": "toll", "type": "number", "precision": 9, "scale": 2},
            {"name": "note", "type": "string"},
        ],
        "missingValues": [""],
    },
}
# The URLs of databases on servers, by kind; rounds of a kind that is missing are left out.
SERVERS: dict[str, str] = {}
NOTES = ("calm", 'said "wait", then went', "two\nlines", "für Süd", "100% full; 'ok'", "a,b,c")


@dataclass
class Source:
    """A file of the round: its good rows, and the numbers of the bad ones."""

    path: Path
    rows: list[Row]
    bad: set[int] = field(default_factory=set)


class World:
    """Everything of one round; `chance` decides whatever is left open."""

    def __init__(self, seed: int, folder: Path) -> None:
        self.seed = seed
        self.chance = random.Random(seed)
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self.layout = folder / "layout.json"
        self.layout.write_text(json.dumps(LAYOUT))
        self.table = f"f{seed}_{secrets.token_hex(3)}"
        self.next_number = 1
        self.closing: list[Any] = []

    def file(self, name: str, rows: int, bad: int = 0, folder: str = "in") -> Source:
        """Writes a file with rows that no other file has."""
        path = self.folder / folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        found = Source(path, [])
        spoiled = set(self.chance.sample(range(rows), bad))
        lines = ["reading_no,lock_code,toll,note\n"]
        for index in range(rows):
            number = self.next_number
            self.next_number += 1
            lock = f"L{self.chance.randrange(40):02d}"
            toll = f"{self.chance.randrange(1, 99999) / 100:.2f}"
            note = self.chance.choice(NOTES)
            shown = '"' + note.replace('"', '""') + '"'
            if index in spoiled:
                found.bad.add(number)
                lines.append(f"{number},{lock},dear,{shown}\n")
            else:
                found.rows.append((number, lock, toll, note))
                lines.append(f"{number},{lock},{toll},{shown}\n")
        path.write_text("".join(lines), encoding="utf-8", newline="")
        return found

    def files(self, count: int, least: int = 150, most: int = 900, bad: int = 0) -> list[Source]:
        """Some files."""
        sizes = [self.chance.randint(least, most) for _ in range(count)]
        return [self.file(f"r{n}.csv", size, bad) for n, size in enumerate(sizes)]


class Target:
    """A table's place, and its rows asked of the engine's own driver."""

    kind = ""

    def __init__(self, world: World) -> None:
        self.world = world
        self.url = ""

    def words(self, table: str | None = None) -> list[str]:
        """The options that name it."""
        return ["--to", self.url, "--table", table or self.world.table]

    def quoted(self, *names: str) -> str:
        """Names as the engine's SQL has them."""
        return ".".join('"' + name.replace('"', '""') + '"' for name in names)

    def connect(self) -> Any:
        """The driver's own connection, which commits each statement."""
        raise AssertionError(f"{self.kind} speaks no SQL")

    def ask(self, statement: str) -> list[tuple[Any, ...]]:
        """Rows of a query."""
        connection = self.connect()
        try:
            cursor = connection.cursor()
            cursor.execute(statement)
            return [tuple(row) for row in cursor.fetchall()]
        finally:
            connection.close()

    def do(self, *statements: str) -> None:
        """Changes, each committed."""
        connection = self.connect()
        try:
            cursor = connection.cursor()
            for statement in statements:
                cursor.execute(statement)
        finally:
            connection.close()

    def rows(self, table: str | None = None) -> Counter[Row]:
        """The multiset of the table's rows; empty where there is no table."""
        name = self.quoted(*(table or self.world.table).split("."))
        try:
            found = self.ask(f"SELECT reading_no, lock_code, toll, note FROM {name}")
        except Exception as error:
            if any(one in str(error).lower() for one in ("no such table", "exist")):
                return Counter()
            raise
        return Counter((int(n), lock, f"{float(toll):.2f}", note) for n, lock, toll, note in found)

    def close(self) -> None:
        """Removes what would stay."""

    @property
    def port(self) -> int:
        """Where its server listens."""
        return self.parsed.port or {"postgresql": 5432, "mariadb": 3306}[self.kind]

    @property
    def parsed(self) -> URL:
        """Its URL's pieces."""
        return make_url(self.url)

    def through(self, port: int) -> str:
        """Its URL over another port of this machine."""
        return self.parsed.set(host="127.0.0.1", port=port).render_as_string(hide_password=False)


class Sqlite(Target):
    """A file in the round's folder."""

    kind = "sqlite"

    def __init__(self, world: World) -> None:
        super().__init__(world)
        self.path = world.folder / "target.db"
        self.url = f"sqlite:///{self.path}"

    def connect(self) -> Any:
        """See Target."""
        import sqlite3

        return sqlite3.connect(self.path, isolation_level=None, timeout=30)


class Duckdb(Target):
    """A file in the round's folder, which only one process may open at a time."""

    kind = "duckdb"

    def __init__(self, world: World) -> None:
        super().__init__(world)
        self.path = world.folder / "target.duckdb"
        self.url = f"duckdb:///{self.path}"

    def ask(self, statement: str) -> list[tuple[Any, ...]]:
        """See Target. In a process of its own, so that this one may go on to fork."""
        import subprocess
        import sys

        code = (
            "import duckdb, json, sys; c = duckdb.connect(sys.argv[1]);"
            "r = c.execute(sys.argv[2]); d = r.fetchall() if r.description else [];"
            "print(json.dumps([[str(v) if v is not None else None for v in row] for row in d]))"
        )
        done = subprocess.run(
            [sys.executable, "-c", code, str(self.path), statement],
            capture_output=True, text=True, check=False,
        )  # fmt: skip
        if done.returncode:
            raise RuntimeError(done.stderr[-400:])
        return [tuple(row) for row in json.loads(done.stdout)]

    def do(self, *statements: str) -> None:
        """See Target."""
        for statement in statements:
            self.ask(statement)


class Postgresql(Target):
    """A schema of the round's own on the server of the tests."""

    kind = "postgresql"

    def __init__(self, world: World) -> None:
        super().__init__(world)
        self.url = SERVERS["postgresql"]

    def connect(self) -> Any:
        """See Target."""
        import psycopg

        return psycopg.connect(SERVERS["postgresql"], autocommit=True)

    def close(self) -> None:
        """See Target."""
        self.do(f'DROP TABLE IF EXISTS "{self.world.table}" CASCADE')
        for (name,) in self.ask(
            "SELECT relname FROM pg_class WHERE relkind IN ('r', 'v') AND relname LIKE "
            f"'{self.world.table}%'"
        ):
            self.do(f'DROP TABLE IF EXISTS "{name}" CASCADE')


class Mariadb(Target):
    """A database on the server of the tests."""

    kind = "mariadb"

    def __init__(self, world: World) -> None:
        super().__init__(world)
        self.url = SERVERS["mariadb"]

    def quoted(self, *names: str) -> str:
        """See Target."""
        return ".".join("`" + name.replace("`", "``") + "`" for name in names)

    def connect(self) -> Any:
        """See Target."""
        import pymysql

        url = make_url(SERVERS["mariadb"])
        return pymysql.connect(
            host=url.host, port=url.port or 3306, user=url.username, password=url.password or "",
            database=url.database, autocommit=True, charset="utf8mb4",
        )  # fmt: skip

    def close(self) -> None:
        """See Target."""
        for (name,) in self.ask(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = database() "
            f"AND table_name LIKE '{self.world.table}%'"
        ):
            self.do(f"DROP TABLE IF EXISTS {self.quoted(name)}")


ENGINES: dict[str, type[Target]] = {one.kind: one for one in (Sqlite, Duckdb, Postgresql, Mariadb)}


def expected(*sources: Source) -> Counter[Row]:
    """The multiset that a table must hold when each of these was loaded once."""
    return Counter(row for source in sources for row in source.rows)


def differs(found: Counter[Row], wanted: Counter[Row]) -> str:
    """What differs between two multisets, in few words; empty when nothing does."""
    lost, more = wanted - found, found - wanted
    if not lost and not more:
        return ""
    some = [*list(lost)[:2], *list(more)[:2]]
    return f"{lost.total()} rows lost, {more.total()} too many, such as {some}"


def rejects_kept(folder: Path) -> Counter[int]:
    """The reading numbers in all files of rejects below a folder."""
    found: Counter[int] = Counter()
    for path in folder.rglob("*.rejects.jsonl"):
        for line in path.read_text(encoding="utf-8").splitlines():
            raw = json.loads(line)["raw"]
            number = json.loads(raw)["no"] if raw.startswith("{") else raw.split(",")[0]
            found[int(number)] += 1
    return found


@contextmanager
def own_databases() -> Iterator[dict[str, str]]:
    """Databases of their own on the servers that answer, by kind; removed afterwards."""
    from tests.conftest import MARIADB, POSTGRESQL

    name, found = f"splarn_faults_{secrets.token_hex(3)}", {}
    with suppress(Exception):
        import psycopg

        with psycopg.connect(POSTGRESQL, autocommit=True, connect_timeout=5) as server:
            server.execute(f"CREATE DATABASE {name}")
        found["postgresql"] = f"{POSTGRESQL.rpartition('/')[0]}/{name}"
    with suppress(Exception):
        import pymysql

        url = make_url(MARIADB)
        given = {"user": url.username, "password": url.password or "", "connect_timeout": 5}
        with pymysql.connect(host=url.host, port=url.port or 3306, **given) as connection:
            connection.cursor().execute(f"CREATE DATABASE {name} CHARACTER SET utf8mb4")
        found["mariadb"] = f"{MARIADB.rpartition('/')[0]}/{name}"
    try:
        yield found
    finally:
        if "postgresql" in found:
            with psycopg.connect(POSTGRESQL, autocommit=True) as server:
                server.execute(f"DROP DATABASE {name} WITH (FORCE)")
        if "mariadb" in found:
            with pymysql.connect(host=url.host, port=url.port or 3306, **given) as connection:
                connection.cursor().execute(f"DROP DATABASE {name}")
