"""Where shipped bytes come from: a file here, or a file in another depot."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from splarn.core.errors import OutsideError
from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.ship.depot import Depot
from splarn.core.source.places import Place
from splarn.core.source.retry import Trying
from splarn.core.source.source import look
from splarn.core.work.disk import outside


class Origin(Protocol):
    """A source of one file."""

    def known(self, trying: Trying) -> tuple[int, str]:
        """Its bytes and their SHA-256 in hex."""

    def blocks(self, first: int, end: int) -> Iterator[bytes]:
        """A range of its bytes."""

    def check(self) -> None:
        """Raises OutsideError when it is no longer what it was."""


class FileOrigin:
    """A file that is read from its place."""

    def __init__(self, source: Place) -> None:
        self._source = source
        self._look = look(source)

    def known(self, trying: Trying) -> tuple[int, str]:
        """See Origin."""
        with outside(f"Reading {self._source}"):
            digest, size = digest_of(blocks_of(self._source))
        return size, digest

    def blocks(self, first: int, end: int) -> Iterator[bytes]:
        """See Origin."""
        return blocks_of(self._source, first, end - first)

    def check(self) -> None:
        """See Origin."""
        if look(self._source) != self._look:
            raise OutsideError(
                f"{self._source} was changed while it was sent: wait until it is delivered whole, "
                "then run the same command again."
            )


class DepotOrigin:
    """A file in a depot, which often knows its digest without being read."""

    def __init__(self, depot: Depot, name: str) -> None:
        self._depot, self._name = depot, name

    def known(self, trying: Trying) -> tuple[int, str]:
        """See Origin. Raises OutsideError when it is not there."""
        stored = trying.until_ready(lambda: self._depot.find(self._name))
        if stored is None or stored.digest is None:
            raise OutsideError(f"{self._depot.place} has no {self._name}: check the spelling.")
        return stored.size, stored.digest

    def blocks(self, first: int, end: int) -> Iterator[bytes]:
        """See Origin."""
        return self._depot.get(self._name, first, end)

    def check(self) -> None:
        """See Origin. The depot's digest holds what was sent to it."""
