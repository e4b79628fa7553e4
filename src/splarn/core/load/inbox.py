"""The inbox of an engine that reads files itself, as a place that parts are sent to."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from splarn.core.load.landing import Landing, Sender
from splarn.core.ship.record import Sent, Turn
from splarn.core.source.source import Source, look
from splarn.core.target.handover import HandedPart, WholeFiles
from splarn.core.target.session import OpenEngine


class Inbox:
    """See Landing. What is in it is taken out by the engine as it is loaded, and read here too."""

    read_here = True

    def __init__(self, open_engine: OpenEngine) -> None:
        self._open_engine = open_engine

    @property
    def place(self) -> str:
        """See Landing."""
        return self._open_engine().place

    @contextmanager
    def sender(self) -> Iterator[Sender]:
        """See Landing."""
        with closing(self._open_engine().connect()) as session:
            assert session.files is not None, "only an engine that reads files has an inbox"
            yield InboxSender(session.files)

    def names(self) -> list[str]:
        """See Landing. What is there is sent again, which costs no more than asking."""
        return []

    def clear(self) -> None:
        """See Landing. Nothing stays there."""


class InboxSender:
    """See Sender."""

    def __init__(self, files: WholeFiles) -> None:
        self._files = files

    def send(self, path: Path, part_id: str) -> Sent:
        """See Sender."""
        begun, size = time.perf_counter(), path.stat().st_size
        self._files.send(HandedPart(part_id, path, ""))
        turn = Turn(1, size, time.perf_counter() - begun, 1, 0, 0.0)
        return Sent(str(path), path.name, size, "", False, (turn,))

    def source(self, path: Path, part_id: str, codec: str, format: str) -> Source:
        """See Sender."""
        size, stamp = look(path)
        return Source(path, size, stamp, codec, format)

    def remove(self, name: str) -> None:
        """See Sender. The engine has done that."""


class ByWayOf(Inbox):
    """An inbox into which parts go out of a folder of this machine, where they were shipped."""

    read_here = False

    def __init__(self, landing: Landing, open_engine: OpenEngine) -> None:
        super().__init__(open_engine)
        self._landing = landing

    @property
    def place(self) -> str:
        """See Landing."""
        return self._landing.place

    @contextmanager
    def sender(self) -> Iterator[Sender]:
        """See Landing."""
        with self._landing.sender() as first, super().sender() as inbox:
            yield SenderOn(first, inbox)

    def names(self) -> list[str]:
        """See Landing."""
        return self._landing.names()

    def clear(self) -> None:
        """See Landing."""
        self._landing.clear()


class SenderOn:
    """See Sender. What has arrived in the folder goes on into the inbox."""

    def __init__(self, first: Sender, inbox: Sender) -> None:
        self._first, self._inbox = first, inbox
        self.send, self.remove = first.send, first.remove

    def source(self, path: Path, part_id: str, codec: str, format: str) -> Source:
        """See Sender."""
        found = self._first.source(path, part_id, codec, format)
        if isinstance(found.place, Path):
            self._inbox.send(found.place, part_id)
        return found
