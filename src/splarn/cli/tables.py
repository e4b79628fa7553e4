"""Tables that keep what is in them, however narrow the place is where they are shown."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from textwrap import wrap as wrapped
from typing import TYPE_CHECKING

from splarn.cli.plain import escaped

if TYPE_CHECKING:
    from rich.console import Console
    from rich.padding import Padding

# Columns before a table, and those that the texts in it need at least.
INDENT, LEAST_ROOM = 2, 24


@dataclass(frozen=True)
class Grid:
    """A table's heads and cells. `texts` is the column that may go on in further lines.

    `gap` columns lie between two of its own.
    """

    heads: Sequence[str]
    right: Sequence[bool]
    cells: Sequence[Sequence[str]]
    texts: int
    gap: int = 3

    @property
    def widths(self) -> list[int]:
        """What each column takes."""
        from rich.cells import cell_len

        heads = (max(map(cell_len, head.split("\n"))) for head in self.heads)
        return [max(head, *found) for head, *found in zip(heads, *self._lengths, strict=True)]

    @property
    def _lengths(self) -> list[list[int]]:
        from rich.cells import cell_len

        return [[cell_len(cell) for cell in row] for row in self.cells]

    @property
    def others(self) -> int:
        """What all but the texts take together."""
        widths = self.widths
        return sum(widths) - widths[self.texts] + self.gap * (len(widths) - 2)

    def room(self, width: int) -> int:
        """What is left for the texts."""
        return width - INDENT - self.others - self.gap

    def fits(self, width: int) -> bool:
        """Whether the texts have room, if need be in several lines."""
        return self.room(width) >= min(self.widths[self.texts], LEAST_ROOM)

    def tight(self) -> Grid:
        """The same with heads no wider than what is below them, and less between the columns."""
        below = [max(column, default=1) for column in zip(*self._lengths, strict=True)]
        heads = [
            "\n".join(wrapped(head, max(size, *map(len, head.split())))) if head else ""
            for head, size in zip(self.heads, below, strict=True)
        ]
        return replace(self, heads=heads, gap=2)

    def drawn(self, apart: bool, indent: int) -> Padding:
        """The table, without its texts where those go `apart`."""
        from rich import box
        from rich.padding import Padding
        from rich.table import Table

        table = Table(
            box=box.SIMPLE_HEAD, pad_edge=False, header_style="dim", show_edge=False,
            collapse_padding=self.gap == 2,
        )  # fmt: skip
        shown = [index for index in range(len(self.heads)) if not apart or index != self.texts]
        for index in shown:
            table.add_column(
                self.heads[index],
                justify="right" if self.right[index] else "left",
                no_wrap=index != self.texts,
                overflow="fold",
            )
        for row in self.cells:
            table.add_row(*(escaped(row[index]) for index in shown))
        return Padding(table, (0, 0, 0, indent), expand=False)


def print_table(console: Console, grid: Grid) -> None:
    """Prints a table as it is, or tight, or with its texts on lines of their own."""
    width = console.width
    grid = grid if grid.room(width) >= grid.widths[grid.texts] else grid.tight()
    if grid.fits(width) or not grid.cells:
        console.print(grid.drawn(False, INDENT))
    else:
        _print_apart(console, grid)


def _print_apart(console: Console, grid: Grid) -> None:
    """Prints each text over its row; a row that is too wide goes on rather than lose anything."""
    from rich.console import Console
    from rich.padding import Padding

    indent = max(min(console.width - grid.others, 2 * INDENT), 0)
    roomy = Console(highlight=False, width=max(console.width, grid.others))
    with roomy.capture() as captured:
        roomy.print(grid.drawn(True, indent))
    lines = captured.get().splitlines()
    head = len(lines) - len(grid.cells)

    def say(text: str, style: str = "") -> None:
        if text:
            console.print(Padding(escaped(text), (0, 0, 0, INDENT), expand=False), style=style)

    say(grid.heads[grid.texts].replace("\n", " "), "dim")
    console.file.write("".join(f"{line}\n" for line in lines[:head]))
    for row, line in zip(grid.cells, lines[head:], strict=True):
        say(row[grid.texts])
        console.file.write(f"{line}\n")
