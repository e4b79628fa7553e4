"""Landing places: one module a kind, chosen by what the place looks like."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote, urlsplit, urlunsplit

from splarn.core.errors import RequestError
from splarn.core.places import Remote, place, shown_url
from splarn.core.ship.depot import Depot


def open_depot(text: str) -> Depot:
    """The depot at a place; nothing is made yet.

    Raises RequestError for a kind of place that files cannot be shipped to.
    """
    at = place(text)
    if isinstance(at, Path):
        from splarn.depots.folder import FolderDepot

        return FolderDepot(at)
    if isinstance(at, Remote) and text.lower().startswith(("http://", "https://")):
        from splarn.depots.http import HttpDepot

        return HttpDepot(text)
    raise RequestError(
        f"Files cannot be shipped to {shown_url(text)} yet: name a folder or an http:// place."
    )


def depot_of(text: str) -> tuple[Depot, str]:
    """The depot that a file lies in, and its name there. Raises RequestError as `open_depot`."""
    at = place(text)
    if isinstance(at, Path):
        return open_depot(str(at.parent)), at.name
    pieces = urlsplit(text)
    above, _, name = pieces.path.rpartition("/")
    folder = urlunsplit((pieces.scheme, pieces.netloc, above, pieces.query, ""))
    return open_depot(folder), unquote(name)
