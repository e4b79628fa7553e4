"""Parts in line: each handed on once it is known what of its files lies before it."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import replace

from splarn.core.shape.manifest import Part, SourceRange
from splarn.core.shape.slices import end_of

# So many parts may wait for one before them; who makes more waits too, but for no longer than so
# many seconds, since it may never come.
MOST_HELD, PATIENCE = 16, 10.0


class Line:
    """Hands parts on with how many records and lines of their files lie before each of them.

    That is known of a part once the one before it has come, whatever the order in which they come.
    Parts whose rows cannot be followed are handed on without.
    """

    def __init__(self, hand: Callable[[Part], object], most: int | None = None) -> None:
        """`most` parts may wait for others before their makers do; None is any number."""
        self._hand, self._most = hand, most
        self._held: list[Part] = []
        self._change = threading.Condition()
        # Of each file, where a range ended and what lies before that; None where it is not known.
        self._ends: dict[tuple[str, int | None], tuple[int, int] | None] = {}

    def put(self, part: Part) -> None:
        """Takes the next part, and hands on what is ready."""
        with self._change:
            self._held.append(part)
            ready = self._ready()
            if self._most is not None and len(self._held) > self._most:
                # The one that they wait for is at work, and is never held up by this.
                self._change.wait_for(lambda: part not in self._held, PATIENCE)
        for one in ready:
            self._hand(one)

    def end(self) -> None:
        """All have come: what still waits for something never made is handed on as it is."""
        with self._change:
            rest, self._held = self._held, []
            self._change.notify_all()
        for one in rest:
            self._hand(one)

    def _ready(self) -> list[Part]:
        ready: list[Part] = []
        before = -1
        while len(ready) > before:
            before = len(ready)
            for part in list(self._held):
                pieces = self._told(part)
                if pieces is not None:
                    self._held.remove(part)
                    ready.append(replace(part, source=pieces))
        self._change.notify_all()
        return ready

    def _told(self, part: Part) -> tuple[SourceRange, ...] | None:
        """A part's ranges with what lies before them; None where that is still to come."""
        pieces: list[SourceRange] = []
        ends: dict[tuple[str, int | None], tuple[int, int] | None] = {}
        for piece in part.source:
            if piece.row is None and piece.start == 0:
                piece = replace(piece, row=0)
            elif piece.row is None:
                here = (piece.path, piece.start)
                if here not in self._ends and here not in ends:
                    return None
                end = ends[here] if here in ends else self._ends[here]
                if end is not None:
                    piece = replace(piece, row=end[0], line=end[1] + 1)
            ends[piece.path, piece.end] = end_of(piece)
            pieces.append(piece)
        self._ends |= ends
        return tuple(pieces)
