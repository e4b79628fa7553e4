"""What is asked of a place that parts are shipped into and loaded from."""

from __future__ import annotations

from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from splarn.core.load.request import Input
from splarn.core.shape.manifest import Manifest
from splarn.core.ship.record import Sent, ShipRecord
from splarn.core.source.source import Source
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress


class Landing(Protocol):
    """A place that parts are sent to, one by one. All raise OutsideError when it fails."""

    @property
    def place(self) -> str:
        """Its address as it may be shown."""

    @property
    def read_here(self) -> bool:
        """Whether what was sent is read from here all the same, so that it must stay."""

    def sender(self) -> AbstractContextManager[Sender]:
        """A connection of its own for one stream, open for as long as this lasts."""

    def names(self) -> list[str]:
        """The names of the parts that have arrived."""

    def clear(self) -> None:
        """Removes what lies there."""


@dataclass(frozen=True)
class SendTask:
    """A part to be sent by a worker that is elsewhere; picklable."""

    landing: Landing
    path: Path
    part_id: str

    @property
    def label(self) -> str:
        """What a watcher is told."""
        return self.path.name


def run_send_task(task: SendTask) -> Sent:
    """Sends one part over a connection of its own. Raises what the landing raises."""
    with task.landing.sender() as sender:
        return sender.send(task.path, task.part_id)


class WholeLanding(Landing, Protocol):
    """One that is sent all parts of a manifest together, too."""

    def ship(self, manifest: Manifest, pool: Pool, progress: Progress | None = None) -> ShipRecord:
        """Sends the parts; what has arrived before is not sent again."""

    def inputs(self, manifest: Manifest) -> tuple[Input, ...]:
        """The parts as a load is given them, where they have arrived."""


class Sender(Protocol):
    """One stream to a landing. All raise OutsideError when it fails."""

    def send(self, path: Path, part_id: str) -> Sent:
        """Sends a part, unless it has arrived."""

    def source(self, path: Path, part_id: str, codec: str, format: str) -> Source:
        """A part that has arrived, as it is to be read."""

    def remove(self, name: str) -> None:
        """Removes a part if it is there."""
