"""The layout guessed from samples, with every doubt said aloud."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from splarn.core.errors import RequestError
from splarn.core.layout.column_types import NULL_WORDS, FieldGuess, guess_field
from splarn.core.layout.dialect import Dialect
from splarn.core.layout.fields import Layout
from splarn.core.layout.samples import Sample, decode, take_samples

DELIMITERS = ",;\t|^~:"


@dataclass(frozen=True)
class Inferred:
    """A layout, how many records it was guessed from, and what remains in doubt."""

    layout: Layout
    rows_sampled: int
    notes: tuple[str, ...]


def infer_layout(
    paths: Sequence[Path], name: str | None = None, delimiter: str | None = None
) -> Inferred:
    """Guesses the layout of delimited text from samples spread over all the files.

    `delimiter` settles that question beforehand.
    Raises RequestError when the files hold no records or no delimiter fits.
    """
    samples = take_samples(paths)
    if not samples:
        raise RequestError(f"{_name_all(paths)}: there is nothing to infer a layout from.")
    notes: list[str] = []
    encoding = _encoding(samples, notes)
    heads = [sample for sample in samples if sample.is_head]
    first = decode(heads[0], encoding)
    delimiter = delimiter or _delimiter(first, heads[0].path)
    line_end = "\r\n" if first.count("\r\n") > first.count("\n") / 2 else "\n"
    rows, headers = _records(samples, encoding, delimiter)
    width = len(headers[0])
    if width == 1:
        notes.append(
            f"only one column with the delimiter {delimiter!r}; "
            "give --delimiter if there should be more"
        )
    has_header = _looks_like_header(headers[0], [row for row in rows if row != headers[0]])
    body = [row for row in rows if not (has_header and row == headers[0])]
    if has_header:
        for sample, header in zip(heads, headers, strict=True):
            if header != headers[0]:
                notes.append(f"{sample.path.name} has another header than {heads[0].path.name}")
        names = _names(headers[0])
    else:
        names = [f"field_{index + 1}" for index in range(width)]
        notes.append("no header line found: fields are named field_1, field_2 and so on")
    if not body:
        raise RequestError(
            f"{heads[0].path} holds a header and no records: there is nothing to infer types from."
        )
    guesses = [guess_field(names[index], [row[index] for row in body]) for index in range(width)]
    notes += [note for guess in guesses for note in guess.notes]
    dialect = Dialect(
        delimiter=delimiter,
        header=has_header,
        line_end=line_end,
        encoding=encoding,
        null_markers=_null_markers(guesses),
    )
    layout = Layout(name or _stem(paths[0]), dialect, tuple(guess.field for guess in guesses))
    return Inferred(layout, len(body), tuple(notes))


def _name_all(paths: Sequence[Path]) -> str:
    if len(paths) == 1:
        return f"{paths[0]} holds no records"
    return f"None of the {len(paths)} files holds a record"


def _encoding(samples: Sequence[Sample], notes: list[str]) -> str:
    for sample in samples:
        data = sample.data
        if data.startswith((b"\xff\xfe", b"\xfe\xff")):
            raise RequestError(
                f"{sample.path} is UTF-16 text, which cannot be cut into records by bytes: "
                "convert it to UTF-8 first."
            )
        inner = data if sample.is_head else data[data.find(b"\n") + 1 :]
        inner = inner if sample.whole else inner[: inner.rfind(b"\n") + 1]
        try:
            inner.decode("utf-8")
        except UnicodeDecodeError as error:
            lines = inner.count(b"\n") + 1
            broken = sum(1 for line in inner.split(b"\n") if not _is_utf8(line))
            if broken * 20 > lines:
                notes.append(
                    f"{sample.path.name} is not UTF-8 from byte {error.start} on; taken as cp1252, "
                    "check letters with accents"
                )
                return "cp1252"
    return "utf-8"


def _is_utf8(line: bytes) -> bool:
    try:
        line.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _delimiter(text: str, path: Path) -> str:
    """The candidate that gives the most records the same number of columns, two at least."""
    best, best_score = ",", 0.0
    for candidate in DELIMITERS:
        widths = Counter(len(row) for row in _rows(text, candidate)[:2000] if row)
        if not widths:
            continue
        width, count = widths.most_common(1)[0]
        score = (count / widths.total()) ** 2 * (1 + 0.01 * width)
        if width > 1 and score > best_score:
            best, best_score = candidate, score
    if best_score < 0.5 and any(mark in text for mark in DELIMITERS[:4]):
        raise RequestError(
            f"No delimiter gives the records of {path} the same number of columns: "
            "name one with --delimiter."
        )
    return best


def _rows(text: str, delimiter: str) -> list[list[str]]:
    csv.field_size_limit(1 << 30)
    try:
        return [row for row in csv.reader(text.splitlines(True), delimiter=delimiter) if row]
    except csv.Error:
        # A NUL byte or a bare carriage return: go on line by line, so that one does not spoil all.
        lines = text.replace("\0", " ").replace("\r\n", "\n").replace("\r", " ").split("\n")
        return [row for line in lines for row in csv.reader([line], delimiter=delimiter) if row]


def _records(
    samples: Sequence[Sample], encoding: str, delimiter: str
) -> tuple[list[list[str]], list[list[str]]]:
    """Records of the commonest width from all samples, and the first record of each head."""
    rows: list[list[str]] = []
    headers: list[list[str]] = []
    for sample in samples:
        found = _rows(decode(sample, encoding), delimiter)
        if not found:
            found = _rows(sample.data.decode(encoding, errors="replace"), delimiter)
        if sample.is_head:
            headers.append(found[0])
        rows += found
    width = Counter(len(row) for row in rows).most_common(1)[0][0]
    if len(headers[0]) != width:
        headers[0] = next(row for row in rows if len(row) == width)
    return [row for row in rows if len(row) == width], headers


def _looks_like_header(first: list[str], body: list[list[str]]) -> bool:
    if len(set(first)) < len(first) or any(not cell.strip() for cell in first):
        return False
    if any(guess_field("", [cell]).field.type != "string" for cell in first):
        return False
    if not body:
        return True
    for index, cell in enumerate(first):
        values = [row[index] for row in body[:500]]
        if guess_field("", values).field.type != "string" or cell not in values:
            return True
    return False


def _names(header: list[str]) -> list[str]:
    return [cell.strip() for cell in header]


def _null_markers(guesses: Sequence[FieldGuess]) -> tuple[str, ...]:
    seen = {word for guess in guesses for word in guess.null_words}
    return ("", *(word for word in NULL_WORDS if word in seen))


def _stem(path: Path) -> str:
    stem = path.name.split(".")[0]
    return stem.rstrip("0123456789-_") or stem
