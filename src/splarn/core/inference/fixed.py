"""Columns of fixed width, told by the places at which every line has a blank."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

from splarn.core.inference.cells import is_value
from splarn.core.records.splitting import Marks

# So many lines show that blanks at one place are no accident.
ENOUGH = 8
LOOKED_AT = 400


def fixed_widths(files: Sequence[Sequence[str]], marks: Marks) -> tuple[int, ...]:
    """The width of each column in characters; empty where columns are not told by their places.

    Text has fixed columns when a delimiter fails, values hold blanks themselves, and yet each line
    has a blank at the same places.
    """
    lines = [line for file in files for line in file[:LOOKED_AT] if line.strip()]
    lines = [line for line in lines if not set(line.strip()) <= set("-= ")] or lines
    if len(lines) < ENOUGH or any("\t" in line for line in lines):
        return ()
    if marks.score > 0 and (marks.delimiter != " " or _quoted(lines, marks)):
        return ()
    if sum(map(is_value, lines)) > len(lines) / 2:
        return ()
    if marks.delimiter == " " and _runs_are_even(lines):
        return ()
    longest = max(map(len, lines))
    lengths = Counter(map(len, lines))
    if longest < 4 or (lengths.most_common(1)[0][1] < len(lines) * 0.5 and _is_prose(lines)):
        return ()
    padded = [line.ljust(longest) for line in lines]
    blank = [all(line[at] == " " for line in padded) for at in range(longest)]
    starts = [at for at in range(longest) if not blank[at] and (at == 0 or blank[at - 1])]
    if len(starts) < 2:
        return ()
    edges = [0, *starts[1:]]
    head = padded[0]
    named = [bool(head[a:b].strip()) for a, b in pairwise([*edges, longest])]
    if sum(named) > 1:
        # Where the header has one name over two columns, they are one with a blank in it.
        edges = [edge for edge, has_name in zip(edges, named, strict=True) if has_name or not edge]
    widths = [after - before for before, after in pairwise(edges)]
    return (*widths, max(longest - edges[-1], 1))


def _quoted(lines: Sequence[str], marks: Marks) -> bool:
    return marks.quote is not None and any(marks.quote in line for line in lines)


def _runs_are_even(lines: Sequence[str]) -> bool:
    """Whether runs of blanks give every line the same number of values."""
    counts = Counter(len(line.split()) for line in lines)
    return counts.most_common(1)[0][1] > 0.97 * len(lines)


def _is_prose(lines: Sequence[str]) -> bool:
    """Whether lines are sentences, which end where they end."""
    return sum(line.rstrip().endswith((".", ",", ";", ":")) for line in lines) > len(lines) * 0.2
