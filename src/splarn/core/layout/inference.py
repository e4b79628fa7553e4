"""The layout guessed from samples, with every doubt said aloud."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from splarn.core.errors import RequestError
from splarn.core.layout.column_types import NULL_WORDS, FieldGuess, Seen, guess_field, look_at
from splarn.core.layout.dialect import Dialect
from splarn.core.layout.fields import Layout
from splarn.core.layout.guess_dialect import (
    guess_encoding,
    guess_marks,
    is_padded,
    sample_rows,
)
from splarn.core.layout.samples import Sample, decode, take_samples
from splarn.core.places import Place


@dataclass(frozen=True)
class Inferred:
    """A layout, how many records it was guessed from, and what remains in doubt.

    `seen` says of each field what the sample held.
    """

    layout: Layout
    rows_sampled: int
    notes: tuple[str, ...]
    seen: tuple[Seen, ...] = ()


def infer_layout(
    paths: Sequence[Place], name: str | None = None, delimiter: str | None = None
) -> Inferred:
    """Guesses the layout from samples spread over all the files, whose format the first one tells.

    `delimiter` settles that question beforehand.
    Raises RequestError when the files hold no records or no delimiter fits.
    """
    from splarn.core.source import format_of

    samples = take_samples(paths)
    if not samples:
        raise RequestError(f"{_name_all(paths)}: there is nothing to infer a layout from.")
    name = name or _stem(paths[0])
    formats = {format_of(sample.data) for sample in samples if sample.is_head}
    if len(formats) > 1:
        raise RequestError(
            f"The files are of several formats ({', '.join(sorted(formats))}): infer a layout for "
            "each kind apart; `splarn survey` lists them."
        )
    (kind,) = formats
    if kind == "parquet":
        from splarn.core.layout.infer_columnar import infer_columnar

        layout, rows, notes, seen = infer_columnar(
            list(dict.fromkeys(s.path for s in samples)), name
        )
        return Inferred(layout, rows, notes, seen)
    if kind == "jsonl" and delimiter is None:
        from splarn.core.layout.infer_json import infer_json

        layout, rows, notes, seen = infer_json(samples, name)
        return Inferred(layout, rows, notes, seen)
    return _infer_delimited(samples, name, delimiter)


def _infer_delimited(samples: Sequence[Sample], name: str, delimiter: str | None) -> Inferred:
    notes: list[str] = []
    encoding = guess_encoding(samples, notes)
    heads = [sample for sample in samples if sample.is_head]
    first = decode(heads[0], encoding)
    marks = guess_marks(first, heads[0].path, delimiter)
    line_end = "\r\n" if first.count("\r\n") > first.count("\n") / 2 else "\n"
    rows, headers = sample_rows(samples, encoding, marks)
    width = len(headers[0])
    if width == 1:
        notes.append(
            f"only one column with the delimiter {marks.delimiter!r}; "
            "give --delimiter if there should be more"
        )
    if marks.escape:
        notes.append("a backslash before a quote is taken as an escape")
    has_header = _looks_like_header(headers[0], [row for row in rows if row != headers[0]])
    body = [row for row in rows if not (has_header and row == headers[0])]
    if has_header:
        for sample, header in zip(heads, headers, strict=True):
            if header != headers[0]:
                notes.append(f"{sample.path.name} has another header than {heads[0].path.name}")
        names = [cell.strip() for cell in headers[0]]
    else:
        names = [f"field_{index + 1}" for index in range(width)]
        notes.append("no header line found: fields are named field_1, field_2 and so on")
    if not body:
        raise RequestError(
            f"{heads[0].path} holds a header and no records: there is nothing to infer types from."
        )
    trim = is_padded(body)
    if trim:
        notes.append("values are padded with blanks; they are trimmed on reading")
    columns = [[row[index] for row in body] for index in range(width)]
    guesses = [guess_field(names[index], column) for index, column in enumerate(columns)]
    notes += [note for guess in guesses for note in guess.notes]
    dialect = Dialect(
        delimiter=marks.delimiter,
        quote=marks.quote,
        header=has_header,
        line_end=line_end,
        encoding=encoding,
        null_markers=_null_markers(guesses),
        escape=marks.escape,
        trim=trim,
    )
    layout = Layout(name, dialect, tuple(guess.field for guess in guesses))
    seen = tuple(
        look_at(name, [None if value in dialect.null_markers else value for value in column])
        for name, column in zip(names, columns, strict=True)
    )
    return Inferred(layout, len(body), tuple(notes), seen)


def _name_all(paths: Sequence[Place]) -> str:
    if len(paths) == 1:
        return f"{paths[0]} holds no records"
    return f"None of the {len(paths)} files holds a record"


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


def _null_markers(guesses: Sequence[FieldGuess]) -> tuple[str, ...]:
    seen = {word for guess in guesses for word in guess.null_words}
    return ("", *(word for word in NULL_WORDS if word in seen))


def _stem(path: Place) -> str:
    stem = path.name.split(".")[0]
    return stem.rstrip("0123456789-_") or stem
