"""What a session is going to change of a table, and what the table's files are."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from splarn.core.lake.columns import LakeColumn
from splarn.core.lake.writing import DataFile
from splarn.core.layout.file_layout import FileLayout
from splarn.core.target.notes import LoadNote
from splarn.engines.lake.book import Side

# Files that a load has written have the load's number in their names.
_OWNED = re.compile(r"/([0-9a-f]{16})-[0-9a-f]{8}-\d+\.parquet$")


@dataclass(frozen=True)
class TableFile:
    """A file of a table. `known` is what its metadata have of it, None for one that is to come.

    `added` is when it came in, in seconds since 1970; 0 where that is not known any more.
    """

    file: DataFile
    known: Any = None
    added: float = 0.0

    @property
    def owner(self) -> int | None:
        """The number of the load that wrote it; None where its name does not tell."""
        found = _OWNED.search(self.file.path)
        return None if found is None else int(found[1], 16)


def prefix_of(number: int) -> str:
    """How names of files begin that a load writes."""
    return f"{number:016x}"


@dataclass(frozen=True)
class Before:
    """A table as it was: by which snapshot, None where it had none, with what rows."""

    snapshot: int | None
    schema: int
    spec: int
    rows: int


@dataclass
class Change:
    """All that one commit is to do with a table.

    With `anew` the table gets the columns and the layout of those rows. `back` is a table as it was
    that takes this one's place. `keep` and `let_go` are names of the table as it is before this
    change, and of earlier ones. `seen` are the properties that it goes by, as they were looked at.
    """

    create: tuple[tuple[LakeColumn, ...], FileLayout] | None = None
    location: str = ""
    drop: bool = False
    empties: bool = False
    remove: set[str] = field(default_factory=set)
    add: list[TableFile] = field(default_factory=list)
    anew: Side | None = None
    keep: set[str] = field(default_factory=set)
    let_go: set[str] = field(default_factory=set)
    back: Before | None = None
    notes: dict[str, LoadNote] = field(default_factory=dict)
    forgotten: set[str] = field(default_factory=set)
    expire: set[int] = field(default_factory=set)
    seen: dict[str, str | None] = field(default_factory=dict)
    properties: dict[str, str] = field(default_factory=dict)
    summary: dict[str, str] = field(default_factory=dict)

    @property
    def files_change(self) -> bool:
        """Whether files come or go."""
        return bool(self.empties or self.remove or self.add)

    @property
    def more_than_made(self) -> bool:
        """Whether a table that has just been made is to be changed besides."""
        return bool(self.files_change or self.keep or self.let_go or self.forgotten)
