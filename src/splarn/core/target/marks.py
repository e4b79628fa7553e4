"""Marks: which rows of a table a batch brought in, as ranges of numbers that its engine gives.

What is numbered is the engine's matter: transactions, rows, or values of an identity column.
"""

from __future__ import annotations

from collections.abc import Iterable

# First and last number of each range, both belonging to it; in order and apart from one another.
Marks = tuple[tuple[int, int], ...]

# Beyond so many ranges the note of a part would grow too large; its rows then cannot be told apart.
MOST_RANGES = 4000


def joined(many: Iterable[Marks | None]) -> Marks | None:
    """All marks together; None when some rows have none or the ranges are too many."""
    ranges: list[tuple[int, int]] = []
    for marks in many:
        if marks is None:
            return None
        ranges += marks
    spans: list[tuple[int, int]] = []
    for first, last in sorted(ranges):
        if spans and first <= spans[-1][1] + 1:
            spans[-1] = (spans[-1][0], max(spans[-1][1], last))
        else:
            spans.append((first, last))
    return tuple(spans) if len(spans) <= MOST_RANGES else None


def marks_text(marks: Marks | None) -> str:
    """Marks as a note keeps them."""
    if marks is None:
        return "?"
    return " ".join(f"{first}-{last}" if last > first else str(first) for first, last in marks)


def read_marks(text: str) -> Marks | None:
    """The reverse of `marks_text`."""
    if text == "?":
        return None
    ranges = []
    for piece in text.split():
        first, _, last = piece.partition("-")
        ranges.append((int(first), int(last or first)))
    return tuple(ranges)
