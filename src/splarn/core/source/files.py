"""Plain file work that every stage shares: finding, whole-or-nothing writing, hashing."""

from __future__ import annotations

import glob
import os
import re
import stat
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from fnmatch import fnmatch
from pathlib import Path

from splarn.core.errors import RequestError
from splarn.core.source.archives import Member, archive_kind, members_of
from splarn.core.source.places import Place, Remote, find_remote, open_place, place
from splarn.core.work.disk import ASIDE, outside
from splarn.core.work.words import nearest_path

# Where an object ends at the edge and another begins.
_NEXT_OBJECT = re.compile(rb"^\}\s*\{", re.MULTILINE)
# A file on its way out, until its copy is proven: one that a kill left behind has its name again.
LEAVING = ".splarn-leaving"


def find_files(
    places: Iterable[str | Path],
    base: Path | None = None,
    skipped: list[tuple[Path, str]] | None = None,
) -> list[Place]:
    """Every file that the given files, folders, patterns and URLs name, sorted, each once.

    Folders are walked; hidden files, manifests, layouts and unfinished parts in them are left out.
    What is no file is left out and put into `skipped`, with what it is.
    Raises RequestError when a place names nothing, OutsideError when it cannot be reached.
    """
    files: dict[Place, None] = {}
    for text in places:
        path = place(text)
        if isinstance(path, Remote):
            files.update(dict.fromkeys(find_remote(path.url)))
            continue
        if isinstance(path, Member):
            files[path] = None
            continue
        if base is not None and not path.is_absolute():
            path = base / path
        passed_over = [] if skipped is None else skipped
        bring_back(path)
        if path.is_dir():
            hits = _walk(path, passed_over)
            if not hits and not passed_over:
                raise RequestError(f"The folder {path} holds no data files: name another place.")
        elif path.exists():
            hits = [path] if path.is_file() else []
            if not hits:
                passed_over.append((path, kind_of(path.stat().st_mode)))
        else:
            names = sorted(glob.glob(str(path), recursive=True))  # noqa: PTH207
            hits = [Path(hit) for hit in names if Path(hit).is_file() and _is_data(hit)]
            passed_over += [
                (Path(hit), kind_of(Path(hit).stat().st_mode))
                for hit in names
                if Path(hit).exists() and not Path(hit).is_file() and not Path(hit).is_dir()
            ]
            if not hits:
                raise RequestError(
                    f"There is no file or folder {path}{nearest_path(path)}: check the spelling."
                )
        files.update(dict.fromkeys(hits))
    return list(files)


def opened_up(places: Iterable[Place]) -> list[Place]:
    """The same with the members of an archive in its place, and the sheets of a spreadsheet.

    Raises OutsideError when one is damaged, RequestError when there is nothing in it.
    """
    opened: list[Place] = []
    for path in places:
        kind = archive_kind(path) if isinstance(path, Path) else None
        if kind is None or not isinstance(path, Path):
            opened.append(path)
            continue
        members = members_of(path, kind)
        if not members:
            raise RequestError(f"There are no files in the archive {path}: leave it out.")
        opened += members
    return opened


def kind_of(mode: int) -> str:
    """What is not a plain file is called."""
    kinds: tuple[tuple[Callable[[int], bool], str], ...] = (
        (stat.S_ISFIFO, "a pipe"),
        (stat.S_ISSOCK, "a socket"),
        (stat.S_ISBLK, "a device"),
        (stat.S_ISCHR, "a device"),
        (stat.S_ISDIR, "a folder"),
    )
    return next((name for test, name in kinds if test(mode)), "of another kind")


def bring_back(path: Path) -> None:
    """Gives a file its name again that was to be removed when a shipment broke off."""
    leaving = path.with_name(path.name + LEAVING) if path.name else path
    if not path.exists() and leaving.is_file():
        with outside(f"Bringing back {path}"):
            leaving.rename(path)


def _walk(folder: Path, skipped: list[tuple[Path, str]]) -> list[Path]:
    """The data files below a folder, sorted. Links to folders are not followed: they may loop."""
    paths: list[str] = []
    left = [str(folder)]
    while left:
        with outside("Looking into the folder"), os.scandir(left.pop()) as entries:
            for entry in entries:
                name = entry.name
                if name.startswith("."):
                    continue
                if entry.is_dir(follow_symlinks=False):
                    left.append(entry.path)
                elif _is_file(entry):
                    path = entry.path
                    if name.endswith(LEAVING):
                        path = path.removesuffix(LEAVING)
                        if Path(path).exists():
                            continue
                        bring_back(Path(path))
                    if _is_data(path):
                        paths.append(path)
                else:
                    skipped.append((Path(entry.path), _kind_of(entry)))
    return [Path(path) for path in sorted(paths)]


def _is_file(entry: os.DirEntry[str]) -> bool:
    try:
        return entry.is_file()
    except OSError:
        return False


def _kind_of(entry: os.DirEntry[str]) -> str:
    try:
        mode = entry.stat().st_mode
    except OSError:
        return "a link that leads nowhere"
    if stat.S_ISDIR(mode):
        return "a link to a folder, which is not followed"
    return kind_of(mode)


def _is_data(path: str) -> bool:
    name = path.rpartition(os.sep)[2]
    if name.startswith(".") or name.endswith((".toml", ".md", ASIDE, LEAVING)):
        return False
    return not name.endswith(".json") or _is_records(path)


def _is_records(path: str) -> bool:
    """Whether a JSON file holds records, unlike layouts and manifests."""
    try:
        with Path(path).open("rb") as file:
            head = file.read(1 << 16)
    except OSError:
        return True
    text = head.lstrip()
    if text[:1] == b"[":
        return text[1:].lstrip()[:1] == b"{"
    # An object a line, or several objects; a single one is a layout, a manifest or the like.
    one_line = text.split(b"\n", 1)[0].rstrip().endswith(b"}")
    return one_line or _NEXT_OBJECT.search(text) is not None


@dataclass(frozen=True)
class Only:
    """A filter of files by name pattern, size in bytes, and seconds since the last change."""

    name: str | None = None
    larger: int | None = None
    smaller: int | None = None
    newer: float | None = None
    older: float | None = None

    def keeps(self, path: Place) -> bool:
        """Whether a file passes. Raises OutsideError when it is gone."""
        if self.name is not None and not fnmatch(path.name, self.name):
            return False
        if (self.larger, self.smaller, self.newer, self.older) == (None,) * 4:
            return True
        with outside(f"Looking at {path}"):
            status = path.stat()
        age = time.time() - status.st_mtime
        return (
            (self.larger is None or status.st_size >= self.larger)
            and (self.smaller is None or status.st_size <= self.smaller)
            and (self.newer is None or age <= self.newer)
            and (self.older is None or age >= self.older)
        )


def content_hash(path: Place, block: int = 1 << 20) -> str:
    """The hash of a file's bytes as `xxh3-128:HEX`.

    Raises OutsideError when the file cannot be read.
    """
    import xxhash

    state = xxhash.xxh3_128()
    with outside(f"Reading {path}"), open_place(path) as file:
        while data := file.read(block):
            state.update(data)
    return f"xxh3-128:{state.hexdigest()}"
