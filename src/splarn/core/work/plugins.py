"""What packages bring to Splarn, found by the entry points that they name in their metadata.

Splarn's own engines and depots are found in the same way as those of others.
"""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING, Any

from splarn.core.errors import RequestError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

ENGINES, DEPOTS, CODECS = "splarn.engines", "splarn.depots", "splarn.codecs"


@lru_cache(maxsize=8)
def _entries(group: str) -> dict[str, EntryPoint]:
    from importlib.metadata import entry_points

    return {entry.name: entry for entry in entry_points(group=group)}


def names(group: str) -> list[str]:
    """The names that are found in a group, sorted."""
    return sorted(_entries(group))


@lru_cache(maxsize=64)
def load(group: str, name: str) -> Any:
    """What an entry point names. Raises RequestError where it cannot be imported.

    A driver that is missing is another matter: engines import theirs when they connect.
    """
    entry = _entries(group)[name]
    try:
        return entry.load()
    except (ImportError, AttributeError) as error:
        package = entry.dist.name if entry.dist else "a package"
        raise RequestError(
            f"{package} names {entry.value} for {name}, which cannot be imported ({error}): mend "
            "or remove that package."
        ) from None
