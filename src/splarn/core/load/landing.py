"""What is asked of a folder in a depot that parts are shipped into and loaded from."""

from __future__ import annotations

from typing import Protocol

from splarn.core.load.request import Input
from splarn.core.shape.manifest import Manifest
from splarn.core.ship.record import ShipRecord
from splarn.core.work.pool import Pool
from splarn.core.work.progress import Progress


class Landing(Protocol):
    """A folder of a depot. All raise OutsideError when the depot fails."""

    @property
    def place(self) -> str:
        """Its address as it may be shown."""

    def ship(self, manifest: Manifest, pool: Pool, progress: Progress | None = None) -> ShipRecord:
        """Sends the parts; what has arrived before is not sent again."""

    def inputs(self, manifest: Manifest) -> tuple[Input, ...]:
        """The parts as a load is given them, where they have arrived."""

    def clear(self) -> None:
        """Removes what lies there."""
