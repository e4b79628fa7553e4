"""Names of columns, settled: none is missing, comes twice, or is too long for a database."""

from __future__ import annotations

from collections.abc import Sequence


def settled_names(cells: Sequence[str], width: int) -> tuple[list[str], list[str]]:
    """A name for each column, and what had to be settled, each as a sentence without its end.

    Blank names get the column's number, repeated ones (letters' case aside) a number of their own,
    line breaks become blanks.
    """
    names: list[str] = []
    notes: list[str] = []
    taken: set[str] = set()
    own = {_clean(cell).lower() for cell in cells}
    for index in range(width):
        cell = _clean(cells[index]) if index < len(cells) else ""
        if index == 0 and cell.startswith("# "):
            cell = cell.removeprefix("# ")
        name = cell
        if not cell:
            name = _free(f"column_{index + 1}", taken | own)
            notes.append(f"column {index + 1} has no name in the header; it is called {name}")
        elif cell.lower() in taken:
            name = _free(cell, taken | own, 2)
            same = "like one before" if cell in names else "as one before but for case"
            notes.append(f"column {index + 1} is called {cell!r} {same}; it is called {name}")
        elif len(cell.encode()) > LONGEST_NAME:
            name = _free(_shortened(cell), taken | own)
            notes.append(
                f"the name of column {index + 1} is longer than databases allow; it is called "
                f"{name}"
            )
        taken.add(name.lower())
        names.append(name)
    return names, notes


# PostgreSQL keeps 63 bytes of a name, MariaDB 64 characters.
LONGEST_NAME = 63


def _clean(cell: str) -> str:
    printable = "".join(mark if mark.isprintable() or mark.isspace() else " " for mark in cell)
    return " ".join(printable.split())


def _shortened(name: str) -> str:
    while len(name.encode()) > LONGEST_NAME - 4:
        name = name[:-1]
    return name.rstrip()


def _free(name: str, taken: set[str], number: int = 1) -> str:
    free = name if number == 1 else f"{name}_{number}"
    while free.lower() in taken:
        number += 1
        free = f"{name}_{number}"
    return free
