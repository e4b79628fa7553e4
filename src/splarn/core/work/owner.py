"""Who works on a folder at this moment, so that nobody clears it away meanwhile."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from splarn.core.work.disk import outside

OWNER = ".{name}.splarn-owner"


def lives(process: int) -> bool:
    """Whether a process of this number runs on this machine, be it another one by now."""
    import psutil

    return bool(psutil.pid_exists(process))


def owner_note(folder: Path) -> Path:
    """Where it is noted who works on a folder: beside it, since it may have to be empty."""
    return folder.with_name(OWNER.format(name=folder.name))


@contextmanager
def owned(folder: Path) -> Iterator[None]:
    """Notes that this process works on a folder for as long as this lasts.

    Raises OutsideError when the disk refuses.
    """
    note = owner_note(folder)
    with outside(f"Writing {note}"):
        note.parent.mkdir(parents=True, exist_ok=True)
        note.write_text(str(os.getpid()), encoding="utf-8")
    try:
        yield
    finally:
        note.unlink(missing_ok=True)


def is_owned(folder: Path) -> bool:
    """Whether a living process works on a folder."""
    try:
        return lives(int(owner_note(folder).read_text(encoding="utf-8")))
    except (OSError, ValueError):
        return False
