"""A plan for a colleague without Splarn: parts ready for the target's own client, and the steps.

Each part goes in by one transaction that also notes it, so that a script which is broken off and
given again loads none twice.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from textwrap import fill
from typing import Any

from splarn.core.units import plural, show_duration, show_money, show_range, show_size
from splarn.report.clients import Client, for_shell


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
        return _beside(self.table, "_before")

    @property
    def into(self) -> str:
        """The table that parts go into: one beside the other where that is to be replaced."""
        return _beside(self.table, "_new") if self.mode == "replace" else self.table

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
        if self.mode in ("create", "replace"):
            made = self.ddl.replace("CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
            return [("(table)", [made])]
        copy = [f"DROP TABLE IF EXISTS {self.before};",
                f"CREATE TABLE {self.before} AS SELECT * FROM {self.table};"]  # fmt: skip
        steps = [("(copy)", copy)]
        if self.mode == "empty":
            steps.append(("(emptied)", [f"DELETE FROM {self.table};"]))
        return steps

    def renamed(self, table: str, name: str) -> str:
        """The statement that gives a table another name."""
        if self.client.program == "mariadb":
            return f"RENAME TABLE {table} TO {name};"
        return f"ALTER TABLE {table} RENAME TO {_bare(name)};"

    def swap(self, kept: bool) -> str:
        """Puts the new table in the place of the other, all at once; that is `kept`, or none."""
        away = [self.renamed(self.table, self.before)] if kept else []
        steps = " ".join([*away, self.renamed(self.into, self.table)])
        if self.client.program == "mariadb":
            # One statement of its own is all or nothing there.
            return steps.replace("; RENAME TABLE", ",")
        return f"BEGIN; {steps} COMMIT;"

    def back(self) -> list[str]:
        """Statements that make it as it was before."""
        gone = f"DROP TABLE {self.noted};"
        if self.mode == "replace":
            return [f"DROP TABLE {self.table};", self.renamed(self.before, self.table), gone]
        if self.mode == "create":
            return [f"DROP TABLE {self.table};", gone]
        return [f"DELETE FROM {self.table};",
                f"INSERT INTO {self.table} SELECT * FROM {self.before};",
                f"DROP TABLE {self.before};", gone]  # fmt: skip

    def tidy(self) -> list[str]:
        """Statements once all is well."""
        # Where there was no table before, none is kept.
        there = "IF EXISTS " if self.mode == "replace" else ""
        kept = [f"DROP TABLE {there}{self.before};"] if self.mode != "create" else []
        return [f"DROP TABLE {self.noted};", *kept]

    def counts(self, table: str) -> tuple[str, str]:
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
        return f"SELECT {joined} FROM {table};", " ".join(map(str, figures))


def _beside(table: str, ending: str) -> str:
    """The name of a table with an ending, inside its quotes where it has some."""
    last = table[-1]
    return f"{table[:-1]}{ending}{last}" if last in '"`' else f"{table}{ending}"


def _bare(table: str) -> str:
    """A table's name without its schema."""
    names: list[str] = re.findall(r'"(?:[^"]|"")+"|`(?:[^`]|``)+`|[^.]+', table)
    return names[-1]


def _look(book: Runbook) -> str:
    """Shell lines that hold the table against what was read, and put it in place of another."""
    query, answer = book.counts(book.table)
    wrong = f"""if [ "$found" != {for_shell(answer)} ]; then
    echo "It is not: there is $found, and should be {answer}. STEPS.md says how to go back." >&2
    exit 1
fi"""
    look = f"found=$(run {for_shell(query)})\n{wrong}"
    if book.mode != "replace":
        return look
    # The new table has its own name until it is in its place.
    new = book.counts(book.into)[0]
    there = for_shell(f"SELECT count(*) FROM {book.table};")
    first = f"found=$(run {for_shell(new)})\n{wrong}"
    inner = "\n".join(f"    {line}" for line in first.split("\n"))
    return f"""if run {for_shell(f"SELECT count(*) FROM {book.into};")} >/dev/null 2>&1; then
{inner}
    echo "5. In its place"
    if run {there} >/dev/null 2>&1; then
        run {for_shell(book.swap(True))}
    else
        run {for_shell(book.swap(False))}
    fi
fi
{look}"""


def script(book: Runbook) -> str:
    """The steps as a shell script, which goes on where it stopped when it is given again."""
    client = book.client
    prepare = "\n".join(
        f"once '{mark}' {' '.join(map(for_shell, lines))}" for mark, lines in book.prepare()
    )
    fresh = ""
    if book.mode == "create":
        count = for_shell(f"SELECT count(*) FROM {book.table};")
        there = for_shell(f"{book.table} is already there: take it away, or plan for it as it is.")
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
    run {for_shell(book.noting)}
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
        {client.load(book.into, book.names, book.noted)}
    fi
}}
export -f load_part
find parts -type f | sort | xargs -P {book.streams} -I '{{}}' bash -euo pipefail -c 'load_part {{}}'

echo "4. Is all of it there?"
{_look(book)}
echo "All {book.rows:,} rows are in."
"""


def steps(book: Runbook, splarn: Sequence[str], where: str = "") -> str:
    """The steps in words, each with what it takes, what to see, and how to go back.

    `where` is the runbook's folder as seen from where the steps are written, empty for the same.
    """
    seconds, cost = book.forecast["seconds"], book.forecast["cost"]
    phases = book.forecast["phases"]
    size = sum(part.bytes for part in book.parts)
    client = book.client
    query, answer = book.counts(book.into)
    each = book.rows / max(len(book.parts), 1)

    intro = (
        f"{plural(book.rows, 'row')} in {plural(len(book.parts), 'part')} ({show_size(size)}). By "
        f"the plan it takes {show_duration(seconds['median'])} "
        f"({show_range(seconds['low'], seconds['high'], show_duration)} nine times in ten) and "
        f"costs {show_money(cost['median'], book.currency)}; with `{client.program}` it may be "
        "more."
    )
    here = f"the folder `{where}`, in which all of this happens" if where else "this folder"

    def sql(lines: Sequence[str]) -> str:
        return "```sql\n" + "\n".join(lines) + "\n```"

    in_place = "" if book.mode != "replace" else (
        f"If it is, the new table takes the place of the other, which is kept as {book.before}:\n\n"
        f"{sql([book.swap(True)])}\n\n(Where there was none: `{book.swap(False)}`)\n\n"
    )  # fmt: skip
    aside = "" if not book.set_aside else (
        f"\n{plural(book.set_aside, 'row')} could not be read as the layout has it and "
        "stayed behind; they are in `rejects.jsonl`, with the file and line of each.\n"
    )  # fmt: skip
    return f"""\
# {book.plan_id}: load {book.table}

{fill(intro, 96)}
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
{client.load(book.into, book.names, book.noted)}
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
    }. {in_place}If it is, tidy up:

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
