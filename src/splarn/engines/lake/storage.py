"""Where a lake's files lie: a folder of this machine, or a store of the S3 protocol."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from tempfile import TemporaryFile
from typing import Any
from urllib.parse import urlsplit

from splarn.core.errors import OutsideError, RequestError
from splarn.core.work.disk import ASIDE, explain

S3 = ("s3", "s3a", "s3n")
# For large files, by the Filesystem Hierarchy Standard.
LARGE = "/var/tmp"


def be_plain() -> None:
    """Lets bodies go to a store as they are, unless the environment says otherwise.

    Many stores of the protocol keep the checksums that the library adds behind a body as part of
    the file.
    """
    if "AWS_ENDPOINT_URL" in os.environ:
        os.environ.setdefault("AWS_REQUEST_CHECKSUM_CALCULATION", "when_required")
        os.environ.setdefault("AWS_RESPONSE_CHECKSUM_VALIDATION", "when_required")


def uri_of(text: str) -> str:
    """A folder or an address as the table's metadata have it. Raises RequestError."""
    scheme, mark, _ = text.partition("://")
    if not mark:
        return f"file://{Path(text).resolve()}"
    if scheme not in ("file", *S3):
        raise RequestError(
            f"The warehouse {text} cannot be used: give a folder, or an address like "
            "s3://bucket/prefix."
        )
    return text.rstrip("/")


