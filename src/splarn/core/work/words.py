"""The nearest right word to one that is not known."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from pathlib import Path


def near(word: str, known: Iterable[str]) -> str | None:
    """The known word that is most like another, None where none is near."""
    # What all of them begin with tells nothing.
    bare = {one.strip("-").lower(): one for one in known}
    found = difflib.get_close_matches(word.strip("-").lower(), bare, 1, 0.65)
    return bare[found[0]] if found else None


def nearest(word: str, known: Iterable[str]) -> str:
    """` (the nearest is …)`, to be put behind a word that is not known; empty where none is."""
    found = near(word, known)
    return f" (the nearest is {found})" if found else ""


def nearest_path(path: Path) -> str:
    """The same for a path that is not there, by what its folder holds."""
    missing = path
    while not missing.parent.is_dir() and missing.parent != missing:
        missing = missing.parent
    try:
        beside = [one.name for one in missing.parent.iterdir()]
    except OSError:
        return ""
    found = near(missing.name, beside)
    return f" (the nearest is {missing.parent / found})" if found else ""
