"""What engines say of a thing that their tables have not."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, ClassVar

from splarn.core.target.merging import Merging
from splarn.core.target.tables import TableIndex


class PlainEngine:
    """An engine that is no file, writes in one way and keeps its promises without a word more."""

    gathers = False
    sets_aside = True
    promises: tuple[str, ...] = ()
    is_file = False
    processes_here: tuple[str, ...] = ()
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "durability": ("full",),
        "indexes": ("keep",),
        "route": ("straight",),
    }

    @property
    def folders(self) -> tuple[Path, ...]:
        """See Engine."""
        return ()

    def preload(self) -> None:
        """See Engine."""


class PlainSession:
    """A session whose link keeps its transaction, and where nothing may be less safe."""

    link: Any
    merging: Merging | None = None

    def relax(self) -> None:
        """See Session."""

    def lay_out(self, layout: str) -> None:
        """See Session."""

    def commit(self) -> None:
        """See Session."""
        self.link.commit()

    def rollback(self) -> None:
        """See Session."""
        self.link.rollback()

    def close(self) -> None:
        """See Session."""
        self.link.close()


class PlainTables:
    """Tables with neither indexes nor numbers of their own, and nothing that hangs on them."""

    def ties(self, table: str) -> list[str]:
        """See Tables."""
        return []

    def indexes(self, table: str) -> list[TableIndex]:
        """See Tables."""
        return []

    def drop_index(self, table: str, index: TableIndex) -> None:
        """See Tables."""

    def restore_index(self, table: str, index: TableIndex) -> None:
        """See Tables."""

    def continue_numbers(self, table: str, column: str) -> str:
        """See Tables."""
        return ""
