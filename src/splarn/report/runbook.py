"""A plan for a colleague without Splarn: parts ready for the target's own client, and the steps.

Each part goes in by one transaction that also notes it, so that a script which is broken off and
given again loads none twice.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote, urlsplit

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.tuning.plan_file import Plan
from splarn.core.units import plural, show_duration, show_money, show_range, show_size

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


def _quoted(text: str) -> str:
    """A text for the shell, in which nothing is replaced but the part and `${NAME}`."""
    escaped = re.sub(r'([\\"`$])', r"\\\1", text)
    return '"' + re.sub(r"\\\$(?=PART\b|NAME\b|\{[A-Za-z_])", "$", escaped) + '"'


def _mariadb(url: str) -> str:
    pieces = urlsplit(url)
    words = ["mariadb --no-defaults --local-infile=1 --batch --skip-column-names"]
    words.append(f"--host={_quoted(pieces.hostname or '127.0.0.1')} --protocol=tcp")
    words += [f"--port={pieces.port}"] if pieces.port else []
    words += [f"--user={_quoted(unquote(pieces.username))}"] if pieces.username else []
    words += [f"--password={_quoted(unquote(pieces.password))}"] if pieces.password else []
    return " ".join([*words, _quoted(pieces.path[1:])])


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
    return f"client --single-transaction -c {_quoted(_note(noted))} -c {_quoted(copy)}"


def _duckdb_load(table: str, columns: Sequence[str], noted: str) -> str:
    copy = (
        f"COPY {table} ({', '.join(columns)}) FROM '$PART' (FORMAT csv, HEADER false, "
        "AUTO_DETECT false, DELIMITER ',', QUOTE '\"', ESCAPE '\"', "
        f"NULLSTR '{_null(columns)}');"
    )
    return f"client -c {_quoted(f'BEGIN; {_note(noted)} {copy} COMMIT;')}"


def _mariadb_load(table: str, columns: Sequence[str], noted: str) -> str:
    load = (
        f"LOAD DATA LOCAL INFILE '$PART' INTO TABLE {table} CHARACTER SET utf8mb4 "
        f"({', '.join(columns)});"
    )
    strict = "SET sql_mode = 'STRICT_ALL_TABLES';"
    return f"client -e {_quoted(f'{strict} START TRANSACTION; {_note(noted)} {load} COMMIT;')}"


def _sqlite_load(table: str, columns: Sequence[str], noted: str) -> str:
    return (
        f"{{ echo {_quoted(f'BEGIN IMMEDIATE; {_note(noted)}')}; cat \"$PART\"; echo 'COMMIT;'; }} "
        "| client"
    )


CLIENTS = {
    "postgresql": Client(
        "psql", "csv", True,
        lambda url: f"psql {_quoted(url)} --no-psqlrc -q -v ON_ERROR_STOP=1", "-At -c",
        _postgresql_load,
    ),
    "mariadb": Client("mariadb", "tsv", True, _mariadb, "-e", _mariadb_load),
    "sqlite": Client(
        "sqlite3", "sql", False, lambda url: f"sqlite3 -bail -batch {_quoted(_database(url))}", "",
        _sqlite_load,
    ),
    "duckdb": Client(
        "duckdb", "csv", False, lambda url: f"duckdb {_quoted(_database(url))}",
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


@dataclass(frozen=True)
class Handed:
    """One part that goes with a runbook: its name, rows and bytes."""

    name: str
    rows: int
    bytes: int


@dataclass(frozen=True)
class Runbook:
    """All that the steps are made of. `names` are the columns, written as the target wants them."""

    plan_id: str
    client: Client
    target: str
    table: str
    ddl: str
    mode: str
    names: tuple[str, ...]
    parts: tuple[Handed, ...]
    filled: Mapping[str, int]
    set_aside: int
    streams: int
    forecast: Mapping[str, Any]
    currency: str

    @property
    def rows(self) -> int:
        """Rows of all parts."""
        return sum(part.rows for part in self.parts)

    @property
    def before(self) -> str:
        """The table that keeps what was there before."""
        last = self.table[-1]
        closed = last in '"`'
        return f"{self.table[:-1]}_before{last}" if closed else f"{self.table}_before"

    @property
    def noted(self) -> str:
        """The table that notes which parts are in, of this runbook alone."""
        return re.sub(r"[^a-z0-9]+", "_", f"splarn_{self.plan_id}".lower())

    @property
    def noting(self) -> str:
        """Makes the table that notes what has been done."""
        return f"CREATE TABLE IF NOT EXISTS {self.noted} (part VARCHAR(200) PRIMARY KEY);"

    def prepare(self) -> list[tuple[str, list[str]]]:
        """What comes before the first part, by what notes that it is done; may be done again."""
        if self.mode == "create":
            made = self.ddl.replace("CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
            return [("(table)", [made])]
        copy = [f"DROP TABLE IF EXISTS {self.before};",
                f"CREATE TABLE {self.before} AS SELECT * FROM {self.table};"]  # fmt: skip
        steps = [("(copy)", copy)]
        if self.mode == "empty":
            steps.append(("(emptied)", [f"DELETE FROM {self.table};"]))
        return steps

    def back(self) -> list[str]:
        """Statements that make it as it was before."""
        gone = f"DROP TABLE {self.noted};"
        if self.mode == "create":
            return [f"DROP TABLE {self.table};", gone]
        return [f"DELETE FROM {self.table};",
                f"INSERT INTO {self.table} SELECT * FROM {self.before};",
                f"DROP TABLE {self.before};", gone]  # fmt: skip

    def tidy(self) -> list[str]:
        """Statements once all is well."""
        kept = [f"DROP TABLE {self.before};"] if self.mode != "create" else []
        return [f"DROP TABLE {self.noted};", *kept]

    @property
    def counts(self) -> tuple[str, str]:
        """A query whose answer is one line, and that answer; of more than a table, rows alone."""
        if self.mode == "append":
            return (
                f"SELECT (SELECT count(*) FROM {self.table}) - "
                f"(SELECT count(*) FROM {self.before});", str(self.rows),
            )  # fmt: skip
        told = ["count(*)", *(f"count({name})" for name in self.names)]
        joined = " || ' ' || ".join(f"CAST({one} AS VARCHAR)" for one in told)
        if self.client.program == "mariadb":
            joined = f"CONCAT_WS(' ', {', '.join(told)})"
        figures = [self.rows, *self.filled.values()]
        return f"SELECT {joined} FROM {self.table};", " ".join(map(str, figures))


def script(book: Runbook) -> str:
    """The steps as a shell script, which goes on where it stopped when it is given again."""
    query, answer = book.counts
    client = book.client
    prepare = "\n".join(
        f"once '{mark}' {' '.join(map(_quoted, lines))}" for mark, lines in book.prepare()
    )
    fresh = ""
    if book.mode == "create":
        count = _quoted(f"SELECT count(*) FROM {book.table};")
        there = _quoted(f"{book.table} is already there: take it away, or plan for it as it is.")
        fresh = f"""
    if run {count} >/dev/null 2>&1; then
        echo {there} >&2
        exit 1
    fi"""
    return f"""\
