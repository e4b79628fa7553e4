"""A file behind HTTP, as anything that reads files expects it; it outlives broken connections."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

from splarn.core.errors import OutsideError
from splarn.core.source.digest_fields import read_field
from splarn.core.source.http import AS_IT_IS, http_client, reaching
from splarn.core.source.retry import PASSING, Trying, Unready, seconds_asked
from splarn.core.source.secrets import filled, shown_url

# What is asked for at first, in bytes, and beyond how much all that follows is. What a server has
# begun to send is on its way, megabytes of it, before it hears that nobody wants it.
FIRST, MOST = 256 << 10, 64 << 20
# Whoever has more room than this wants it filled.
BUFFER = 1 << 20


class HttpFile(io.RawIOBase):
    """Read on as one answer streams in, asked for anew where it is sought or the line breaks.

    A store that tells the digest of its file (RFC 9530) is held to it when all is read in order.
    """

    def __init__(self, url: str, size: int) -> None:
        self._url = url
        self._size = size
        self._at = 0
        # Nothing beyond this is asked for, though it can be read, which asks anew: for little after
        # a leap, and for more the longer it is read in order.
        self._until = 0
        self._window = FIRST
        self._answer: Any = None
        self._blocks: Iterator[bytes] = iter(())
        self._rest = b""
        self._announced: str | None = None
        # What tells this version of the file from a later one, as the store writes it.
        self._version: dict[str, str] = {}
        # What was read in order from the start, None after a leap.
        self._state: Any = hashlib.sha256()

    def expect(self, end: int) -> None:
        """Says up to where it is going to be read, so that no line carries more than that."""
        self._until = min(end, self._size)

    def _widen(self, wanted: int) -> None:
        """Asks for what follows, for more each time; for as much as is wanted if that is much."""
        self._leave()
        until = self._at + max(self._window, wanted if wanted > BUFFER else 0)
        self._until = self._size if self._window > MOST else min(until, self._size)
        self._window *= 2

    def readable(self) -> bool:
        """See io.RawIOBase."""
        return True

    def seekable(self) -> bool:
        """See io.RawIOBase."""
        return True

    def tell(self) -> int:
        """See io.RawIOBase."""
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """See io.RawIOBase."""
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence]
        if base + offset != self._at:
            self._leave()
            self._at = self._until = base + offset
            self._window = FIRST
            self._state = None if self._at else hashlib.sha256()
        return self._at

    def readinto(self, buffer: Any) -> int:
        """See io.RawIOBase. Raises OutsideError when the store does not give it, or another."""
        if self._at >= self._size:
            return 0
        shown = shown_url(self._url)
        if self._at >= self._until:
            self._widen(len(buffer))
        if not self._rest:
            with reaching(self._url):
                Trying(shown, "its bytes").until_ready(self._fill)
        count = min(len(buffer), len(self._rest), self._until - self._at)
        buffer[:count] = self._rest[:count]
        if self._state is not None:
            self._state.update(self._rest[:count])
        self._rest = self._rest[count:]
        self._at += count
        if self._at >= self._size and self._state is not None and self._announced is not None:
            if self._state.hexdigest() != self._announced:
                raise OutsideError(
                    f"What arrived of {shown} is not what the store has: run the same command "
                    "again."
                )
            self._announced = None
        return count

    def close(self) -> None:
        """See io.RawIOBase."""
        self._leave()
        super().close()

    def _fill(self) -> None:
        """Waits for the next bytes. Raises Unready when they do not come, to be asked again."""
        import httpx

        try:
            if self._answer is None:
                self._ask()
            while not self._rest:
                block = next(self._blocks, None)
                if block is None:
                    raise Unready(f"it ended after {self._at:,} of {self._size:,} bytes")
                self._rest = block
        except httpx.TransportError as error:
            self._leave()
            raise Unready(f"the connection failed with {type(error).__name__}") from None
        except BaseException:
            self._leave()
            raise

    def _ask(self) -> None:
        client = http_client()
        headers = dict(AS_IT_IS)
        if self._at or self._until < self._size:
            last = "" if self._until == self._size else self._until - 1
            headers["Range"] = f"bytes={self._at}-{last}"
            strong = self._version.get("etag", "")
            if strong and not strong.startswith("W/"):
                headers["If-Range"] = strong
            elif "last-modified" in self._version:
                headers["If-Range"] = self._version["last-modified"]
        url = filled(self._url, shown_url(self._url))
        request = client.build_request("GET", url, headers=headers)
        self._answer = client.send(request, stream=True)
        if self._answer.status_code in PASSING:
            asked = seconds_asked(self._answer.headers.get("retry-after"))
            raise Unready(f"it answers {self._answer.status_code}", asked)
        self._answer.raise_for_status()
        self._hold_to_version()
        # That of the whole file, also with a part of it.
        announced = read_field(self._answer.headers.get("repr-digest", ""))
        self._announced = announced or self._announced
        # As it comes: what has arrived is kept when the line breaks.
        self._blocks = self._answer.iter_raw()
        if self._answer.status_code != 206:
            # The server knows no ranges: what comes is the file to its end, and what comes before
            # is passed over.
            self._until, skip = self._size, self._at
            while skip:
                block = next(self._blocks, b"")
                if not block:
                    break
                self._rest, skip = block[skip:], max(skip - len(block), 0)

    def _hold_to_version(self) -> None:
        """Raises OutsideError when the store has another file there than it had at first."""
        version = {
            name: self._answer.headers[name]
            for name in ("etag", "last-modified")
            if name in self._answer.headers
        }
        size = self._answer.headers.get("content-range", "").rpartition("/")[2]
        if self._answer.status_code == 200:
            size = self._answer.headers.get("content-length", "")
        changed = size.isdigit() and int(size) != self._size
        for name, was in self._version.items():
            changed = changed or version.get(name, was) != was
        if changed:
            raise OutsideError(
                f"{shown_url(self._url)} was changed while it was read: run the same command again "
                "when it is delivered whole."
            )
        self._version = self._version or version

    def _leave(self) -> None:
        if self._answer is not None:
            if self._at == self._until and not self._rest:
                # An answer that is read to its end leaves its connection to the next one.
                with suppress(Exception):
                    next(self._blocks, None)
            self._answer.close()
        self._answer, self._blocks, self._rest = None, iter(()), b""
