"""The plain facts of source files, and the findings about them."""

from __future__ import annotations

from dataclasses import dataclass

from splarn.core.source.source import Source

# The class below has a field named like the type.
Line = bytes

DELIMITED, JSON_LINES, PARQUET = "delimited", "json-lines", "parquet"


@dataclass(frozen=True)
class Finding:
    """Something about the source that the engineer should know, and what to do about it."""

    kind: str
    path: str | None
    message: str


@dataclass(frozen=True)
class SourceFile:
    """One file of the source.

    `rows` lies between `rows_low` and `rows_high`, with 90 % confidence where it is estimated; None
    when the file cannot be read. `raw_bytes` are unpacked, estimated like the rows for large packed
    files. `content_id` is the hash of all unpacked bytes when it begins with `xxh3-128:`, of the
    first of them when it begins with `head:`. `head_line` is the first line, for comparison with
    other files.
    """

    source: Source
    format: str = DELIMITED
    encoding: str = "utf-8"
    line_end: str = "\n"
    rows: int | None = None
    rows_low: int | None = None
    rows_high: int | None = None
    rows_exact: bool = False
    raw_bytes: int = 0
    columns: int | None = None
    content_id: str = ""
    splittable: bool = True
    head_line: Line = b""
    findings: tuple[Finding, ...] = ()

    @property
    def path(self) -> str:
        """Where it is."""
        return str(self.source)

    @property
    def bytes(self) -> int:
        """Bytes on disk."""
        return self.source.size

    @property
    def codec(self) -> str:
        """How it is packed."""
        return self.source.packing

    @property
    def modified(self) -> float:
        """The last change in seconds since 1970."""
        return self.source.modified

    @property
    def row_bytes(self) -> float | None:
        """Unpacked bytes a record, on average."""
        return self.raw_bytes / self.rows if self.rows else None
