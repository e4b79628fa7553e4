"""Small files written whole or not at all, and what the operating system refuses, as sentences."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from splarn.core.errors import OutsideError

# Names that end like this are Splarn's unfinished business and never data.
ASIDE = ".splarn-unfinished"
# How a file begins by which workers elsewhere know a folder; it ends as the others.
BEACON = ".reach-"


def is_bare(folder: Path) -> bool:
    """Whether nothing lies in a folder but what tells workers elsewhere that it is the one."""
    return all(one.name.startswith(BEACON) for one in folder.iterdir())


@contextmanager
def outside(what: str) -> Iterator[None]:
    """Turns an operating-system error into one sentence that names what was being done.

    Raises OutsideError in place of any OSError.
    """
    try:
        yield
    except OSError as error:
        raise OutsideError(f"{what} failed: {explain(error)}.") from error


def explain(error: OSError) -> str:
    """The operating system's reason with what to do, without its error number."""
    name = f" ({error.filename})" if error.filename else ""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"the disk is full{name}; free some space and run the same command again"
    if error.errno == errno.EACCES:
        return f"permission denied{name}; check who owns it"
    return f"{(error.strerror or str(error)).lower()}{name}"


def write_text(path: Path, text: str) -> None:
    """Writes a small text file aside and renames it when whole.

    Raises OutsideError when the disk refuses.
    """
    write_bytes(path, text.encode())


def write_bytes(path: Path, data: bytes) -> None:
    """Writes a small file aside and renames it when whole.

    Raises OutsideError when the disk refuses.
    """
    temporary = path.with_name(path.name + ASIDE)
    with outside(f"Writing {path}"):
        path.parent.mkdir(parents=True, exist_ok=True)
        try:
            temporary.write_bytes(data)
            temporary.replace(path)
        except OSError:
            temporary.unlink(missing_ok=True)
            raise


def forget_files(paths: Iterable[Path]) -> None:
    """Has the system read these files from the disk when they are next wanted, where it can.

    Raises OutsideError when one cannot be opened.
    """
    for path in paths:
        with outside(f"Reading {path}"), path.open("rb") as file:
            # What is not yet on the disk cannot be forgotten.
            os.fsync(file.fileno())
            if hasattr(os, "posix_fadvise"):
                os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
