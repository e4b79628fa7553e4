"""Benchmarks of the load: each engine against the bulk path of its own client."""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

from benchmarks.data import ROW_BYTES, apart, cleaned, narrow_parts, one_file
from benchmarks.measure import Row, Timed, compare, have, missing, run, splarn
from splarn.core.shape import read_manifest
from splarn.engines import open_engine

POSTGRESQL = os.environ.get(
    "SPLARN_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432/postgres"
)
MARIADB = os.environ.get("SPLARN_TEST_MARIADB", "mariadb://root@127.0.0.1:3306/mysql")
PARTS = 4
TABLE = "splarn_bench"


def made_parts(folder: Path, scale: float) -> tuple[Path, Path, int]:
    """The folder of clean rows in four plain parts, their layout and their bytes."""
    path, layout = one_file(folder, 500e6 * scale)
    clean, parts = path.with_name("clean.csv"), path.with_name("clean-parts")
    if not clean.exists():
        apart(cleaned, path, layout, clean)
    if not (parts / "datapackage.json").exists():
        size = clean.stat().st_size
        words = ("--layout", layout, "--into", parts, "--part-size", size // PARTS + 1024)
        run(splarn("shape", clean, *words), folder)
    return parts, layout, sum(path.stat().st_size for path in parts.glob("*-0*"))


def loading(
    folder: Path, parts: Path, target: str, streams: int, watch: bool = False, at: str = "",
    more: Sequence[object] = (),
) -> Callable[[], Timed]:  # fmt: skip
    """Loads into a table that is not there yet; what earlier loads left is removed untimed.

    Where the target is a description, `at` is the URL of what it describes; `more` are words.
    """

    def load() -> Timed:
        session = open_engine(at or target).connect()
        session.tables.drop(TABLE)
        session.notes.forget(TABLE)
        session.commit()
        session.close()
        words = ("--to", target, "--table", TABLE, "--streams", streams, "--batch-rows", 200_000,
                 *more)  # fmt: skip
        return run(splarn("load", parts, *words, "--json"), folder, _servers(at or target), watch)

    return load


def _theirs(folder: Path, parts: Path, target: str, command: str) -> Callable[[], Timed]:
    """A command that fills the table, which is made anew untimed."""

    def load() -> Timed:
        session = open_engine(target).connect()
        session.tables.drop(TABLE)
        session.tables.create(TABLE, read_manifest(parts).layout)
        session.commit()
        session.close()
        return run(command, folder, _servers(target))

    return load


def _servers(target: str) -> Sequence[str]:
    """The names of the processes that do the work of a target on this machine."""
    kind = target.partition(":")[0]
    return {"postgresql": ["postgres"], "mariadb": ["mariadbd", "mysqld"]}.get(kind, [])


def _client(target: str) -> list[str]:
    from sqlalchemy.engine import make_url

    url = make_url(target)
    words = ["mariadb", "--local-infile=1", "-h", url.host or "", "-P", str(url.port or 3306)]
    words += ["-u", url.username or "", url.database or ""]
    return words + ([f"--password={url.password}"] if url.password else [])


def _in_turn(parts: Path, streams: int, command: str) -> str:
    """A shell line that runs a command for each part, so many at once; `{}` is the part."""
    return f"ls {parts}/*-0* | xargs -P {streams} -I{{}} {command}"


def _copy(parts: Path, streams: int) -> str:
    copy = f"\\copy {TABLE} from '{{}}' csv"
    return _in_turn(parts, streams, f'psql -q {POSTGRESQL} -c "{copy}"')


def postgresql(folder: Path, repeats: int, scale: float) -> list[Row]:
    """COPY with notes, rejects and verification against the client's own copy."""
    if not have("psql"):
        return [missing("load into PostgreSQL", "psql \\copy", "psql")]
    parts, _, size = made_parts(folder, scale)
    rows = []
    for streams, reach in ((1, 1.2), (2, 0.95), (4, 0.95)):
        rows += compare(
            f"load {size / ROW_BYTES / 1e6:.1f} M rows into PostgreSQL, streams: {streams}",
            f"psql \\copy, {streams} at once",
            loading(folder, parts, POSTGRESQL, streams),
            _theirs(folder, parts, POSTGRESQL, _copy(parts, streams)),
            repeats,
            reach,
            size,
            1 / 1.15,
        )
    return rows


def narrow(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Rows of five short columns in two files, where what is done for each row weighs most."""
    if not have("psql"):
        return [missing("load narrow rows into PostgreSQL", "psql \\copy", "psql")]
    parts, size = narrow_parts(folder, int(1e6 * scale))
    return compare(
        f"load {scale:.1f} M narrow rows into PostgreSQL, streams: 2",
        "psql \\copy, 2 at once",
        loading(folder, parts, POSTGRESQL, 2),
        _theirs(folder, parts, POSTGRESQL, _copy(parts, 2)),
        repeats,
        0.8,
        size,
    )


_BY_HAND = """
import csv, sqlite3, sys
import pyarrow
rows = list(csv.reader(open(sys.argv[1], newline="")))
connection = sqlite3.connect(sys.argv[2])
connection.execute("CREATE TABLE t (n INTEGER, lock TEXT, day TEXT)")
connection.executemany("INSERT INTO t VALUES (?, ?, ?)", rows[1:])
connection.commit()
"""


def ten(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Ten rows, where all there is to measure is how long a command takes to begin and to end."""
    path, ours, theirs = (folder / name for name in ("ten.csv", "ten-ours.db", "ten-theirs.db"))
    path.write_text(
        "n,lock,day\n" + "".join(f"{n},LK-{n:03},2031-05-{n:02}\n" for n in range(1, 11))
    )

    def load() -> Timed:
        ours.unlink(missing_ok=True)
        return run(splarn("load", path, "--to", f"sqlite:///{ours}"), folder)

    def by_hand() -> Timed:
        theirs.unlink(missing_ok=True)
        return run([sys.executable, "-c", _BY_HAND, str(path), str(theirs)], folder)

    title = "load of ten rows into SQLite, the whole process"
    return compare(title, "a script with sqlite3, csv, PyArrow", load, by_hand, repeats, 0.5, 0)


def together(folder: Path, repeats: int, scale: float) -> list[Row]:
    """The memory of all processes of a load, shared pages counted once."""
    parts, _, size = made_parts(folder, scale)
    peak = max(loading(folder, parts, POSTGRESQL, 2, watch=True)().together for _ in range(2))
    title = f"memory of a load of {size / ROW_BYTES / 1e6:.1f} M rows, streams: 2"
    ratio = (400 << 20) / peak
    detail = f"all processes together {peak >> 20} MiB"
    return [Row(title, "400 MiB", ratio, ratio, ratio, 1.0, detail)]


def mariadb(folder: Path, repeats: int, scale: float) -> list[Row]:
    """LOAD DATA LOCAL with notes, rejects and verification against the client's own."""
    if not have("mariadb"):
        return [missing("load into MariaDB", "LOAD DATA LOCAL", "mariadb")]
    parts, layout, size = made_parts(folder, scale)
    from splarn.core.layout.descriptor import read_layout

    names = read_layout(layout).names
    sets = ", ".join(f"{name} = nullif(@{name}, '')" for name in names)
    statement = (
        f"SET sql_mode='STRICT_ALL_TABLES'; LOAD DATA LOCAL INFILE '{{}}' INTO TABLE {TABLE} "
        "CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\\\"' "
        f"ESCAPED BY '' ({', '.join(f'@{name}' for name in names)}) SET {sets}"
    )
    client = shlex.join(_client(MARIADB))
    rows = []
    for streams, reach in ((1, 1.0), (2, 0.9), (4, 0.9)):
        command = _in_turn(parts, streams, f'{client} -e "{statement}"')
        rows += compare(
            f"load {size / ROW_BYTES / 1e6:.1f} M rows into MariaDB, streams: {streams}",
            f"LOAD DATA LOCAL, {streams} at once",
            loading(folder, parts, MARIADB, streams),
            _theirs(folder, parts, MARIADB, command),
            repeats,
            reach,
            size,
        )
    return rows


def _ddl(folder: Path, parts: Path, engine: str) -> Path:
    """A file with the statement that makes the table `t` of the parts' layout."""
    path = folder / f"{engine}.sql"
    path.write_text(open_engine(f"{engine}://").ddl("t", read_manifest(parts).layout))
    return path


def sqlite(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Inserts with notes, rejects and verification against the shell's import."""
    if not have("sqlite3"):
        return [missing("load into SQLite", ".import", "sqlite3")]
    parts, _, size = made_parts(folder, scale)
    ours, theirs = folder / "ours.db", folder / "theirs.db"

    def load() -> Timed:
        ours.unlink(missing_ok=True)
        return loading(folder, parts, f"sqlite:///{ours}", 1)()

    ddl = _ddl(folder, parts, "sqlite")
    imports = " ".join(f"'.import {part} t'" for part in sorted(parts.glob("*-0*")))

    def shell() -> Timed:
        theirs.unlink(missing_ok=True)
        return run(f"sqlite3 {theirs} '.read {ddl}' '.mode csv' {imports}", folder)

    title = f"load {size / ROW_BYTES / 1e6:.1f} M rows into SQLite"
    return compare(title, "the shell's .import", load, shell, repeats, 1.3, size)


_READER = """
import duckdb, pathlib, sys
database, ddl, parts = sys.argv[1:]
connection = duckdb.connect(database)
connection.execute(pathlib.Path(ddl).read_text())
connection.execute(f"INSERT INTO t SELECT * FROM read_csv('{parts}/*-0*', header=false, columns="
    + str({row[1]: row[2] for row in connection.execute("PRAGMA table_info(t)").fetchall()}) + ")")
"""


def duckdb(folder: Path, repeats: int, scale: float) -> list[Row]:
    """Arrow inserts with notes, rejects and verification against the engine's CSV reader."""
    parts, _, size = made_parts(folder, scale)
    ours, theirs = folder / "ours.duckdb", folder / "theirs.duckdb"
    ddl = _ddl(folder, parts, "duckdb")

    def reader() -> Timed:
        theirs.unlink(missing_ok=True)
        return run([sys.executable, "-c", _READER, str(theirs), str(ddl), str(parts)], folder)

    rows = []
    for streams, reach in ((1, 0.9), (2, 1.0)):

        def load(streams: int = streams) -> Timed:
            ours.unlink(missing_ok=True)
            return loading(folder, parts, f"duckdb:///{ours}", streams)()

        title = f"load {size / ROW_BYTES / 1e6:.1f} M rows into DuckDB, streams: {streams}"
        rows += compare(title, "its own CSV reader", load, reader, repeats, reach, size)
    return rows


LOADS: dict[str, Callable[[Path, int, float], list[Row]]] = {
    "postgresql": postgresql,
    "mariadb": mariadb,
    "sqlite": sqlite,
    "duckdb": duckdb,
    "narrow": narrow,
    "ten": ten,
    "together": together,
}
