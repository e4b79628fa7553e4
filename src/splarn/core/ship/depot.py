"""What shipping asks of a landing place; `splarn.depots` answers, and is handed in."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from splarn.core.source.places import Place


@dataclass(frozen=True)
class Stored:
    """A whole file in a depot. `digest` is the SHA-256 of its bytes in hex; None where unknown."""

    name: str
    size: int
    digest: str | None = None


class Depot(Protocol):
    """A landing place. Names are paths below it, with `/` between folders.

    Methods raise Unready for what may pass, OutsideError for what will not.
    """

    place: str  # As it may be shown, without secrets.
    remote: bool  # Whether requests and bytes go over a line that may cost money.

    def find(self, name: str) -> Stored | None:
        """The file of this name, None if there is none."""

    def holds(self, name: str, source: Place) -> bool:
        """Whether a source is surely the depot's own file of this name."""

    def put(self, name: str, blocks: Iterator[bytes], size: int, digest: str) -> Stored:
        """Stores a file, which is seen under its name only when it is whole.

        `digest` is the SHA-256 that it must have. Replaces what has the name.
        """

    def get(self, name: str, first: int = 0, end: int | None = None) -> Iterator[bytes]:
        """A file's bytes from `first` up to `end` or its own. Raises Unready when they break off.

        A caller that counts them finds out about those that break off without a word.
        """

    def ranged(self) -> bool:
        """Whether ranges of one file may be put apart, by several streams at once."""

    def held(self, name: str, size: int, digest: str) -> list[tuple[int, int]]:
        """The ranges of a file of this content that are there already, ends not belonging."""

    def put_range(
        self, name: str, blocks: Iterator[bytes], span: tuple[int, int], size: int, digest: str
    ) -> None:
        """Stores a range of a file of `size` bytes whose whole content has the `digest`.

        The file is seen under its name once all of it is there and proven.
        """

    def delete(self, name: str) -> None:
        """Removes a file if it is there."""

    def names(self) -> list[str]:
        """The names of all files, sorted."""

    def close(self) -> None:
        """Lets go of connections."""
