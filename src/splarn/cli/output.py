"""Tables, sentences, progress and JSON, the same way in every command."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from splarn.cli.plain import escaped, in_one_line, quiet_json, visible
from splarn.core.source.secrets import hide_all
from splarn.core.work.progress import Progress, Silent

if TYPE_CHECKING:
    from rich.console import Console

    from splarn.cli.tables import Column

MARK = "•"


class Output:
    """Where a command's words go: text to stdout, or one JSON document there and text to stderr."""

    def __init__(self, as_json: bool) -> None:
        from rich.console import Console

        self.as_json = as_json
        self._after_table = False
        # A file or a pipe has no width of its own.
        wide = None if sys.stdout.isatty() or os.environ.get("COLUMNS") else 120
        self.out: Console = Console(highlight=False, soft_wrap=False, width=wide)
        self.err: Console = Console(stderr=True, highlight=False)

    def say(self, text: str = "") -> None:
        """A sentence for people; nothing under `--json`."""
        if not self.as_json:
            self._after_table = False
            self.out.print(visible(text), markup=False)

    def head(self, text: str) -> None:
        """A line that opens a section."""
        if not self.as_json:
            self.out.print(f"[bold]{escaped(text)}[/bold]")

    def note(self, text: str) -> None:
        """Something to be aware of; to stderr under `--json`."""
        console = self.err if self.as_json else self.out
        console.print(f"[yellow]{MARK}[/yellow] {escaped(text)}")

    def good(self, text: str) -> None:
        """Something that went as it should."""
        if not self.as_json:
            self.out.print(f"[green]{escaped(text)}[/green]")

    def bad(self, text: str) -> None:
        """Something that fell short."""
        console = self.err if self.as_json else self.out
        console.print(f"[red]{escaped(text)}[/red]")

    def table(self, columns: Sequence[str | Column], rows: Iterable[Sequence[str]]) -> None:
        """A table; a column whose head begins with `>` is flush right."""
        if self.as_json:
            return
        from splarn.cli.tables import Column, print_table

        cells = [[in_one_line(cell) for cell in row] for row in rows]
        if not self._after_table:
            self.out.print()
        whole = [one if isinstance(one, Column) else Column(one) for one in columns]
        print_table(self.out, whole, cells)
        self.out.print()
        self._after_table = True

    def document(self, document: dict[str, Any]) -> None:
        """The JSON document of the command; nothing without `--json`."""
        if self.as_json:
            text = json.dumps(hide_all(document), ensure_ascii=False, default=str)
            print(quiet_json(text))

    def progress(self) -> Progress:
        """A live view where someone is looking, otherwise silence."""
        if self.as_json or not self.err.is_terminal:
            return Silent()
        from splarn.cli.live import LiveView

        return LiveView(self.err)
