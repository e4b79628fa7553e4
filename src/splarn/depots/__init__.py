"""Landing places: one module a kind, chosen by scheme and found by entry point."""

from __future__ import annotations

import threading
from functools import lru_cache
from pathlib import Path
from urllib.parse import unquote, urlsplit, urlunsplit

from splarn.core.ship.depot import Depot
from splarn.core.source.places import place
from splarn.core.work.plugins import DEPOTS, load, names


def open_depot(text: str) -> Depot:
    """The depot at a place; nothing is made yet.

    Raises RequestError for a kind of place that is not known or whose package is missing.
    """
    at = place(text)
    scheme = text.partition("://")[0].lower() if not isinstance(at, Path) else "file"
    # What no package has a depot of its own for, goes through fsspec.
    kind = scheme if scheme in names(DEPOTS) else "*"
    depot: Depot = load(DEPOTS, kind)(at if scheme == "file" else text)
    return depot


@lru_cache(maxsize=16)
def reopened(text: str) -> Depot:
    """The depot at a place for a task that came from another process, opened once."""
    return open_depot(text)


def depot_of(text: str) -> tuple[Depot, str]:
    """The depot that a file lies in, and its name there. Raises RequestError as `open_depot`."""
    folder, name = _apart(text)
    return open_depot(folder), name


def _apart(text: str) -> tuple[str, str]:
    at = place(text)
    if isinstance(at, Path):
        return str(at.parent), at.name
    pieces = urlsplit(text)
    above, _, name = pieces.path.rpartition("/")
    return urlunsplit((pieces.scheme, pieces.netloc, above, pieces.query, "")), unquote(name)


class Origins:
    """Depots that files come from, each opened once."""

    def __init__(self) -> None:
        self._open: dict[str, Depot] = {}
        self._lock = threading.Lock()

    def of(self, text: str) -> tuple[Depot, str]:
        """See `depot_of`."""
        folder, name = _apart(text)
        with self._lock:
            if folder not in self._open:
                self._open[folder] = open_depot(folder)
            return self._open[folder], name

    def __reduce__(self) -> tuple[type[Origins], tuple[()]]:
        # A worker elsewhere opens its own.
        return Origins, ()

    def close(self) -> None:
        """Closes all of them."""
        for depot in self._open.values():
            depot.close()