#!/usr/bin/env bash
# {book.plan_id}: {plural(book.rows, "row")} into {book.table}, without Splarn.
# Given again it goes on where it stopped. The steps in words are in STEPS.md.
set -euo pipefail
cd "$(dirname "$0")"

client() {{ {client.base(book.target)} "$@"; }}
run() {{ client {client.query} "$1"; }}
export -f client run

echo "1. Are all parts whole?"
sha256sum --quiet -c parts.sha256

echo "2. The table"
if ! run "SELECT count(*) FROM {book.noted};" >/dev/null 2>&1; then{fresh}
    run {_quoted(book.noting)}
fi
once() {{
    mark=$1
    shift
    if [ "$(run "SELECT count(*) FROM {book.noted} WHERE part = '$mark';")" = 0 ]; then
        for statement in "$@"; do run "$statement"; done
        run "INSERT INTO {book.noted} VALUES ('$mark');"
    fi
}}
{prepare}

echo "3. {plural(len(book.parts), "part")}, {book.streams} at once"
load_part() {{
    PART=$1 NAME=$(basename "$1")
    if [ "$(run "SELECT count(*) FROM {book.noted} WHERE part = '$NAME';")" = 0 ]; then
        {client.load(book.table, book.names, book.noted)}
    fi
}}
export -f load_part
find parts -type f | sort | xargs -P {book.streams} -I '{{}}' bash -euo pipefail -c 'load_part {{}}'

echo "4. Is all of it there?"
found=$(run {_quoted(query)})
if [ "$found" != {_quoted(answer)} ]; then
    echo "It is not: there is $found, and should be {answer}. STEPS.md says how to go back." >&2
    exit 1
