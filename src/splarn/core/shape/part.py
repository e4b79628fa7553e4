"""One part on its way to disk: packed, hashed, and renamed when whole."""

from __future__ import annotations

import secrets
import time
from pathlib import Path
from typing import Any

import xxhash

from splarn.core.errors import OutsideError
from splarn.core.layout import Layout
from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.source.codecs import Packing, codecs
from splarn.core.source.leaves import Leaves
from splarn.core.work.disk import ASIDE, explain

SUFFIXES = {"csv": ".csv", "jsonl": ".jsonl", "parquet": ".parquet"}


class PartFile:
    """A file written aside, its bytes hashed on the way.

    Raises OutsideError from its methods when the disk refuses; nothing is left behind then.
    """

    def __init__(self, folder: Path, name: str, columnar: bool = False) -> None:
        """A `columnar` file's content is all of its bytes; that of text is put in besides."""
        self.folder = folder
        self.name = name
        self.final = folder / name
        self.rows = 0
        self.raw_bytes = 0
        self.content = Leaves()
        self._columnar = columnar
        self.begun = time.perf_counter()
        # Two that make one part, of which one is on a machine that is given up, do not meet.
        self._aside = self.final.with_name(f"{self.final.name}.{secrets.token_hex(3)}{ASIDE}")
        self._state = xxhash.xxh3_128()
        self._bytes = 0
        self._file: Any = None

    # The methods that pyarrow wants of a file.
    closed = False

    def write(self, data: Any) -> int:
        """Writes all of the bytes."""
        view = memoryview(data)
        try:
            if self._file is None:
                self.final.parent.mkdir(parents=True, exist_ok=True)
                self._file = self._aside.open("wb", buffering=0)
            self._state.update(view)
            if self._columnar:
                self.content.update(view)
            self._bytes += len(view)
            # Unbuffered writes may take less than they are given; a full disk then says so.
            while len(view):
                view = view[self._file.write(view) :]
        except OSError as error:
            self.discard()
            raise OutsideError(f"Writing the part {self.final} failed: {explain(error)}.") from None
        return self._bytes

    def tell(self) -> int:
        """Bytes written so far."""
        return self._bytes

    def flush(self) -> None:
        """Nothing is held back."""

    def close(self) -> None:
        """Only `finish` closes the file."""

    def discard(self) -> None:
        """Takes back what was written."""
        if self._file is not None:
            self._file.close()
        self._aside.unlink(missing_ok=True)

    def finish(self, codec: str, source: tuple[SourceRange, ...]) -> Part:
        """Renames the file to its final name and says what it is."""
        self.write(b"")
        try:
            self._file.close()
            self._aside.replace(self.final)
        except OSError as error:
            self.discard()
            raise OutsideError(f"Writing the part {self.final} failed: {explain(error)}.") from None
        return Part(
            path=self.name,
            codec=codec,
            bytes=self._bytes,
            raw_bytes=self.raw_bytes,
            rows=self.rows,
            hash=f"xxh3-128:{self._state.hexdigest()}",
            source=source,
            seconds=time.perf_counter() - self.begun,
            content=self.content.content_id,
        )


class TextPart:
    """A part of text, packed as one stream."""

    def __init__(self, folder: Path, stem: str, format_: str, packing: Packing) -> None:
        codec = codecs()[packing.codec]
        self.codec = codec.name
        self.file = PartFile(folder, f"{stem}{SUFFIXES[format_]}{codec.suffix}")
        self._packer = codec.packer(packing.level)

    def put_header(self, header: bytes, packed: bytes | None = None) -> None:
        """Opens the part with a header, which may be `packed` as a frame of its own."""
        self.file.write(self._packer.compress(header) if packed is None else packed)
        self.file.raw_bytes += len(header)

    def put(self, data: bytes, rows: int) -> None:
        """Adds text that holds so many records."""
        self.file.content.update(data)
        self.file.write(self._packer.compress(data))
        self.file.raw_bytes += len(data)
        self.file.rows += rows

    def put_packed(self, packed: bytes, data: bytes, rows: int) -> None:
        """Adds text packed elsewhere as a frame; `put` may not be used on the same part."""
        self.file.content.update(data)
        self.file.write(packed)
        self.file.raw_bytes += len(data)
        self.file.rows += rows

    def finish(self, source: tuple[SourceRange, ...], framed: bool = False) -> Part:
        """The part, whole; `framed` says that it came by `put_packed`."""
        if not framed:
            self.file.write(self._packer.flush())
        return self.file.finish(self.codec, source)


class ColumnarPart:
    """A part in Parquet, its row groups written as they fill."""

    def __init__(
        self,
        folder: Path,
        stem: str,
        layout: Layout,
        packing: Packing,
        row_group_rows: int,
        dictionary: bool,
    ) -> None:
        self.file = PartFile(folder, f"{stem}{SUFFIXES['parquet']}", columnar=True)
        self._layout, self._packing, self._dictionary = layout, packing, dictionary
        self._group = row_group_rows
        self._held: list[Any] = []
        self._held_rows = 0
        self._writer: Any = None

    def _begin(self, first: Any) -> None:
        """Opens the file; the rows that come first tell which columns are to have dictionaries."""
        from splarn.core.work.parquet import parquet_writer, repeating

        try:
            self._writer = parquet_writer(
                self.file,
                self._layout.arrow_schema,
                codec=self._packing.codec,
                level=self._packing.level or None,
                dictionaries=repeating(first) if self._dictionary else False,
            )
        except OSError as error:
            raise OutsideError(f"Writing the part {self.file.final} failed: {error}.") from None

    def put(self, table: Any) -> None:
        """Adds rows of the layout's types."""
        self._held.append(table)
        self._held_rows += len(table)
        self.file.rows += len(table)
        self.file.raw_bytes += table.nbytes
        if self._held_rows >= self._group:
            self._write(self._held_rows - self._held_rows % self._group)

    def finish(self, source: tuple[SourceRange, ...]) -> Part:
        """The part, whole."""
        self._write(self._held_rows)
        if self._writer is None:
            self._begin(self._layout.arrow_schema.empty_table())
        self._writer.close()
        return self.file.finish("none", source)

    def _write(self, rows: int) -> None:
        import pyarrow as pa

        if not rows:
            return
        table = pa.concat_tables(self._held)
        if self._writer is None:
            self._begin(table.slice(0, min(rows, self._group)))
        self._writer.write_table(table.slice(0, rows), row_group_size=self._group)
        behind = table.slice(rows)
        self._held, self._held_rows = [behind] if len(behind) else [], len(behind)
