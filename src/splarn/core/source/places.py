"""Where source files are: a path here, an HTTP store, or whatever fsspec opens."""

from __future__ import annotations

import inspect
import io
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from fnmatch import fnmatch
from functools import lru_cache
from importlib.util import find_spec
from pathlib import Path, PurePosixPath
from typing import IO, Any
from urllib.parse import unquote, urlsplit

from splarn.core.errors import OutsideError, RequestError
from splarn.core.source.archives import BETWEEN, Member, Status, archive_kind
from splarn.core.source.http import http_status, is_http, reaching
from splarn.core.source.secrets import filled, shown_url

_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.\-]+://")
_BLOCK = 256 << 10


@dataclass(frozen=True)
class Remote:
    """A file behind a URL, with the few methods of a Path that reading needs.

    Names of secrets, as `${NAME}`, stay in the URL until it is opened.
    Raises OutsideError from them when the place cannot be reached.
    """

    url: str

    def __str__(self) -> str:
        return shown_url(self.url)

    @property
    def name(self) -> str:
        """The last piece of the URL's path."""
        return PurePosixPath(unquote(urlsplit(self.url).path)).name or self.url

    @property
    def suffix(self) -> str:
        """The name's ending."""
        return PurePosixPath(self.name).suffix

    def stat(self) -> Status:
        """Size and last change."""
        return http_status(self.url) if is_http(self.url) else _fs_status(self.url)

    def open(self, mode: str = "rb", buffering: int = -1) -> IO[bytes]:
        """The file for reading from any position."""
        if is_http(self.url):
            from splarn.core.source.http_file import BUFFER, HttpFile

            raw = HttpFile(self.url, self.stat().st_size)
            return io.BufferedReader(raw, BUFFER)
        system, path = filesystem(self.url)
        with reaching(self.url):
            opened: IO[bytes] = system.open(path, "rb")
            return opened

    def is_file(self) -> bool:
        """Whether it is there."""
        try:
            self.stat()
        except OutsideError:
            return False
        return True


Place = Path | Remote | Member


def place(text: str | Place) -> Place:
    """The path, archive's member or remote file that a text names; a `file:` URL is a path.

    Raises RequestError for a URL that is none.
    """
    if isinstance(text, (Path, Remote, Member)):
        return text
    if text.startswith("file:"):
        return Path(unquote(urlsplit(text).path))
    if not is_url(text):
        return _member(text) or Path(text)
    try:
        pieces = urlsplit(text)
        if "${" not in pieces.netloc:
            _ = pieces.port
    except ValueError:
        raise RequestError(
            f"{text.partition('://')[0]}://… is no address that can be read: check its host and "
            "port."
        ) from None
    return Remote(text)


def _member(text: str) -> Member | None:
    """The member of an archive that a text names, where there is such an archive."""
    archive, mark, inner = text.partition(BETWEEN)
    if not mark or not Path(archive).is_file():
        return None
    kind = archive_kind(Path(archive))
    return None if kind is None else Member(Path(archive), inner, kind)


def key_of(path: Place) -> str:
    """The text that `place` makes the same place of; it is not for showing."""
    return path.url if isinstance(path, Remote) else str(path)


def is_url(text: str) -> bool:
    """Whether a text begins with a scheme."""
    return _SCHEME.match(text) is not None


@contextmanager
def open_place(path: Place) -> Iterator[IO[bytes]]:
    """A source file opened for reading in large blocks, closed afterwards."""
    file: Any = path.open("rb", buffering=0)
    try:
        yield file
    finally:
        file.close()


def expect_until(file: IO[bytes], end: int) -> None:
    """Says up to where a file is going to be read, which matters where it is behind a line."""
    expect = getattr(getattr(file, "raw", file), "expect", None)
    if expect is not None:
        expect(end)


def blocks_in(
    file: IO[bytes], first: int = 0, end: int | None = None, block: int = _BLOCK
) -> Iterator[bytes]:
    """The bytes of an open file from a position up to another, or to its own end, in blocks."""
    if first:
        file.seek(first)
    if end is not None:
        expect_until(file, end)
    left = None if end is None else end - first
    while left is None or left > 0:
        data = file.read(block if left is None else min(block, left))
        if not data:
            return
        left = None if left is None else left - len(data)
        yield data


