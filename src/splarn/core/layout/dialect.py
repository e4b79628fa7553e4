"""The dialect: which bytes separate fields, close records and protect both."""

from __future__ import annotations

import codecs
from dataclasses import dataclass

from splarn.core.errors import RequestError

# In these encodings every ASCII byte means itself, so records can be cut on bytes.
_ASCII_BASED = ("utf-8", "ascii", "latin-1", "iso8859", "cp125", "koi8", "mac-")


@dataclass(frozen=True)
class Dialect:
    """How delimited text is written, after the Table Dialect standard.

    A quote opens a quoted field only as a field's first byte; anywhere else it is text.
    Inside a quoted field a doubled quote stands for one. Blank lines are no records.

    Raises RequestError for a dialect that cannot be read.
    """

    delimiter: str = ","
    quote: str | None = '"'
    header: bool = True
    line_end: str = "\n"
    encoding: str = "utf-8"
    null_markers: tuple[str, ...] = ("",)

    def __post_init__(self) -> None:
        for what, mark in (("delimiter", self.delimiter), ("quote character", self.quote)):
            if mark is not None and (len(mark) != 1 or ord(mark) > 127 or mark in "\r\n\0"):
                raise RequestError(
                    f"The {what} {mark!r} cannot be used: give a single ASCII character."
                )
        if self.delimiter == self.quote:
            raise RequestError(f"{self.delimiter!r} cannot be both the delimiter and the quote.")
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

    @property
    def is_utf8(self) -> bool:
        """Whether the bytes can be used as they are."""
        return codecs.lookup(self.encoding).name in ("utf-8", "utf-8-sig", "ascii")
