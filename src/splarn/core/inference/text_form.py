"""How delimited text is written, judged from samples: the one place that decides it.

Encoding and line ends, delimiter and quotes, what stands before the header and behind the records,
and the names of the columns.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.errors import RequestError
from splarn.core.inference.body import is_padded, judge_body
from splarn.core.inference.encoding import guess_encoding, line_end_of
from splarn.core.inference.fixed import fixed_widths
from splarn.core.inference.guess_dialect import Guess, guess_marks
from splarn.core.inference.header import Beginning, find_beginning
from splarn.core.inference.samples import SampledText, decode
from splarn.core.layout.dialect import Dialect
from splarn.core.layout.naming import settled_names
from splarn.core.records.splitting import Marks, Record, lines_of, records_of
from splarn.core.source.archives import is_sheet
from splarn.core.source.forms import around_fields

_SEP = re.compile(r'"?sep=(.)"?')
PATTERNS = 12
TEXTS = 8
# What begins with a longer line, or has more fields in one, is no table.
LONGEST_FIRST = 4 << 20
MOST_FIELDS = 65_536


@dataclass(frozen=True)
class TextForm:
    """A dialect, the names of its columns, and the records that the samples hold.

    `notes` are what remains in doubt. `records` have the width of the layout; `places` say where
    each is.
    """

    dialect: Dialect
    names: tuple[str, ...]
    records: tuple[tuple[str, ...], ...]
    notes: tuple[str, ...]
    places: tuple[str, ...] = ()

    @property
    def width(self) -> int:
        """How many columns there are."""
        return len(self.names)


def judge_text(samples: Sequence[SampledText], delimiter: str | None = None) -> TextForm:
    """Judges samples of files of one kind; `delimiter` settles that question beforehand.

    Raises RequestError where there are no records in them.
    """
    notes: list[str] = []
    encoding = guess_encoding(samples, notes)
    heads = [sample for sample in samples if sample.is_head]
    if not heads:
        raise RequestError("The files hold nothing that can be read.")
    line_end = line_end_of(heads[0].data, encoding)
    texts = [decode(sample, encoding, line_end) for sample in samples]
    head_texts = [text for text, one in zip(texts, samples, strict=True) if one.is_head]
    first = head_texts[0]
    if len(first) > LONGEST_FIRST and "\n" not in first[:LONGEST_FIRST]:
        raise _no_table(heads[0], f"a first line of more than {LONGEST_FIRST >> 20} MiB")
    if delimiter is None and all(is_sheet(sample.path) for sample in heads):
        # Written so by the reader of spreadsheets.
        delimiter = ","
    if line_end == "\r":
        notes.append(
            "lines end with a carriage return, also within quotes, where it becomes a line feed"
        )
    named = _SEP.fullmatch(first.split("\n", 1)[0].strip())
    if named and delimiter is None:
        delimiter = named[1]
        notes.append(f"the first line names the delimiter {delimiter!r} and is no record")
    guess = guess_marks([_trial(text) for text in head_texts[:TEXTS]], delimiter)
    marks = guess.marks
    widths = () if delimiter else fixed_widths([*map(lines_of, head_texts[:3])], marks)
    if widths:
        marks = Marks("\x1f", None)
        texts = [_by_place(text, widths) for text in texts]
        head_texts = [_by_place(text, widths) for text in head_texts]
        notes.append(f"no delimiter: the columns are {', '.join(map(str, widths))} characters wide")
    initial_space = not widths and _has_blank_quotes(head_texts, marks)
    if initial_space:
        pattern = around_fields(marks.delimiter.encode(), marks.quote, marks.escape, False)
        head_texts, texts = (
            [pattern.sub(rb"\1", text.encode()).decode() for text in some]
            for some in (head_texts, texts)
        )
        notes.append("blanks behind delimiters are passed over, since quotes stand behind them")
    notes += _say_guess(guess, heads[0], widths, delimiter)
    return _judge_records(
        samples, texts, head_texts, marks, notes,
        Dialect(
            delimiter=marks.delimiter if not widths else ",",
            quote=marks.quote if not widths else None,
            line_end=line_end,
            encoding=encoding,
            escape=marks.escape,
            runs=marks.runs,
            widths=widths,
            initial_space=initial_space,
        ),
    )  # fmt: skip


def _trial(text: str) -> str:
    """What is tried of a head: a title does not make its delimiter."""
    return text[: 64 << 10]


def _by_place(text: str, widths: tuple[int, ...]) -> str:
    lines = []
    for line in lines_of(text):
        at, cells = 0, []
        for width in widths[:-1]:
            cells.append(line[at : at + width].strip())
            at += width
        cells.append(line[at:].strip())
        lines.append("\x1f".join(cells) if line.strip() else "")
    return "\n".join(lines)


def _has_blank_quotes(texts: Sequence[str], marks: Marks) -> bool:
    """Whether quotes stand behind a delimiter and a blank, where they would be mere text."""
    if marks.quote is None or marks.runs or marks.delimiter == " ":
        return False
    spaced = sum(text.count(f"{marks.delimiter} {marks.quote}") for text in texts)
    close = sum(text.count(f"{marks.delimiter}{marks.quote}") for text in texts)
    ends = sum(
        text.count(f"{marks.quote}{marks.delimiter}") + text.count(f"{marks.quote}\n")
        for text in texts
    )
    return spaced > 0 and spaced > 4 * close and ends >= spaced / 2


def _say_guess(
    guess: Guess, sample: SampledText, widths: tuple[int, ...], delimiter: str | None
) -> list[str]:
    if widths or delimiter is not None:
        return []
    marks, other = guess.marks, guess.other
    if marks.score == 0:
        usual = any(mark.encode() in sample.data for mark in ",;\t|")
        return [
            "no delimiter makes sense of the lines, so each is one value; give --delimiter if "
            "there should be more"
        ] * usual
    said = []
    if other is not None:
        said.append(
            f"{show_mark(marks)} between fields fits best, {show_mark(other)} nearly as well; "
            "--delimiter settles it"
        )
    if marks.escape:
        said.append("a backslash before a quote is taken as an escape")
    return said


def show_mark(marks: Marks) -> str:
    """A delimiter as people call it."""
    if marks.runs:
        return "runs of blanks"
    names = {",": "a comma", "\t": "a tab", ";": "a semicolon", "|": "a bar", " ": "a blank",
             ":": "a colon"}  # fmt: skip
    return names.get(marks.delimiter, repr(marks.delimiter))


def _no_table(sample: SampledText, found: str) -> RequestError:
    return RequestError(
        f"{sample.path} has {found}, which no table has: is it delimited text, with lines?"
    )


def _judge_records(
    samples: Sequence[SampledText],
    texts: Sequence[str],
    head_texts: Sequence[str],
    marks: Marks,
    notes: list[str],
    dialect: Dialect,
) -> TextForm:
    heads = [sample for sample in samples if sample.is_head]
    every = [records_of(text, marks) for text in texts]
    of_heads = [records for records, sample in zip(every, samples, strict=True) if sample.is_head]
    first = [record for record in of_heads[0] if not _is_sep(record, head_texts[0])]
    if not first:
        raise RequestError(f"{heads[0].path} holds no record that can be read.")
    if first[0].width > MOST_FIELDS:
        raise _no_table(heads[0], f"{first[0].width:,} fields in its first record")
    beginning = find_beginning(first, 1 + (len(first) < len(of_heads[0])), marks.delimiter == " ")
    if beginning.before:
        lines = lines_of(head_texts[0])[: beginning.before]
        filled = [line for line in lines if line.strip() and not _SEP.fullmatch(line.strip())]
        if filled:
            shown = filled[0].strip()[:50]
            words = "line stands" if len(filled) == 1 else "lines stand"
            notes.append(
                f"{len(filled)} {words} before the {'header' if beginning.header else 'records'} "
                f"and {'is' if len(filled) == 1 else 'are'} passed over (such as {shown!r})"
            )
    names = _names(beginning, beginning.width, notes)
    spaced = dialect.runs or bool(dialect.widths)
    body = judge_body(samples, every, beginning, names, spaced, notes)
    trim = is_padded(body.records, marks)
    if trim:
        notes.append("values are padded with blanks; they are trimmed on reading")
    return TextForm(
        replace(
            dialect,
            header=bool(beginning.header),
            header_rows=max(len(beginning.header), 1),
            before=beginning.before,
            comment=body.comment,
            footer=body.footer,
            fill=body.fill,
            trim=trim,
        ),
        tuple(names),
        body.records,
        tuple(notes),
        body.places,
    )


def _is_sep(record: Record, text: str) -> bool:
    return record.line == 1 and _SEP.fullmatch(text.split("\n", 1)[0].strip()) is not None


def _names(beginning: Beginning, width: int, notes: list[str]) -> list[str]:
    if not beginning.header:
        notes.append("no header line found: fields are named field_1, field_2 and so on")
        if not beginning.sure:
            notes.append("whether the first line is a header or a record is not sure")
        return [f"field_{index + 1}" for index in range(width)]
    cells = [" ".join(filter(None, column)) for column in zip(*beginning.header, strict=True)]
    names, settled = settled_names(cells, width)
    if beginning.short:
        settled[0] = f"the header has one name less than there are columns; the first is {names[0]}"
    notes += settled
    if not beginning.sure:
        notes.append("whether the first line is a header or a record is not sure; taken as header")
    return names
