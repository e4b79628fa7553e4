"""Archives as folders of files, and spreadsheets as folders of sheets.

A member is named after its archive, as in `delivery.zip!/inner/passages.csv`.
"""

from __future__ import annotations

import csv
import io
import os
import tarfile
import zipfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import date, datetime, time, timedelta
from functools import lru_cache
from pathlib import Path, PurePosixPath
from typing import IO, Any

from splarn.core.errors import OutsideError, RequestError

BETWEEN = "!/"
_ZIP, _TAR = b"PK\x03\x04", b"ustar"


@dataclass(frozen=True)
class Status:
    """Size in bytes and time of the last change since 1970, as a path's `stat` has them."""

    st_size: int
    st_mtime_ns: int

    @property
    def st_mtime(self) -> float:
        """The last change in seconds."""
        return self.st_mtime_ns / 1e9


@dataclass(frozen=True)
class Member:
    """A file in an archive, or a sheet in a spreadsheet, which is read as delimited text.

    `kind` is zip, tar or sheet. It has the few methods of a Path that reading needs, and is read
    from its start on. Raises OutsideError from them when the archive is damaged.
    """

    archive: Path
    inner: str
    kind: str

    def __str__(self) -> str:
        return f"{self.archive}{BETWEEN}{self.inner}"

    def absolute(self) -> Member:
        """The same by the archive's absolute path."""
        return replace(self, archive=self.archive.absolute())

    @property
    def name(self) -> str:
        """The member's name without its folder."""
        return self.inner if self.kind == "sheet" else PurePosixPath(self.inner).name

    @property
    def suffix(self) -> str:
        """The name's ending."""
        return PurePosixPath(self.name).suffix

    def stat(self) -> Status:
        """Its unpacked size, and the archive's last change."""
        status = self.archive.stat()
        size = _sizes(self.archive, status.st_mtime_ns, self.kind).get(self.inner)
        if size is None:
            raise OutsideError(f"{self} is not there: `splarn survey {self.archive}` lists it all.")
        return Status(size, status.st_mtime_ns)

    def is_file(self) -> bool:
        """Whether it is there."""
        try:
            self.stat()
        except (OSError, OutsideError):
            return False
        return True

    def open(self, mode: str = "rb", buffering: int = -1) -> IO[bytes]:
        """The member for reading."""
        if self.kind == "sheet":
            stamp = self.archive.stat().st_mtime_ns
            return io.BytesIO(_sheet(self.archive, stamp, self.inner))
        with _reading(self.archive):
            if self.kind == "zip":
                book = _zip(self.archive, self.archive.stat().st_mtime_ns)
                return _Reader(book.open(self.inner), None, self.archive)  # type: ignore[return-value]
            # Not kept: members that are read side by side would move one another's place.
            tape = tarfile.open(self.archive, "r:*")  # noqa: SIM115
            member = tape.extractfile(self.inner)
            assert member is not None, "only files are listed"
            return _Reader(member, tape, self.archive)  # type: ignore[return-value]


def is_sheet(place: object) -> bool:
    """Whether a place is a sheet of a spreadsheet."""
    return isinstance(place, Member) and place.kind == "sheet"


class _Reader(io.RawIOBase):
    """A member's bytes; an archive that is its own is closed with it."""

    def __init__(self, inner: IO[bytes], book: Any, archive: Path) -> None:
        self._inner, self._book, self._archive = inner, book, archive

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        with _reading(self._archive):
            data = self._inner.read(len(buffer))
        buffer[: len(data)] = data
        return len(data)

    def seek(self, offset: int, whence: int = 0) -> int:
        with _reading(self._archive):
            return self._inner.seek(offset, whence)

    def tell(self) -> int:
        return self._inner.tell()

    def close(self) -> None:
        if not self.closed:
            self._inner.close()
            if self._book is not None:
                self._book.close()
        super().close()


@contextmanager
def _reading(archive: Path) -> Iterator[None]:
    """Turns what the archive's reader says of damage into one sentence."""
    import lzma
    import zlib

    try:
        yield
    except (zipfile.BadZipFile, tarfile.TarError, zlib.error, lzma.LZMAError, EOFError) as error:
        raise OutsideError(
            f"{archive} is damaged ({error}); fetch it again from where it came."
        ) from None
    except (RuntimeError, NotImplementedError) as error:
        raise OutsideError(f"{archive} cannot be unpacked ({error}): unpack it first.") from None


