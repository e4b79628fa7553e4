"""Fetching: one file out of a depot, whole, gone on with where the connection broke off."""

from __future__ import annotations

import hashlib
from pathlib import Path

from splarn.core.errors import OutsideError
from splarn.core.ship.depot import Depot, Stored
from splarn.core.source.retry import Trying, Unready
from splarn.core.work.disk import ASIDE, outside


def fetch(depot: Depot, name: str, path: Path, trying: Trying | None = None) -> Stored:
    """Writes a depot's file to a path that is seen only when it is whole and proven.

    Raises OutsideError when the depot has no such file or does not give it, or the disk refuses.
    """
    trying = trying or Trying(depot.place, name)
    stored = trying.until_ready(lambda: depot.find(name))
    if stored is None:
        raise OutsideError(f"{depot.place} has no {name}: ship it there first.")
    temporary = path.with_name(path.name + ASIDE)
    temporary.unlink(missing_ok=True)
    trying.until_ready(lambda: _on(depot, stored, temporary))
    with outside(f"Writing {path}"):
        temporary.replace(path)
    return stored


def _on(depot: Depot, stored: Stored, temporary: Path) -> None:
    """Goes on behind what is there already; begins anew when that is not what the depot has."""
    with outside(f"Writing {temporary}"):
        with temporary.open("ab") as file:
            for block in depot.get(stored.name, file.tell()):
                file.write(block)
        if temporary.stat().st_size < stored.size:
            raise Unready(f"{stored.name} broke off")
        with temporary.open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").hexdigest()
        if digest != stored.digest:
            temporary.unlink()
            raise Unready(f"what arrived of {stored.name} is not what the depot has")
