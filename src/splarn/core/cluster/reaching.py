"""Whether a worker sees the same places as the machine that the command was given on.

A file is the same where size and last change are; of many in one folder some stand for all. A
folder that is to be written into is told by a small file with a random name that this machine puts
there.
"""

from __future__ import annotations

import os
import secrets
import time
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError, SplarnError
from splarn.core.source.archives import Member
from splarn.core.source.places import Place, Remote
from splarn.core.source.secrets import filled
from splarn.core.target.session import OpenEngine
from splarn.core.work.disk import ASIDE, BEACON, explain, outside

# What to do where a worker does not see what this machine does.
PLACES = (
    "name places that all machines reach, such as an object store, an HTTP store or a shared folder"
)
TARGETS = "give an address that every machine reaches"
# Beacons so old, in seconds, are of commands that are gone.
OLD = 86_400.0
# So many files stand for those of one folder.
OF_A_FOLDER = 2


@dataclass(frozen=True)
class Reach:
    """Places that a session needs: files with size and time, folders with the name of a beacon,
    remote files with their size, targets. `version` grows with them.
    """

    version: int = 0
    files: tuple[tuple[str, int, int], ...] = ()
    folders: tuple[tuple[str, str], ...] = ()
    remotes: tuple[tuple[Remote, int], ...] = ()
    targets: tuple[OpenEngine, ...] = ()

    def reading(self, places: Sequence[Place]) -> Reach:
        """With files that are to be read. Raises OutsideError where one is not there."""
        files, remotes = [], []
        seen: dict[str, int] = {}
        for one in places:
            path = one.archive if isinstance(one, Member) else one
            folder = path.url.rpartition("/")[0] if isinstance(path, Remote) else str(path.parent)
            seen[folder] = seen.get(folder, 0) + 1
            if seen[folder] > OF_A_FOLDER:
                continue
            if isinstance(path, Remote):
                remotes.append((path, path.stat().st_size))
                continue
            with outside(f"Looking at {path}"):
                status = path.stat()
            files.append((str(path.absolute()), status.st_size, status.st_mtime_ns))
        return self._with(files=(*self.files, *files), remotes=(*self.remotes, *remotes))

    def writing(self, folder: Path, beacons: Beacons) -> Reach:
        """With a folder that parts or rejects go into; it need not be there yet."""
        at, name = beacons.beside(folder)
        return self._with(folders=(*self.folders, (str(at), name)))

    def into(self, open_engine: OpenEngine) -> Reach:
        """With a target that workers connect to."""
        return self._with(targets=(*self.targets, open_engine))

    def _with(self, **more: Any) -> Reach:
        return replace(self, version=self.version + 1, **more)

    def problems(self) -> tuple[str, ...]:
        """What a worker cannot see as the client does, each as the rest of a sentence."""
        looks: list[tuple[str, Callable[[], str | None]]] = [
            *((path, partial(_file, path, size, at)) for path, size, at in self.files),
            *((folder, partial(_folder, folder, beacon)) for folder, beacon in self.folders),
            *((str(remote), partial(_remote, remote, size)) for remote, size in self.remotes),
        ]
        found = [f"{told}: {PLACES}" for what, look in looks for told in _tried(what, look)]
        for target in self.targets:
            told = _tried("the target", partial(_connected, target))
            found += [f"{one}: {TARGETS}" for one in told]
        return tuple(dict.fromkeys(found))


class Beacons:
    """Small files that show a worker that a folder is the one meant; removed in the end."""

    def __init__(self) -> None:
        self._made: dict[Path, str] = {}

    def beside(self, folder: Path) -> tuple[Path, str]:
        """Where the beacon for a folder lies: in it, or in the nearest above it that is there."""
        at = folder.absolute()
        while not at.is_dir():
            at = at.parent
        if at not in self._made:
            name = f"{BEACON}{secrets.token_hex(8)}{ASIDE}"
            try:
                for left in at.glob(f"{BEACON}*{ASIDE}"):
                    if left.stat().st_mtime < time.time() - OLD:
                        # Of a command that was killed.
                        left.unlink(missing_ok=True)
                (at / name).write_bytes(b"")
            except OSError as error:
                raise RequestError(
                    f"Nothing can be written into {at}, which workers are to write into: "
                    f"{explain(error)}."
                ) from None
            self._made[at] = name
        return at, self._made[at]

    def remove(self) -> None:
        """Takes all of them away."""
        for folder, name in self._made.items():
            with suppress(OSError):
                (folder / name).unlink(missing_ok=True)
        self._made.clear()


def _tried(what: str, look: Callable[[], str | None]) -> Iterable[str]:
    try:
        told = look()
    except SplarnError as error:
        return [f"does not reach {what}: {str(error).rstrip('.')}"]
    except OSError as error:
        return [f"does not reach {what}: {explain(error)}"]
    return [told] if told else []


def _connected(target: OpenEngine) -> None:
    target().connect().close()


def _file(path: str, size: int, changed: int) -> str | None:
    try:
        status = Path(path).stat()
    except FileNotFoundError:
        return f"does not see {path}: it is not there"
    same = (status.st_size, status.st_mtime_ns) == (size, changed)
    return None if same else f"has another file at {path}"


def _folder(folder: str, beacon: str) -> str | None:
    if not (Path(folder) / beacon).exists():
        return f"does not see the folder {folder} that this machine has"
    return None if os.access(folder, os.W_OK) else f"may not write into {folder}"


def _remote(remote: Remote, size: int) -> str | None:
    # Names of secrets are filled in where the file is opened; one that is missing shows here.
    filled(remote.url, str(remote))
    found = remote.stat().st_size
    return None if found == size else f"finds another file at {remote}"
