"""Tables, sentences, progress and JSON, the same way in every command."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from splarn.cli.plain import escaped, in_one_line, quiet_json, visible
from splarn.cli.voice import VOICE, Together, Told
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
        if self.speaks:
            self._after_table = False
            self.out.print(visible(text), markup=False)

    def head(self, text: str) -> None:
        """A line that opens a section."""
        if self.speaks:
            self.out.print(f"[bold]{escaped(text)}[/bold]")

    def note(self, text: str) -> None:
        """Something to be aware of; to stderr under `--json`, and always into the log."""
        VOICE.heard("note", {"text": text})
        if VOICE.quiet:
            return
        console = self.err if self.as_json else self.out
        console.print(f"[yellow]{MARK}[/yellow] {escaped(text)}")

    def good(self, text: str) -> None:
        """Something that went as it should."""
        VOICE.heard("good", {"text": text})
        if self.speaks:
            self.out.print(f"[green]{escaped(text)}[/green]")

    def bad(self, text: str) -> None:
        """Something that fell short."""
        VOICE.heard("short", {"text": text})
        console = self.err if self.as_json or VOICE.quiet else self.out
        console.print(f"[red]{escaped(text)}[/red]")

    def table(self, columns: Sequence[str | Column], rows: Iterable[Sequence[str]]) -> None:
        """A table; a column whose head begins with `>` is flush right."""
        if not self.speaks:
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

    @contextmanager
    def working(self, label: str) -> Iterator[None]:
        """Shows that something goes on which tells nothing of how far it is."""
        watch = self.progress(logged=False)
        watch.start(label, None, "")
        try:
            yield
        finally:
            watch.finish()

    @property
    def speaks(self) -> bool:
        """Whether people are told what goes as it should."""
        return not self.as_json and not VOICE.quiet

    @property
    def watched(self) -> bool:
        """Whether someone may look on while the command is at work."""
        return self.speaks and self.err.is_terminal

    def progress(self, logged: bool = True) -> Progress:
        """A live view where someone is looking; what each stage took where that was asked for."""
        watchers: list[Any] = []
        if self.watched:
            from splarn.cli.live import LiveView

            watchers.append(LiveView(self.err))
        if VOICE.verbose or (logged and VOICE.log is not None):
            watchers.append(Told(self.aside, logged))
        if not watchers:
            return Silent()
        return watchers[0] if len(watchers) == 1 else Together(watchers)

    def aside(self, text: str) -> None:
        """What only those want to know who asked for more."""
        if VOICE.verbose:
            self.err.print(f"  {visible(text)}", markup=False)
