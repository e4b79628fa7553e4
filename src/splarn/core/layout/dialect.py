"""The dialect: which bytes separate fields, close records and protect both."""

from __future__ import annotations

import codecs
from dataclasses import dataclass, replace
from functools import cached_property

from splarn.core.errors import RequestError

# In these encodings every ASCII byte means itself, so records can be cut on bytes.
_ASCII_BASED = ("utf-8", "ascii", "latin-1", "iso8859", "cp125", "koi8", "mac-")
# Between fields that were told apart by runs of blanks or by their places, once that is done.
BETWEEN = "\x1f"


@dataclass(frozen=True)
class Dialect:
    """How delimited text is written, after the Table Dialect standard.

    A quote opens a quoted field only as a field's first byte; anywhere else it is text.
    Inside a quoted field a doubled quote stands for one. With an `escape`, the byte after one
    means itself, save for a line break, which ends a record as ever outside of quotes. `trim`
    takes white space off both ends of text that is not in quotes. Blank lines are no records.

    `before` counts the lines over the header, `header_rows` its records. Lines that begin with
    `comment` are no records, nor are up to `footer` of the last lines, where they have fewer
    fields than a record or only one that is filled. With `runs`, any
    number of blanks or tabs is one delimiter; with `widths`, fields have so many characters each
    and no delimiter. With `initial_space`, blanks behind a delimiter are none of the field. With
    `fill`, fields that a record lacks at its end are empty rather than a fault.

    Raises RequestError for a dialect that cannot be read.
    """

    delimiter: str = ","
    quote: str | None = '"'
    header: bool = True
    line_end: str = "\n"
    encoding: str = "utf-8"
    null_markers: tuple[str, ...] = ("",)
    escape: str | None = None
    trim: bool = False
    before: int = 0
    header_rows: int = 1
    comment: str | None = None
    footer: int = 0
    runs: bool = False
    widths: tuple[int, ...] = ()
    initial_space: bool = False
    fill: bool = False

    def __post_init__(self) -> None:
        if not 1 <= len(self.delimiter) <= 8 or set(self.delimiter) & set("\r\n\0"):
            raise RequestError(
                f"The delimiter {self.delimiter!r} cannot be used: give one to eight characters "
                "without a line break."
            )
        for role, mark in (
            ("quote", self.quote),
            ("escape", self.escape),
            ("comment", self.comment),
        ):
            if mark is not None and (len(mark) != 1 or ord(mark) > 127 or mark in "\r\n\0"):
                raise RequestError(
                    f"The {role} character {mark!r} cannot be used: give a single ASCII character."
                )
        marks = [mark for mark in (self.delimiter, self.quote, self.escape) if mark is not None]
        if len(set(marks)) < len(marks):
            raise RequestError(
                f"Delimiter, quote and escape must differ from one another, not be {marks}."
            )
        if self.line_end not in ("\n", "\r\n", "\r"):
            raise RequestError(
                f"The line terminator {self.line_end!r} cannot be used: give \\n, \\r\\n or \\r."
            )
        for role, number in (("before", self.before), ("footer", self.footer)):
            if not 0 <= number <= 10_000:
                raise RequestError(f"{number} lines {role} the records are no sensible number.")
        if not 1 <= self.header_rows <= 20:
            raise RequestError(f"{self.header_rows} header lines are no sensible number.")
        if any(width < 1 for width in self.widths):
            raise RequestError("Each width of a field must be at least one character.")
        try:
            if not codecs.lookup(self.encoding)._is_text_encoding:
                raise LookupError
        except LookupError:
            raise RequestError(
                f"The encoding {self.encoding!r} is not known: write utf-8, latin-1 or cp1252."
            ) from None

    @cached_property
    def delimiter_bytes(self) -> bytes:
        """The delimiter as it is in the files."""
        try:
            return self.delimiter.encode(self.encoding)
        except UnicodeEncodeError:
            raise RequestError(
                f"The delimiter {self.delimiter!r} does not exist in {self.encoding}."
            ) from None

    @property
    def is_utf8(self) -> bool:
        """Whether the bytes can be used as they are."""
        return codecs.lookup(self.encoding).name in ("utf-8", "utf-8-sig", "ascii")

    @property
    def is_ascii_based(self) -> bool:
        """Whether records can be cut by the bytes as they are."""
        return codecs.lookup(self.encoding).name.startswith(_ASCII_BASED)

    @cached_property
    def forms(self) -> tuple[str, ...]:
        """What is done with the text, in this order, before records are looked for in it."""
        names: list[str] = []
        if not self.is_ascii_based:
            names.append(f"recode={self.encoding}")
        if self.line_end == "\r":
            names.append("cr")
        if self.footer:
            # Where no mark divides fields, lines are left out as they are counted.
            spaced = self.widths or self.runs
            mark = b"" if spaced else self.plain_encoded(self.delimiter)
            names.append(f"footer={self.footer},{mark.hex()}")
        if self.comment is not None:
            names.append(f"comment={ord(self.comment)},{ord(self.quote or chr(0))}")
        if self.widths:
            names.append(f"widths={','.join(map(str, self.widths))}")
        elif self.runs:
            names.append("runs")
        elif self.initial_space:
            names.append(f"space={self.marks_in_numbers}")
        return tuple(names)

    @property
    def marks_in_numbers(self) -> str:
        """Delimiter, quote and escape as forms are told them; 0 for none."""
        delimiter = self.plain_encoded(self.delimiter).hex()
        return f"{delimiter},{ord(self.quote or chr(0))},{ord(self.escape or chr(0))}"

    def plain_encoded(self, text: str) -> bytes:
        """A text as it is in the files once they are recoded."""
        return text.encode(self.encoding if self.is_ascii_based else "utf-8")

    @cached_property
    def as_read(self) -> Dialect:
        """The dialect of the text once its `forms` are done."""
        if not self.forms:
            return self
        by_place = bool(self.widths)
        return replace(
            self,
            delimiter=BETWEEN if by_place or self.runs else self.delimiter,
            quote=None if by_place else self.quote,
            encoding=self.encoding if self.is_ascii_based else "utf-8",
            line_end="\n" if self.line_end == "\r" else self.line_end,
            comment=None,
            footer=0,
            runs=False,
            widths=(),
            initial_space=False,
        )


# JSON has no raw line break inside a value, so every newline ends a record.
LINES = Dialect(quote=None, header=False)


COMMENTS = ("#", "%", "//", "--", "!", ";")
