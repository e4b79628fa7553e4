"""Questions of a lake's table as another reader asks them, with all that it fetches counted."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow.dataset as ds
import pyarrow.fs
from fsspec.implementations.local import LocalFileSystem


class Counting(LocalFileSystem):
    """The local files; what is read of them is counted."""

    # Without this every folder would share one count.
    cachable = False

    def __init__(self) -> None:
        super().__init__()
        self.fetched = self.fetches = 0

    def open(self, path: str, mode: str = "rb", **_: Any) -> Any:
        """A file for reading."""
        return _Read(Path(path).open("rb"), self)


class _Read(io.RawIOBase):
    def __init__(self, file: Any, counting: Counting) -> None:
        self._file, self._counting = file, counting

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, place: int, whence: int = 0) -> int:
        return int(self._file.seek(place, whence))

    def tell(self) -> int:
        return int(self._file.tell())

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(size)
        self._counting.fetched += len(data)
        self._counting.fetches += 1
        return bytes(data)

    def close(self) -> None:
        self._file.close()
        super().close()


def asked(
    lake: Path, table: str, row_filter: Any, expression: Any, columns: Sequence[str] | None
) -> tuple[int, int, int, int]:
    """Bytes and fetches, files and rows of one question.

    pyiceberg says by the table's metadata which files may have rows, Arrow's own datasets read
    them, leaving out what their statistics rule out.
    """
    from pyiceberg.catalog.sql import SqlCatalog

    catalog = SqlCatalog("splarn", uri=f"sqlite:///{lake}/catalog.db", warehouse=str(lake))
    scan = catalog.load_table(f"main.{table}").scan(row_filter=row_filter)
    paths = [one.file.file_path.removeprefix("file://") for one in scan.plan_files()]
    catalog.close()
    if not paths:
        return 0, 0, 0, 0
    counting = Counting()
    how = ds.ParquetFragmentScanOptions(pre_buffer=True)
    found = ds.dataset(
        paths,
        filesystem=pyarrow.fs.PyFileSystem(pyarrow.fs.FSSpecHandler(counting)),
        format=ds.ParquetFileFormat(default_fragment_scan_options=how),
    )
    # Looking at a file for its schema is no part of the question.
    counting.fetched = counting.fetches = 0
    rows = found.to_table(columns=columns, filter=expression, use_threads=False).num_rows
    return counting.fetched, counting.fetches, len(paths), rows