def find_remote(url: str) -> list[Remote]:
    """The files that a URL names: one, a folder's, or those like a pattern.

    Raises RequestError when it names none, OutsideError when the place cannot be reached.
    """
    if is_http(url):
        if "*" in url:
            raise RequestError(
                f"{shown_url(url)} is a pattern, which HTTP cannot list: name each file."
            )
        Remote(url).stat()
        return [Remote(url)]
    system, path = filesystem(url)
    scheme = url.partition("://")[0]
    with reaching(url):
        if any(mark in path for mark in "*?["):
            files = [hit for hit in system.glob(path) if system.isfile(hit)]
        else:
            files = [path] if system.isfile(path) else system.find(path)
    hits = sorted(hit for hit in files if not fnmatch(PurePosixPath(hit).name, ".*"))
    if not hits:
        raise RequestError(f"There is no file {shown_url(url)}: check the spelling.")
    if files == [path]:
        return [Remote(url)]
    return [Remote(f"{scheme}://{hit.lstrip('/')}") for hit in map(str, hits)]


@lru_cache(maxsize=64)
def _filesystem_of(scheme: str) -> Any:
    try:
        import fsspec
    except ModuleNotFoundError:
        raise RequestError(
            f"Places of the kind {scheme}: need fsspec, which is not installed: "
            "pip install 'splarn[places]'."
        ) from None
    try:
        if scheme == "s3" and find_spec("s3fs") is None:
            return _arrow_s3()
        kind = fsspec.get_filesystem_class(scheme)
        named = (inspect.Parameter.POSITIONAL_ONLY, inspect.Parameter.POSITIONAL_OR_KEYWORD)
        given = list(inspect.signature(kind.__init__).parameters.values())[1:]
        wants = [one.name for one in given if one.kind in named and one.default is one.empty]
        if wants:
            # One that is made for a single host cannot be made from its scheme.
            raise ValueError(f"it wants a {wants[0]}, which Splarn does not give it")
        return fsspec.filesystem(scheme)
    except (ImportError, ValueError) as error:
        reason = str(error).splitlines()[0]
        raise RequestError(f"Places of the kind {scheme}: cannot be opened ({reason}).") from None


def _arrow_wrapper() -> Any:
    from fsspec.implementations.arrow import ArrowFSWrapper

    return ArrowFSWrapper


def _arrow_s3() -> Any:
    """Arrow's own client of S3-protocol stores, set up by the variables that all of them read."""
    import pyarrow.fs

    endpoint = os.environ.get("AWS_ENDPOINT_URL_S3") or os.environ.get("AWS_ENDPOINT_URL") or ""
    scheme, _, host = endpoint.rpartition("://")
    region = os.environ.get("AWS_REGION") or os.environ.get("AWS_DEFAULT_REGION")
    options = {"region": region} if region or not endpoint else {"region": "us-east-1"}
    if endpoint:
        # Not all stores know the newer checksums that the client adds; Splarn has its own.
        os.environ.setdefault("AWS_REQUEST_CHECKSUM_CALCULATION", "when_required")
        options |= {"endpoint_override": host.rstrip("/"), "scheme": scheme or "https"}
    return _arrow_wrapper()(pyarrow.fs.S3FileSystem(**options))


def filesystem(url: str) -> tuple[Any, str]:
    """What fsspec opens a URL with, and the path in it; secrets are filled in.

    Raises RequestError for a kind of place that is not known, or whose package is missing.
    """
    scheme, _, path = url.partition("://")
    system = _filesystem_of(scheme.lower())
    opened = filled(url, shown_url(url))
    if isinstance(system, _arrow_wrapper()):
        return system, filled(path, shown_url(url))
    return system, system._strip_protocol(opened)


def _fs_status(url: str) -> Status:
    system, path = filesystem(url)
    with reaching(url):
        info = system.info(path)
        changed = info.get("mtime") or info.get("LastModified") or info.get("created") or 0.0
        stamp = changed.timestamp() if hasattr(changed, "timestamp") else float(changed)
        return Status(int(info["size"]), int(stamp * 1e9))
