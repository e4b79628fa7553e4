"""The delimiter, quote and escape that sampled text speaks of.

Every candidate is judged by how regular its records are and by how meaningful its cells are; the
product of both decides, after van den Burg, Nazábal and Sutton 2019, "Wrangling messy CSV files by
detecting row and type patterns".
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from splarn.core.inference.cells import ADDRESS, MOMENT, NUMBER, meaning
from splarn.core.records.splitting import Marks, Record, lines_of, records_of

# How ready one is to believe in a delimiter before anything is seen of the text.
_TRUST = {
    ",": 1.0, "\t": 1.0, ";": 1.0, "|": 1.0, "\x1f": 1.0, "\x01": 1.0, "^": 0.9, "~": 0.9,
    ":": 0.75, " ": 0.75,
}  # fmt: skip
_LEAST_TRUST = 0.7
_SELDOM = "!#$%&*+/=@\\\x1c\x1d\x1e\x02\x03"
# Records and cells that are looked at for a score.
RECORDS = 400
CELLS = 6000
# Below this, no delimiter makes sense and every line is one value.
LEAST_SCORE = 0.17
# A mark that seldom separates fields must give most records the same width.
SELDOM_REGULAR = 0.8
# This share of all runs of a mark are copies of a delimiter made of it.
ALONE = 0.85
# A second dialect that comes so near to the best is said.
NEAR = 0.85


@dataclass(frozen=True)
class Guess:
    """The best marks, and the runner-up where it is near."""

    marks: Marks
    other: Marks | None = None


def guess_marks(texts: Sequence[str], delimiter: str | None = None) -> Guess:
    """The marks that take the texts apart most sensibly; `delimiter` settles it beforehand.

    A score of 0 says that nothing does, so that each line is one value.
    """
    whole = "\n".join(texts)
    scored = [
        replace(marks, score=score_of(_pooled(texts, marks), marks))
        for marks in _candidates(whole, delimiter)
    ]
    # Of equals the first one: candidates come in the order of trust.
    best = max(scored, key=lambda marks: round(marks.score, 6))
    if best.quote is None:
        # Quotes that look like text are mostly quotes all the same.
        for marks in scored:
            same = (marks.delimiter, marks.runs) == (best.delimiter, best.runs)
            if same and marks.quote is not None and marks.score >= 0.95 * best.score:
                best = marks
                break
    best = _escaped(texts, whole, best)
    if delimiter is None and _TRUST.get(best.delimiter, 0) < 1 and _lines_are_values(whole):
        return Guess(Marks(",", _lone_quote(whole)))
    if delimiter is None and best.score < LEAST_SCORE:
        return Guess(Marks(",", _lone_quote(whole)))
    others = [
        marks
        for marks in scored
        if (marks.delimiter, marks.runs) != (best.delimiter, best.runs)
        and marks.score >= NEAR * best.score
        and not {marks.delimiter, best.delimiter} <= {" ", "\t"}
        and best.delimiter not in marks.delimiter
    ]
    return Guess(best, max(others, key=lambda marks: marks.score, default=None))


def _lines_are_values(text: str) -> bool:
    """Whether each line is a date, a time or a number of its own, which seldom marks would cut."""
    lines = [line.strip() for line in lines_of(text)[:RECORDS] if line.strip()]
    values = sum(any(kind.fullmatch(line) for kind in (NUMBER, MOMENT, ADDRESS)) for line in lines)
    return values > 0.8 * len(lines)


def _pooled(texts: Sequence[str], marks: Marks) -> list[Record]:
    records: list[Record] = []
    for text in texts:
        records += records_of(text, marks, RECORDS)
    return records


def _candidates(text: str, delimiter: str | None) -> Iterator[Marks]:
    quotes = _quotes(text)
    marks = [delimiter] if delimiter else [*_single(text), *_several(text)]
    for mark in marks or [","]:
        for quote in quotes:
            if quote != mark:
                yield Marks(mark, quote)
    if delimiter is None and " " in text:
        for quote in quotes:
            yield Marks(" ", quote, runs=True)


def _single(text: str) -> list[str]:
    """Marks of one character that stand in a good part of the first lines, the usual ones first."""
    lines = lines_of(text)[:200]
    usual = [mark for mark in _TRUST if mark in text and not _run_length(lines, mark)]
    counts = Counter(
        mark
        for line in lines[:60]
        for mark in set(line)
        if mark in _SELDOM or (ord(mark) > 127 and not mark.isalnum() and not mark.isspace())
        # Stands for bytes that are no letters.
        if mark != "\ufffd"
    )
    return usual + sorted(mark for mark, count in counts.items() if count > 0.8 * len(lines[:60]))


_TOKEN = re.compile(r"[^\w\s\"'.,\-+()]{2,4}")


def _several(text: str) -> list[str]:
    """Marks of several characters, such as two bars, that stand equally often in most lines."""
    lines = [line for line in lines_of(text)[:60] if line]
    counts: dict[str, Counter[int]] = {}
    for token in set(_TOKEN.findall("\n".join(lines[:5]))):
        if len(set(token)) > 1:
            counts[token] = Counter(line.count(token) for line in lines)
    marks = []
    for token, often in counts.items():
        count, lines_with = often.most_common(1)[0]
        if count and lines_with > 0.8 * len(lines):
            marks.append(token)
    doubled = [mark * _run_length(lines, mark) for mark in ",;|:^~!#$%&*+/=@"]
    return [*(token for token in doubled if token), *sorted(marks, key=len, reverse=True)]


def _run_length(lines: Sequence[str], mark: str) -> int:
    """How many copies of a mark always stand together where one would be; 0 where one may."""
    runs = Counter(
        len(run) for line in lines[:60] for run in re.findall(f"{re.escape(mark)}+", line)
    )
    for length in (2, 3, 4):
        # A few of the single mark may stand in texts.
        even = sum(count for run, count in runs.items() if run % length == 0)
        if even and even >= ALONE * runs.total():
            return length
    return 0


def _quotes(text: str) -> list[str | None]:
    quotes: list[str | None] = []
    if '"' in text:
        quotes.append('"')
    if _wraps(text, "'") and "'" not in quotes:
        quotes.append("'")
    if '"' in text:
        quotes.append(None)
    return quotes or ['"']


def _wraps(text: str, quote: str) -> bool:
    first = text.lstrip("\n").split("\n", 1)[0].strip()
    if len(first) > 2 and first[0] == first[-1] == quote and first.count(quote) > 2:
        return True
    wrapped = sum(text.count(f"{mark}{quote}") + text.count(f"{quote}{mark}") for mark in ",;\t|\n")
    return wrapped > text.count("\n")


def _lone_quote(text: str) -> str | None:
    return _quotes(text)[0]


def score_of(records: Sequence[Record], marks: Marks) -> float:
    """How regular the records are times how meaningful their cells are, from 0 to 1."""
    widths = Counter(record.width for record in records)
    total = widths.total()
    if not total or max(widths) < 2:
        return 0.0
    trust = _TRUST.get(marks.delimiter, 1.0 if len(marks.delimiter) > 1 else _LEAST_TRUST)
    if trust < 1 and max(widths.values()) < SELDOM_REGULAR * total:
        return 0.0
    # Each pattern counts by its share, so that a few odd records matter little.
    regular = sum((count / total) ** 2 * (width - 1) / width for width, count in widths.items())
    cells = meanings = 0.0
    step = max(len(records) * widths.most_common(1)[0][0] // CELLS, 1)
    for record in records[::step]:
        for cell in record.cells:
            cells += 1
            meanings += _meaning(cell, marks)
    return regular * (meanings / max(cells, 1)) * trust


def _meaning(cell: str, marks: Marks) -> float:
    if marks.quote is not None and len(cell) > 1 and ("\n" in cell or marks.delimiter in cell):
        # It was in quotes, or it would have been taken apart; a quote left open swallows much.
        return 0.9 if cell.count("\n") < 20 else 0.0
    return meaning(cell, marks.delimiter)


def _escaped(texts: Sequence[str], whole: str, best: Marks) -> Marks:
    """The same with a backslash as escape, where one before a quote surely is one."""
    if best.quote is None or f"\\{best.quote}" not in whole:
        return best
    escaped = replace(best, escape="\\")
    escaped = replace(escaped, score=score_of(_pooled(texts, escaped), escaped))
    if escaped.score > best.score or (escaped.score == best.score and _is_escape(whole, best)):
        return escaped
    return best


def _is_escape(text: str, marks: Marks) -> bool:
    """Whether a backslash before a quote cannot be a field's last character."""
    closing = f"\\{marks.quote}"
    ends = sum(text.count(closing + mark) for mark in (marks.delimiter, "\n", "\r\n"))
    return text.count(closing) > ends