def archive_kind(path: Path) -> str | None:
    """Whether a file is a zip, a tar or a sheet archive, by its content; None for another file."""
    try:
        # Asked of every file, so by the quickest way there is.
        descriptor = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0))
        try:
            head = os.read(descriptor, 265)
        finally:
            os.close(descriptor)
    except OSError:
        return None
    if head.startswith(_ZIP):
        return "sheet" if _is_workbook(path) else "zip"
    if head[257:262] == _TAR:
        return "tar"
    name = path.name.lower()
    if name.endswith((".tgz", ".tbz2", ".txz")) or ".tar." in name:
        try:
            return "tar" if tarfile.is_tarfile(path) else None
        except (OSError, EOFError):
            return None
    return None


def _is_workbook(path: Path) -> bool:
    try:
        with zipfile.ZipFile(path) as book:
            names = set(book.namelist())
            if "xl/workbook.xml" in names:
                return True
            kind = book.read("mimetype") if "mimetype" in names else b""
            return kind.startswith(b"application/vnd.oasis.opendocument.spreadsheet")
    except (zipfile.BadZipFile, OSError, RuntimeError):
        return False


def members_of(path: Path, kind: str) -> list[Member]:
    """The files in an archive that may be data, sorted; the sheets of a spreadsheet in its order.

    Raises OutsideError when it is damaged, RequestError when its reader is not installed.
    """
    names = list(_sizes(path, path.stat().st_mtime_ns, kind))
    if kind == "sheet":
        return [Member(path, name, kind) for name in names]
    kept = [
        name
        for name in names
        if not any(piece.startswith((".", "__MACOSX")) for piece in PurePosixPath(name).parts)
        and not name.endswith((".toml", ".md"))
    ]
    return [Member(path, name, kind) for name in sorted(kept)]


@lru_cache(maxsize=8)
def _zip(path: Path, stamp: int) -> zipfile.ZipFile:
    """An archive whose list is read once, however many of its members are opened."""
    return zipfile.ZipFile(path)


@lru_cache(maxsize=64)
def _sizes(path: Path, stamp: int, kind: str) -> dict[str, int]:
    """The members of an archive with their unpacked sizes; of sheets, that of their text."""
    if kind == "sheet":
        book = _workbook(path)
        names = [name for name in book.sheet_names if _sheet(path, stamp, name).strip()]
        return {name: len(_sheet(path, stamp, name)) for name in names}
    with _reading(path):
        if kind == "zip":
            files = [one for one in _zip(path, stamp).infolist() if not one.is_dir()]
            counts = Counter(one.filename for one in files)
            twice = next((name for name, count in counts.items() if count > 1), None)
            if twice is not None:
                raise RequestError(
                    f"{path} holds {twice} twice, and only the last could be read: unpack it first."
                )
            return {one.filename: one.file_size for one in files}
        with tarfile.open(path, "r:*") as tape:
            return {one.name: one.size for one in tape if one.isfile()}


def _workbook(path: Path) -> Any:
    try:
        from python_calamine import CalamineError, CalamineWorkbook
    except ModuleNotFoundError:
        raise RequestError(
            f"{path} is a spreadsheet, which needs python-calamine, which is not installed: "
            "pip install 'splarn[sheets]'."
        ) from None
    try:
        return CalamineWorkbook.from_path(str(path))
    except CalamineError as error:
        raise OutsideError(f"{path} is damaged ({error}); fetch it again.") from None


@lru_cache(maxsize=4)
def _sheet(path: Path, stamp: int, name: str) -> bytes:
    """A sheet as delimited text: a line for each of its rows."""
    rows = _workbook(path).get_sheet_by_name(name).to_python(skip_empty_area=False)
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    width = max((_filled(row) for row in rows), default=0)
    for row in rows:
        cells = [_cell(value) for value in row[:width]]
        # A row of nothing is a blank line, which is no record.
        writer.writerow(cells if any(cells) else [])
    return text.getvalue().encode()


def _filled(row: list[Any]) -> int:
    """How many cells there are up to the last that holds something."""
    count = len(row)
    while count and row[count - 1] == "":
        count -= 1
    return count


def _cell(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 1 << 53 else repr(value)
    if isinstance(value, datetime):
        return value.isoformat(" ") if value.time() != time() else value.date().isoformat()
    if isinstance(value, (date, time)):
        return value.isoformat()
    if isinstance(value, timedelta):
        seconds, remainder = divmod(value, timedelta(seconds=1))
        fraction = f".{remainder.microseconds:06d}".rstrip("0") if remainder else ""
        return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{fraction}"
    return str(value)