fi
echo "All {book.rows:,} rows are in."
"""


def commands(plan: Plan, sources: Sequence[str], target: str) -> list[str]:
    """What carries a plan out by Splarn's own commands, one stage after the other.

    They are given in the runbook's folder, which holds the layout.
    """
    one = plan.configuration
    bad = plan.bad_rows
    limit = [] if bad.as_json() is None else ["--bad-row-limit", str(bad.as_json())]
    shape = [
        "shape", *sources, "--layout", "layout.json", "--into", "by-splarn",
        "--part-size", str(one.part_size), "--format", one.format, "--codec", str(one.packing),
        "--workers", str(one.workers), "--verify",
    ]  # fmt: skip
    if bad.count != 0 and one.format != plan.layout.format:
        shape += ["--rejects", "rejects"]
    told, parts = [shape], "by-splarn"
    if plan.depot:
        landing = f"{plan.depot.rstrip('/')}/{plan.id}"
        told.append(["ship", "by-splarn", "--to", landing,
                     "--streams", str(one.transfer_streams or one.load_streams)])  # fmt: skip
        parts = f"{landing}/datapackage.json"
    load = [
        "load", parts, "--to", target, "--table", plan.table, "--table-mode", plan.table_mode,
        "--streams", str(one.load_streams), "--batch-rows", str(one.batch_rows),
        "--durability", one.durability, "--indexes", one.indexes, "--route", one.route, "--yes",
    ]  # fmt: skip
    if bad.count != 0:
        load += ["--bad-rows", "set-aside", *limit]
    if "size" in plan.forecast["phases"]:
        load += ["--tier", one.tier]
    return [f"splarn {shlex.join(words)}" for words in (*told, load)]


def splarn_script(plan: Plan, lines: Sequence[str]) -> str:
    """The same as a shell script; each command goes on where it stopped when it is given again."""
    return f"""\
#!/usr/bin/env bash
# {plan.id}: {plan.table} by Splarn's own commands, one stage after the other.
# Given again it goes on where it stopped; `splarn undo last --to …` takes the load back.
set -euo pipefail
cd "$(dirname "$0")"

test -e by-splarn/datapackage.json || {chr(10).join(lines)}
"""


def steps(book: Runbook, splarn: Sequence[str], where: str = "") -> str:
    """The steps in words, each with what it takes, what to see, and how to go back.

    `where` is the runbook's folder as seen from where the steps are written, empty for the same.
    """
    seconds, cost = book.forecast["seconds"], book.forecast["cost"]
    phases = book.forecast["phases"]
    size = sum(part.bytes for part in book.parts)
    client = book.client
    query, answer = book.counts
    each = book.rows / max(len(book.parts), 1)

    here = f"the folder `{where}`, in which all of this happens" if where else "this folder"

    def sql(lines: Sequence[str]) -> str:
        return "```sql\n" + "\n".join(lines) + "\n```"

    aside = "" if not book.set_aside else (
        f"\n{plural(book.set_aside, 'row')} could not be read as the layout has it and "
        "stayed behind; they are in `rejects.jsonl`, with the file and line of each.\n"
    )  # fmt: skip
    return f"""\
# {book.plan_id}: load {book.table}

{plural(book.rows, "row")} in {plural(len(book.parts), "part")} ({show_size(size)}). By the plan it
takes {show_duration(seconds["median"])}
({show_range(seconds["low"], seconds["high"], show_duration)} nine times in ten) and costs
{show_money(cost["median"], book.currency)}; with `{client.program}` it may be more.
{aside}
You need `{client.program}`, `bash`, `sha256sum`, `find` and `xargs`, and {here}. `./load.sh`
does steps 1 to 4; given again it goes on where it stopped. By hand:

## 1. Are all parts whole?

```bash
sha256sum --quiet -c parts.sha256
```

It says nothing when they are. A part that is named is broken: copy this folder again.

## 2. The table

{sql([book.noting, *(line for _, lines in book.prepare() for line in lines)])}

`{book.noted}` notes which parts are in, while this lasts.

## 3. The parts

Expected: about {show_duration(phases.get("load", 0.0))}, {book.streams} at once. Each part is one
transaction that also notes it; of a part, for instance `{book.parts[0].name}`:

```bash
client() {{ {client.base(book.target)} "$@"; }}
PART=parts/{book.parts[0].name} NAME={book.parts[0].name}
{client.load(book.table, book.names, book.noted)}
```

After each, this is one more, and the table has about {each:,.0f} rows more; after all, it is
{len(book.parts)}, and {book.rows:,} rows are in:

{sql([f"SELECT count(*) FROM {book.noted} WHERE part NOT LIKE '(%';"])}

## 4. Is all of it there?

{sql([query])}

The answer must be `{answer}`{
        ""
        if book.mode == "append"
        else ": the rows, and the values that are no null of each column"
    }. If it is, tidy up:

{sql(book.tidy())}

## If something goes wrong

A step that fails leaves nothing half done: look at what it says, mend that, and give `./load.sh`
again. To go back to what was there before:

{sql(book.back())}

## With Splarn

`splarn run` carries the plan out as it is, all stages at the same time; `./with-splarn.sh` does the
same by single commands, one stage after the other:

```bash
{chr(10).join(splarn)}
```
"""
