"""Sampled text taken apart into records and cells by a dialect under trial."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator
from dataclasses import dataclass

# Stands for a delimiter of several characters while the text is taken apart.
_STAND_IN = "\x1f"


@dataclass(frozen=True)
class Marks:
    """Delimiter, quote and escape, with how well they divide the sample (1 is perfectly).

    With `runs`, any number of blanks in a row is one delimiter.
    """

    delimiter: str
    quote: str | None = '"'
    escape: str | None = None
    score: float = 0.0
    runs: bool = False


@dataclass(frozen=True)
class Record:
    """A record of a sample: the line on which it begins, counted from 1, and its cells."""

    line: int
    cells: tuple[str, ...]

    @property
    def width(self) -> int:
        """How many cells it has."""
        return len(self.cells)

    @property
    def filled(self) -> int:
        """How many of them hold something."""
        return sum(1 for cell in self.cells if cell.strip())


def records_of(text: str, marks: Marks, most: int | None = None) -> list[Record]:
    """The records of a text, blank lines left out; `most` are enough."""
    records: list[Record] = []
    for record in _records(text, marks):
        records.append(record)
        if len(records) == most:
            break
    return records


def lines_of(text: str) -> list[str]:
    """The lines of a text without their ends."""
    lines = text.split("\n")
    if lines and not lines[-1]:
        lines.pop()
    return [line.removesuffix("\r") for line in lines]


def _records(text: str, marks: Marks) -> Iterator[Record]:
    lines = lines_of(text)
    if marks.runs:
        for number, line in enumerate(lines, 1):
            if line.strip():
                yield Record(number, tuple(_by_runs(line, marks.quote)))
        return
    delimiter = marks.delimiter
    if len(delimiter) > 1:
        lines = [line.replace(delimiter, _STAND_IN) for line in lines]
        delimiter = _STAND_IN
    if marks.quote is None or marks.quote not in text:
        for number, line in enumerate(lines, 1):
            if line:
                yield Record(number, tuple(line.split(delimiter)))
        return
    csv.field_size_limit(1 << 30)
    try:
        yield from _quoted(lines, delimiter, marks)
    except csv.Error:
        # A NUL byte or a bare carriage return: go on line by line, so that one does not spoil all.
        for number, line in enumerate(lines, 1):
            mended = line.replace("\0", " ").replace("\r", " ")
            if mended:
                for record in _quoted([mended], delimiter, marks):
                    yield Record(number, record.cells)


def _quoted(lines: list[str], delimiter: str, marks: Marks) -> Iterator[Record]:
    reader = csv.reader(
        [f"{line}\n" for line in lines],
        delimiter=delimiter,
        quotechar=marks.quote,
        escapechar=marks.escape,
    )
    before = 0
    for row in reader:
        begun, before = before + 1, reader.line_num
        if not row:
            continue
        if delimiter != marks.delimiter:
            row = [cell.replace(delimiter, marks.delimiter) for cell in row]
        yield Record(begun, tuple(row))


_RUNS = re.compile(r"[ \t]+")
_QUOTED_RUNS = re.compile(r'"((?:[^"]|"")*)"(?=[ \t]|$)|([^ \t]+)')


def _by_runs(line: str, quote: str | None) -> list[str]:
    text = line.strip(" \t")
    if quote != '"' or '"' not in text:
        return _RUNS.split(text)
    return [
        match[2] if match[2] is not None else match[1].replace('""', '"')
        for match in _QUOTED_RUNS.finditer(text)
    ]
