"""The dialect: which bytes separate fields, close records and protect both."""

from __future__ import annotations

import codecs
from dataclasses import dataclass
from functools import cached_property

from splarn.core.errors import RequestError

# In these encodings every ASCII byte means itself, so records can be cut on bytes.
_ASCII_BASED = ("utf-8", "ascii", "latin-1", "iso8859", "cp125", "koi8", "mac-")


@dataclass(frozen=True)
class Dialect:
    """How delimited text is written, after the Table Dialect standard.

    A quote opens a quoted field only as a field's first byte; anywhere else it is text.
    Inside a quoted field a doubled quote stands for one. With an `escape`, the byte after one
    means itself, save for a line break, which ends a record as ever outside of quotes. `trim`
    takes white space off both ends of text. Blank lines are no records.

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

    def __post_init__(self) -> None:
        if len(self.delimiter) != 1 or self.delimiter in "\r\n\0":
            raise RequestError(
                f"The delimiter {self.delimiter!r} cannot be used: give a single character."
            )
        for what, mark in (("quote", self.quote), ("escape", self.escape)):
            if mark is not None and (len(mark) != 1 or ord(mark) > 127 or mark in "\r\n\0"):
                raise RequestError(
                    f"The {what} character {mark!r} cannot be used: give a single ASCII character."
                )
        marks = [mark for mark in (self.delimiter, self.quote, self.escape) if mark is not None]
        if len(set(marks)) < len(marks):
            raise RequestError(
                f"Delimiter, quote and escape must differ from one another, not be {marks}."
            )
        if self.line_end not in ("\n", "\r\n"):
            raise RequestError(
                f"The line terminator {self.line_end!r} cannot be used: give \\n or \\r\\n."
            )
        try:
            name = codecs.lookup(self.encoding).name
        except LookupError:
            raise RequestError(
                f"The encoding {self.encoding!r} is not known: write utf-8, latin-1 or cp1252."
            ) from None
        if not name.startswith(_ASCII_BASED):
            raise RequestError(
                f"The encoding {self.encoding!r} cannot be cut into records by bytes: "
                "convert the files to utf-8 first."
            )

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


# JSON has no raw line break inside a value, so every newline ends a record.
LINES = Dialect(quote=None, header=False)
