"""Descriptions of Sluice, the simulated engine that takes statements, and readings for it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import splarn as library
from splarn.core.layout import Dialect, Field, Layout
from tests.conftest import ask

OWN = '''
[engine]
name = "Sluice"
place = "sluice://lower-pool"
[connection]
module = "splarn.standin.sluice"
arguments = {{ path = "{path}" }}
[abilities]
whole_parts = {whole}
[statements]
load.csv = "TAKE IN {{address}} INTO {{table}} ({{columns}}) TAGGED {{tag}}"
look = """
SELECT name, type, CASE WHEN "notnull" THEN 'NO' ELSE 'YES' END
FROM pragma_table_info({{name_text}})"""
version = "SELECT 'Sluice 1'"
{more}
[figures]
text_bytes = "LENGTH(CAST({{column}} AS BLOB))"
boolean = "CASE {{column}} WHEN 'true' THEN 1 WHEN 'false' THEN 0 END"
date = "CAST(julianday({{column}}) - 2440587.5 AS INTEGER)"
datetime = "CAST(strftime('%s', {{column}}) AS INTEGER)"
time = "CAST(strftime('%s', '1970-01-01 ' || {{column}}) AS INTEGER)"
'''
HISTORY = 'came_in = "SELECT sum(row_count) FROM sluice_history WHERE tag = {tag}"'
UNDER_WAY = 'under_way = "SELECT count(*) FROM sluice_under_way WHERE tag = {tag}"'
LEVELS = Layout(
    "levels", Dialect(header=False),
    (Field("no", "integer", required=True), Field("gauge"), Field("level", "integer")),
)  # fmt: skip


def parts(home: Path, count: int, rows: int = 30) -> Any:
    """So many parts of so many rows, by their manifest."""
    source = home / "levels.csv"
    source.write_text("".join(f"{n},LK-{n % 7},{n * 3}\n" for n in range(count * rows)))
    size = source.stat().st_size // count + 8
    return library.shape(source, home / "parts", layout=LEVELS, part_size=size).manifest


def levels(home: Path, table: str = "levels") -> list[Any]:
    """How many rows are in a table, and how many different ones."""
    return ask(f"sqlite:///{home}/sluice.db", f"SELECT count(*), count(DISTINCT no) FROM {table}")
