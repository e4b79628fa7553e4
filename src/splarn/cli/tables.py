"""Tables that fit the place where they are shown and lose no name on the way.

Where the width does not do, in this order: heads are broken and columns move together, names are
shortened in the middle, columns give way by importance, texts go on in further lines, and last
each text stands over its row.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from textwrap import wrap as wrapped
from typing import TYPE_CHECKING

from splarn.cli.plain import escaped

if TYPE_CHECKING:
    from rich.console import Console
    from rich.padding import Padding

# Columns before a table, those that texts need at least, and those that a shortened name keeps.
INDENT, LEAST_ROOM, LEAST_NAME = 2, 24, 24


@dataclass(frozen=True)
class Column:
    """One column of a table. A `>` before the head sets it flush right.

    Columns with the highest `gives_way` go first where room is short; 0 stays. A name `shortens` in
    its middle; a text `wraps` into further lines. Those that one `joins` name a row together, and
    are written into one column where there is no room for each.
    """

    head: str
    gives_way: int = 0
    shortens: bool = False
    wraps: bool = False
    joins: bool = False

    @property
    def right(self) -> bool:
        """Whether it is flush right."""
        return self.head.startswith(">")

    @property
    def words(self) -> str:
        """The head as it is shown."""
        return self.head.removeprefix(">")


def name(head: str) -> Column:
    """A column of names, which are shortened rather than lost."""
    return Column(head, shortens=True)


def text(head: str) -> Column:
    """A column of sentences, which go on in further lines."""
    return Column(head, wraps=True)


def middle_out(value: str, room: int) -> str:
    """A name without its middle where it is longer than the room: both ends tell it apart."""
    from rich.cells import cell_len, set_cell_size

    if cell_len(value) <= room:
        return value
    front = (room - 1) // 2
    back = room - 1 - front
    tail = value
    while cell_len(tail) > back:
        tail = tail[1:]
    return f"{set_cell_size(value, front).rstrip()}…{tail}"


def told_apart(paths: Sequence[str]) -> tuple[str, list[str]]:
    """The folder that files share, and their paths below it; of one file there is none."""
    above = os.path.commonprefix([path.rpartition("/")[0] + "/" for path in paths])  # noqa: RUF071
    above = above.rpartition("/")[0]
    if len(paths) == 1 or not above.strip("/"):
        return "", list(paths)
    return above, [path[len(above) + 1 :] for path in paths]


@dataclass(frozen=True)
class Grid:
    """A table's columns and cells. `gap` blanks lie between two columns.

    `heads` are those of the columns, broken into lines where that helps; `rooms` are widths that
    columns were given rather than what they need.
    """

    columns: tuple[Column, ...]
    cells: tuple[tuple[str, ...], ...]
    heads: tuple[str, ...]
    gap: int = 3
    left_out: tuple[str, ...] = ()

    @classmethod
    def of(cls, columns: Sequence[Column], cells: Sequence[Sequence[str]]) -> Grid:
        """A table with all its room."""
        heads = tuple(column.words for column in columns)
        return cls(tuple(columns), tuple(map(tuple, cells)), heads)

    def _below(self, index: int) -> int:
        from rich.cells import cell_len

        return max((cell_len(row[index]) for row in self.cells), default=0)

    @property
    def widths(self) -> list[int]:
        """What each column takes."""
        from rich.cells import cell_len

        return [
            max(self._below(index), 1, *map(cell_len, head.split("\n")))
            for index, head in enumerate(self.heads)
        ]

    @property
    def width(self) -> int:
        """What the table takes."""
        widths = self.widths
        return INDENT + sum(widths) + self.gap * (len(widths) - 1)

    def tight(self) -> Grid:
        """The same with heads no wider than need be, and less between the columns."""
        heads = tuple(
            column.words
            if column.wraps
            else "\n".join(
                wrapped(column.words, max(self._below(at), *map(len, column.words.split()), 1))
            )
            for at, column in enumerate(self.columns)
        )
        return replace(self, heads=heads, gap=2)

    def shortened(self, width: int, least: int) -> Grid:
        """Names shortened to one length as far as the width asks, to `least` letters at most."""
        names = [at for at, column in enumerate(self.columns) if column.shortens]
        room = max(map(self._below, names), default=0)
        grid = self
        while grid.width - grid.spare > width and room > least:
            room -= 1
            cells = tuple(
                tuple(
                    middle_out(cell, room) if at in names else cell for at, cell in enumerate(row)
                )
                for row in self.cells
            )
            grid = replace(self, cells=cells)
        return grid

    def without(self, index: int) -> Grid:
        """The same without a column."""

        def cut(row: tuple[str, ...]) -> tuple[str, ...]:
            return (*row[:index], *row[index + 1 :])

        return replace(
            self,
            columns=(*self.columns[:index], *self.columns[index + 1 :]),
            cells=tuple(map(cut, self.cells)),
            heads=cut(self.heads),
            left_out=(*self.left_out, self.columns[index].words),
        )

    @property
    def spare(self) -> int:
        """What texts can do without by going on in further lines."""
        return sum(
            max(taken - max(LEAST_ROOM, 0, *map(len, head.split())), 0)
            for column, head, taken in zip(self.columns, self.heads, self.widths, strict=True)
            if column.wraps
        )

    def joined(self) -> Grid:
        """The same with the columns that name a row together written into one."""
        together = [at for at, column in enumerate(self.columns) if column.joins]
        if len(together) < 2:
            return self
        others = [at for at in range(len(self.columns)) if at not in together]
        before = [at for at in others if at < together[0]]
        after = [at for at in others if at > together[0]]

        def row(cells: Sequence[str]) -> tuple[str, ...]:
            one = " · ".join(filter(None, (cells[at] for at in together)))
            return (*(cells[at] for at in before), one, *(cells[at] for at in after))

        head = Column(" · ".join(self.columns[at].words for at in together), wraps=True)
        columns = (
            *(self.columns[at] for at in before), head, *(self.columns[at] for at in after)
        )  # fmt: skip
        return replace(
            Grid.of(columns, tuple(map(row, self.cells))), left_out=self.left_out
        ).tight()

    def is_within(self, width: int) -> bool:
        """Whether all has room, texts if need be in several lines."""
        return self.width - self.spare <= width

    def drawn(self, width: int, indent: int = INDENT) -> Padding:
        """The table; texts take what room is left."""
        from rich import box
        from rich.padding import Padding
        from rich.table import Table

        table = Table(
            box=box.SIMPLE_HEAD, pad_edge=False, header_style="dim", show_edge=False,
            collapse_padding=self.gap == 2,
        )  # fmt: skip
        for column, head, wide in zip(self.columns, self.heads, self.widths, strict=True):
            room = wide
            if column.wraps:
                room = min(max(wide - max(self.width - width, 0), LEAST_ROOM), wide)
            table.add_column(
                head,
                justify="right" if column.right else "left",
                no_wrap=not column.wraps,
                overflow="fold",
                width=max(room, 1),
            )
        for row in self.cells:
            table.add_row(*map(escaped, row))
        return Padding(table, (0, 0, 0, indent), expand=False)


def narrowed_to(grid: Grid, width: int) -> Grid:
    """A table as it is, or as little changed as lets it fit; it may still be too wide."""
    if grid.width <= width:
        return grid
    tight = grid.tight()
    narrowed = tight.shortened(width, LEAST_NAME)
    while not narrowed.is_within(width):
        order = [(column.gives_way, at) for at, column in enumerate(tight.columns)]
        gives_way, at = max(order)
        if not gives_way:
            break
        tight = tight.without(at)
        narrowed = tight.shortened(width, LEAST_NAME)
    if not narrowed.is_within(width):
        tight = tight.joined()
        narrowed = tight.shortened(width, LEAST_NAME)
    return narrowed if narrowed.is_within(width) else tight.shortened(width, LEAST_NAME // 3)


def print_table(
    console: Console, columns: Sequence[Column], cells: Sequence[Sequence[str]]
) -> None:
    """Prints a table as the console's width allows, and says which columns had no room."""
    width = console.width
    grid = narrowed_to(Grid.of(columns, cells), width)
    if grid.is_within(width) or not cells:
        console.print(grid.drawn(width))
    else:
        _print_apart(console, grid)
    # Bars have no name, and nobody misses them.
    left_out = [one for one in grid.left_out if one]
    if left_out:
        left = ", ".join(sorted(left_out, key=[one.words for one in columns].index))
        console.print(f"{' ' * INDENT}[dim]No room for: {escaped(left)}.[/dim]")


def _print_apart(console: Console, grid: Grid) -> None:
    """Prints the widest column over each row; what is too wide goes on rather than be lost."""
    from rich.console import Console
    from rich.padding import Padding

    widths = grid.widths
    apart = next(
        (at for at, one in enumerate(grid.columns) if one.wraps), widths.index(max(widths))
    )
    texts = [row[apart] for row in grid.cells]
    bare = grid.without(apart)
    indent = max(min(console.width - bare.width + INDENT, 2 * INDENT), 0)
    roomy = Console(highlight=False, width=max(console.width, bare.width))
    with roomy.capture() as captured:
        roomy.print(bare.drawn(roomy.width, indent))
    lines = captured.get().splitlines()
    head = len(lines) - len(grid.cells)

    def say(said: str, style: str = "") -> None:
        if said:
            console.print(Padding(escaped(said), (0, 0, 0, INDENT), expand=False), style=style)

    say(grid.columns[apart].words, "dim")
    console.file.write("".join(f"{line}\n" for line in lines[:head]))
    for one, line in zip(texts, lines[head:], strict=True):
        say(one)
        console.file.write(f"{line}\n")
