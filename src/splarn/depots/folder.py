"""A folder as a depot: files are written aside and renamed when whole."""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable, Iterator
from pathlib import Path

from splarn.core.errors import OutsideError
from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.ship.depot import Depot, Stored
from splarn.core.ship.ranges import Ranges
from splarn.core.source.files import LEAVING
from splarn.core.source.places import Place, blocks_in
from splarn.core.source.retry import Unready
from splarn.core.source.source import same_file
from splarn.core.work.disk import ASIDE, outside
from splarn.depots import reopened


class FolderDepot:
    """Files below a folder, which is made when the first arrives."""

    remote = False

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.place = str(folder)
        self._ranges = Ranges()

    def __reduce__(self) -> tuple[Callable[[str], Depot], tuple[str]]:
        return reopened, (str(self.folder.absolute()),)

    def find(self, name: str) -> Stored | None:
        """See Depot."""
        path = self.folder / name
        if not path.is_file():
            return None
        with outside(f"Reading {path}"):
            digest, size = digest_of(blocks_of(path))
        return Stored(name, size, digest)

    def holds(self, name: str, source: Place) -> bool:
        """See Depot. By device and inode, so that links are seen through."""
        path = self.folder / name
        return path.exists() and same_file(source, path)

    def put(self, name: str, blocks: Iterator[bytes], size: int, digest: str) -> Stored:
        """See Depot. What was written is read again, since a disk may lie."""
        path = self.folder / name
        # Two shippers of one file do not write into the same one.
        temporary = path.with_name(f"{path.name}.{secrets.token_hex(3)}{ASIDE}")
        try:
            with outside(f"Writing {path}"):
                path.parent.mkdir(parents=True, exist_ok=True)
                with temporary.open("wb") as file:
                    for block in blocks:
                        file.write(block)
                    file.flush()
                    os.fsync(file.fileno())
            arrived = self.find(str(temporary.relative_to(self.folder)))
            if arrived is None or (arrived.size, arrived.digest) != (size, digest):
                raise Unready(f"what was written of {name} is not what was read")
            with outside(f"Writing {path}"):
                temporary.replace(path)
        finally:
            temporary.unlink(missing_ok=True)
        return Stored(name, size, digest)

    def get(self, name: str, first: int = 0, end: int | None = None) -> Iterator[bytes]:
        """See Depot."""
        path = self.folder / name
        with outside(f"Reading {path}"), path.open("rb") as file:
            yield from blocks_in(file, first, end)

    def ranged(self) -> bool:
        """See Depot."""
        return True

    def held(self, name: str, size: int, digest: str) -> list[tuple[int, int]]:
        """See Depot."""
        return self._ranges.held(self.folder / name, size, digest)

    def put_range(
        self, name: str, blocks: Iterator[bytes], span: tuple[int, int], size: int, digest: str
    ) -> None:
        """See Depot."""
        path = self.folder / name
        with outside(f"Writing {path}"):
            self._ranges.put(path, blocks, span, size, digest)

    def delete(self, name: str) -> None:
        """See Depot."""
        with outside(f"Removing {self.folder / name}"):
            (self.folder / name).unlink(missing_ok=True)

    def names(self) -> list[str]:
        """See Depot."""
        if not self.folder.is_dir():
            raise OutsideError(f"There is no folder {self.folder}: ship something to it first.")
        files = (path for path in self.folder.rglob("*") if path.is_file())
        return sorted(
            path.relative_to(self.folder).as_posix()
            for path in files
            if not path.name.endswith((ASIDE, LEAVING))
        )

    def close(self) -> None:
        """See Depot."""
