"""Listed files that a shipment removed when they had arrived, before it broke off."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import xxhash

from splarn.core.errors import OutsideError
from splarn.core.ship.depot import Depot
from splarn.core.ship.record import Sent, Turn
from splarn.core.source.retry import Trying


@dataclass(frozen=True)
class Gone:
    """A file that is listed, with its bytes and its `xxh3-128:HEX`, but no longer lies there."""

    source: Path
    size: int
    hash: str


def arrived(depot: Depot, name: str, gone: Gone, pause: Callable[[float], None]) -> Sent:
    """The file as the depot has it, read back to the end.

    Raises OutsideError when the depot does not have it as it is listed.
    """
    trying = Trying(depot.place, name, pause)

    def read() -> tuple[int, str, str]:
        size, listed, digest = 0, xxhash.xxh3_128(), hashlib.sha256()
        for block in depot.get(name):
            size += len(block)
            listed.update(block)
            digest.update(block)
        return size, f"xxh3-128:{listed.hexdigest()}", digest.hexdigest()

    stored = trying.until_ready(lambda: depot.find(name))
    if stored is not None and stored.size == gone.size:
        size, listed, digest = trying.until_ready(read)
        if (size, listed) == (gone.size, gone.hash):
            turn = Turn(1, 0, 0.0, trying.requests, trying.retries, trying.throttled)
            return Sent(str(gone.source), name, size, digest, True, (turn,))
    raise OutsideError(
        f"{gone.source} is listed in its manifest, but there is no such file, and {depot.place} "
        f"does not have it as {name} either: bring it back, or shape the parts again."
    )
