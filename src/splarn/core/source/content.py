"""Content: which records a file holds, and whether two files hold some of the same."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Held:
    """A stretch of some content: unpacked bytes of the file that has it, or rows of a columnar one.

    `end` is None up to the content's own end.
    """

    content: str
    start: int = 0
    end: int | None = None

    def meets(self, other: Held) -> bool:
        """Whether the two have records in common."""
        if self.content != other.content:
            return False
        mine = self.end is None or other.start < self.end
        theirs = other.end is None or self.start < other.end
        return mine and theirs


class Contents:
    """Stretches of content by who brought them in, to be asked about quickly."""

    def __init__(self) -> None:
        self._by_content: dict[str, list[tuple[Held, object]]] = {}

    def add(self, held: Iterable[Held], owner: object) -> None:
        """Notes what an owner holds."""
        for one in held:
            self._by_content.setdefault(one.content, []).append((one, owner))

    def owner(self, held: Iterable[Held]) -> object | None:
        """Who holds some of this already; None where nobody does."""
        for one in held:
            for other, owner in self._by_content.get(one.content, ()):
                if one.meets(other):
                    return owner
        return None
