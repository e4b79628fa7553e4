"""The target as it was when a load was planned, so that what has changed since is told."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass

from splarn.core.target.session import OpenEngine


@dataclass(frozen=True)
class Seen:
    """What the engine says it is, and the table's columns as text; empty where there is none."""

    engine: str = ""
    columns: str = ""


def look_at(open_engine: OpenEngine, table: str) -> Seen:
    """The target as it is now. Raises OutsideError when it cannot be reached."""
    with closing(open_engine().connect()) as session:
        there = session.tables.canonical(table)
        columns = session.tables.columns_text(there) if session.tables.kind(there) else ""
        return Seen(session.version(), columns)