class Storage:
    """Files by their addresses. All raise OutsideError where the disk or the store refuses."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.local = root.startswith("file:")
        self._store: Any = None

    def create(self, uri: str) -> _NewFile:
        """A new file for writing."""
        with self.failing("Writing", uri):
            if self.local:
                path = local_path(uri)
                path.parent.mkdir(parents=True, exist_ok=True)
                return _NewFile(self, uri, path.open("wb"))
            return _NewFile(self, uri, self.store.open_output_stream(_key(uri)))

    def scratch(self) -> Any:
        """A file without a name, gone with this process, where there is room for rows."""
        if self.local:
            folder = local_path(self.root)
            folder.mkdir(parents=True, exist_ok=True)
            return TemporaryFile(dir=folder, suffix=ASIDE)
        # The usual folder is memory on many machines, this one never.
        large = os.access(LARGE, os.W_OK) and "TMPDIR" not in os.environ
        return TemporaryFile(dir=LARGE if large else None)

    def open(self, uri: str) -> Any:
        """A file for reading, as pyarrow takes it."""
        with self.failing("Reading", uri):
            return self.source(uri)

    def source(self, uri: str) -> Any:
        """The same; raises what pyarrow raises."""
        import pyarrow as pa

        if self.local:
            return pa.OSFile(str(local_path(uri)))
        return self.store.open_input_file(_key(uri))

    def read(self, uri: str) -> bytes | None:
        """All bytes of a file, None where there is none."""
        with self.failing("Reading", uri):
            try:
                if self.local:
                    return local_path(uri).read_bytes()
                with self.store.open_input_stream(_key(uri)) as file:
                    return bytes(file.read())
            except FileNotFoundError:
                return None

    def write(self, uri: str, data: bytes) -> None:
        """Makes or replaces a file at once, so that nobody reads half of it.

        A power cut may take it back: what is written so can be done again.
        """
        with self.failing("Writing", uri):
            if not self.local:
                with self.store.open_output_stream(_key(uri)) as file:
                    file.write(data)
                return
            path = local_path(uri)
            path.parent.mkdir(parents=True, exist_ok=True)
            aside = path.with_name(f"{path.name}.{secrets.token_hex(4)}{ASIDE}")
            try:
                aside.write_bytes(data)
                aside.replace(path)
            except BaseException:
                aside.unlink(missing_ok=True)
                raise

    def settle(self, uris: Iterable[str]) -> None:
        """Makes files safe from a power cut, many at once; a store has done so already."""
        if not self.local:
            return
        paths = [local_path(uri) for uri in uris]
        folders = sorted({path.parent for path in paths})
        with self.failing("Writing", self.root), ThreadPoolExecutor(8) as pool:
            list(pool.map(_sync, [*paths, *folders]))

    def names(self, uri: str) -> list[str]:
        """Addresses of all files below one, in order."""
        with self.failing("Listing", uri):
            return sorted(self._names(uri))

    def _names(self, uri: str) -> Iterator[str]:
        if self.local:
            for folder, _, files in os.walk(local_path(uri)):
                yield from (f"file://{folder}/{name}" for name in files if not name.endswith(ASIDE))
            return
        from pyarrow import fs

        chosen = fs.FileSelector(_key(uri), recursive=True, allow_not_found=True)
        scheme = uri.partition("://")[0]
        for info in self.store.get_file_info(chosen):
            if info.type == fs.FileType.File:
                yield f"{scheme}://{info.path}"

    def size(self, uri: str) -> tuple[int, float] | None:
        """Bytes of a file and when it was written, in seconds since 1970; None without one."""
        with self.failing("Looking at", uri):
            if self.local:
                try:
                    found = local_path(uri).stat()
                except FileNotFoundError:
                    return None
                return found.st_size, found.st_mtime
            info = self.store.get_file_info(_key(uri))
            return None if info.size is None else (info.size, info.mtime_ns / 1e9)

    def remove(self, uri: str) -> None:
        """Removes a file if it is there."""
        with self.failing("Removing", uri), suppress(FileNotFoundError):
            if self.local:
                local_path(uri).unlink()
            else:
                self.store.delete_file(_key(uri))

    def remove_all(self, uri: str) -> None:
        """Removes all files below an address, and folders that are empty then."""
        for name in self.names(uri):
            self.remove(name)
        if self.local:
            for folder, _, _ in os.walk(local_path(uri), topdown=False):
                with suppress(OSError):
                    Path(folder).rmdir()

    @property
    def store(self) -> Any:
        """The store, by pyarrow. Its secrets come from the environment."""
        if self._store is None:
            from pyarrow import fs

            be_plain()
            endpoint = urlsplit(os.environ.get("AWS_ENDPOINT_URL", ""))
            more: dict[str, Any] = {}
            if endpoint.netloc:
                more = {"endpoint_override": endpoint.netloc, "scheme": endpoint.scheme}
            region = os.environ.get("AWS_REGION") or os.environ.get("AWS_DEFAULT_REGION")
            self._store = fs.S3FileSystem(region=region or "us-east-1", **more)
        return self._store

    @contextmanager
    def failing(self, doing: str, uri: str) -> Iterator[None]:
        """Turns errors of the disk or the store into one sentence."""
        try:
            yield
        except OSError as error:
            told = explain(error) if self.local else str(error).split(". Detail")[0].rstrip(".")
            raise OutsideError(f"{doing} {shown_path(uri)} failed: {told}.") from None


class _NewFile:
    """A file that is being written; whole once it is closed."""

    closed = False

    def __init__(self, storage: Storage, uri: str, file: Any) -> None:
        self._storage, self.uri, self._file = storage, uri, file
        self._size = 0

    def write(self, data: Any) -> int:
        """Writes all of the bytes."""
        with self._storage.failing("Writing", self.uri):
            self._file.write(data)
        self._size += memoryview(data).nbytes
        return self._size

    def tell(self) -> int:
        """Bytes written so far."""
        return self._size

    def flush(self) -> None:
        """Nothing is safe before the end."""

    def close(self) -> None:
        """Ends the file."""
        if self.closed:
            return
        self.closed = True
        with self._storage.failing("Writing", self.uri):
            self._file.close()

    def abandon(self) -> None:
        """The file is not wanted."""
        self.closed = True
        with suppress(Exception):
            self._file.close()
        with suppress(Exception):
            self._storage.remove(self.uri)


def local_path(uri: str) -> Path:
    """The path of a file's address."""
    return Path(uri.removeprefix("file://").removeprefix("file:"))


def shown_path(uri: str) -> str:
    """An address as people read it."""
    return str(local_path(uri)) if uri.startswith("file:") else uri


def _key(uri: str) -> str:
    return uri.partition("://")[2]


def _sync(path: Path) -> None:
    """Makes a file, or the names in a folder, safe from a power cut."""
    try:
        handle = os.open(path, os.O_RDONLY)
    except OSError:
        # Not every system opens folders.
        if path.is_dir():
            return
        raise
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
