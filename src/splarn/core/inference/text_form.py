"""How delimited text is written, judged from samples: the one place that decides it.

Encoding and line ends, delimiter and quotes, what stands before the header and behind the records,
and the names of the columns.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

from splarn.core.errors import RequestError
from splarn.core.inference.cells import is_value
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

# How people begin what they write behind the records.
_REMARK = re.compile(
    "(?:source|note|total|figures|data |copyright|generated|report|created|end of|as of|last upd)"
    "|[*†©#(]"
)
_SEP = re.compile(r'"?sep=(.)"?')
# A column in which this share of the values is padded was padded on purpose.
PADDED = 0.5
# No careful person writes more lines behind the records.
MOST_BEHIND = 12
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
    of_heads = [found for found, sample in zip(every, samples, strict=True) if sample.is_head]
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
            what = "line stands" if len(filled) == 1 else "lines stand"
            notes.append(
                f"{len(filled)} {what} before the {'header' if beginning.header else 'records'} "
                f"and {'is' if len(filled) == 1 else 'are'} passed over (such as {shown!r})"
            )
    width = beginning.width
    names = _names(beginning, width, notes)
    orders = {}
    for sample, records in zip(heads[1:], of_heads[1:], strict=True):
        orders[sample.path] = _order_of(sample, records, beginning, names, notes)
    bodies: list[list[Record]] = []
    for sample, records in zip(samples, every, strict=True):
        body = list(records)
        if sample.is_head:
            skip = beginning.before
            body = [record for record in body if record.line > skip]
            if beginning.header and body:
                body = body[len(beginning.header) :]
        order = orders.get(sample.path)
        if order:
            body = [
                Record(one.line, tuple(one.cells[at] for at in order))
                for one in body
                if one.width == width
            ]
        bodies.append(body)
    found_all = [one for body in bodies for one in body]
    comment = _comment_mark(bodies, width)
    if comment:
        bodies = [[one for one in body if not one.cells[0].startswith(comment)] for body in bodies]
        alike = sum(one.width == width and one.cells[0].startswith(comment) for one in found_all)
        also = f", also {alike} with as many fields as a record" if alike else ""
        notes.append(f"lines that begin with {comment!r} are comments and no records{also}")
    spaced = dialect.runs or bool(dialect.widths)
    footer = _footer(samples, bodies, width, spaced, notes)
    if footer:
        bodies = [
            body[:-footer] if sample.is_tail else body
            for sample, body in zip(samples, bodies, strict=True)
        ]
    fill = _fill(bodies, width, notes)
    kept = tuple(
        (*record.cells, *[""] * (width - record.width))
        for body in bodies
        for record in body
        if record.width == width or (fill and record.width < width)
    )
    places = tuple(
        f"{sample.path.name}, line {record.line}" if sample.is_head else sample.path.name
        for sample, body in zip(samples, bodies, strict=True)
        for record in body
        if record.width == width or (fill and record.width < width)
    )
    trim = is_padded(kept, marks)
    if trim:
        notes.append("values are padded with blanks; they are trimmed on reading")
    return TextForm(
        replace(
            dialect,
            header=bool(beginning.header),
            header_rows=max(len(beginning.header), 1),
            before=beginning.before,
            comment=comment,
            footer=footer,
            fill=fill,
            trim=trim,
        ),
        tuple(names),
        kept,
        tuple(notes),
        places,
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


def _order_of(
    sample: SampledText,
    records: list[Record],
    beginning: Beginning,
    names: Sequence[str],
    notes: list[str],
) -> tuple[int, ...]:
    """How another file's columns are put into the order of the first one's; empty where they are.

    Other names are said.
    """
    if not records or not beginning.header:
        return ()
    head = next((record for record in records if record.line > beginning.before), records[0])
    cells = ("", *head.cells) if beginning.short else head.cells
    own = settled_names(cells, max(len(cells), len(names)))[0]
    if own == list(names):
        return ()
    if sorted(own) == sorted(names):
        notes.append(
            f"{sample.path.name} has its columns in another order; they are put into the first "
            "file's"
        )
        return tuple(own.index(name) for name in names)
    notes.append(f"{sample.path.name} has another header than the first file")
    return ()


def _comment_mark(bodies: Sequence[Sequence[Record]], width: int) -> str | None:
    """The mark of comment lines among the records."""
    odd = [one for body in bodies for one in body if one.cells[0].startswith("#")]
    even = sum(one.width == width for one in odd)
    return "#" if odd and width > 1 and even * 2 < len(odd) else None


def _footer(
    samples: Sequence[SampledText],
    bodies: list[list[Record]],
    width: int,
    spaced: bool,
    notes: list[str],
) -> int:
    """How many lines behind the records are none, alike in all files that are seen to their end."""
    if width < 2 or spaced:
        return 0
    found: Counter[int] = Counter()
    shown = ""
    for sample, body in zip(samples, bodies, strict=True):
        if not sample.is_tail or len(body) < 3:
            continue
        count = 0
        while count < len(body) and _is_note(body[-1 - count], width):
            count += 1
        lines = count and sum(
            1 + cell.count("\n") for one in body[-count:] for cell in (one.cells[0],)
        )
        if count > MOST_BEHIND or lines != count:
            count = 0
        if count:
            shown = body[-count].cells[0]
        found[count] += 1
    if not found or set(found) == {0}:
        return 0
    if len(found) > 1:
        notes.append("some files end with lines that are no records; such lines will be refused")
        return 0
    (count,) = found
    what = "line stands" if count == 1 else "lines stand"
    notes.append(
        f"{count} {what} behind the records and {'is' if count == 1 else 'are'} left out (such as "
        f"{shown.strip()[:50]!r})"
    )
    return count


def _is_note(record: Record, width: int) -> bool:
    """Whether a record at the end is a remark: of another width, with a text and little else."""
    first = record.cells[0].strip()
    if is_value(first):
        return False
    if record.width == width:
        remark = _REMARK.match(first.lower()) is not None
        return width > 2 and record.filled == 1 and len(first) > 12 and remark
    return record.width < width and record.filled <= max(1, width // 2)


def _fill(bodies: Sequence[Sequence[Record]], width: int, notes: list[str]) -> bool:
    """Whether records leave fields out at their end, rather than being damaged."""
    widths = Counter(record.width for body in bodies for record in body)
    total = widths.total()
    short = sum(count for one, count in widths.items() if one < width)
    if total and widths[width] == 0 and short == total:
        notes.append("records leave out fields at their end; those are read as empty")
        return True
    if short and short >= max(0.02 * total, 3) and min(widths) > 1:
        notes.append(
            f"{short:,} of {total:,} sampled records leave out fields at their end; those are read "
            "as empty"
        )
        return True
    return False


def is_padded(rows: Sequence[Sequence[str]], marks: Marks) -> bool:
    """Whether values of some column are padded with blanks more often than not."""
    if marks.runs or not rows:
        return False
    for column in zip(*rows[:2000], strict=True):
        filled = [value for value in column if value.strip()]
        padded = sum(1 for value in filled if value != value.strip(" \t"))
        if len(filled) > 1 and padded >= PADDED * len(filled):
            return True
    return False
