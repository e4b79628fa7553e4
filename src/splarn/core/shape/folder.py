"""The parts' folder while a shape is at work: marked, resumable, and cleared only of its own."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any

import xxhash

from splarn.core.errors import RequestError
from splarn.core.reading.faults import Fault
from splarn.core.shape.manifest import MANIFEST, UNFINISHED, Part, SourceRange
from splarn.core.shape.slices import Count
from splarn.core.shape.task import Cut
from splarn.core.source.content import Identity
from splarn.core.source.leaves import Stretch
from splarn.core.source.places import Place
from splarn.core.work.disk import ASIDE, is_bare, outside
from splarn.core.work.owner import lives


def fingerprint(paths: Sequence[Place], *settings: Any) -> str:
    """What tells one request from another: the files as they are now, and the settings."""
    with outside("Looking at the source"):
        looks = [(str(path), path.stat()) for path in paths]
    files = [(name, status.st_size, status.st_mtime_ns) for name, status in looks]
    return xxhash.xxh3_128_hexdigest(json.dumps([files, *settings], default=str).encode())


def part_name(name: str) -> str:
    """What parts of a layout are named after: its name in letters that every place takes."""
    return re.sub(r"[^a-z0-9_]+", "-", name.lower()).strip("-")[:60] or "rows"


class Unfinished:
    """The mark in a folder whose parts are not complete, with those that are whole already.

    The same request given again finds their cuts in `done`, by the stem of their names, and in
    `ended` the stems that lack none. Another request, or `again`, clears what is there first.
    Raises RequestError when the folder holds finished parts or other files.
    """

    def __init__(
        self,
        folder: Path,
        request: str,
        again: bool,
        name: str,
        stands: Callable[[Part], bool] | None = None,
    ) -> None:
        """`stands` says whether a part that is noted need not be made again; files do, if None."""
        self.folder = folder
        self._stands = stands or self._is_there
        self.name = name
        self.path = folder / UNFINISHED
        self.done: dict[str, list[Cut]] = {}
        self.ended: set[str] = set()
        if folder.exists() and not folder.is_dir():
            raise RequestError(f"{folder} is a file: name a folder for the parts.")
        if (folder / MANIFEST).exists() and not again:
            raise RequestError(
                f"{folder} already holds parts and their manifest: name another folder, or give "
                "--again to make them anew."
            )
        if (folder / MANIFEST).exists():
            self.clear()
        elif self.path.exists():
            self._resume(request)
        elif folder.exists() and not is_bare(folder):
            raise RequestError(
                f"The folder {folder} holds other files: name an empty or a new one for the parts."
            )
        if not self.path.exists():
            with outside(f"Making the folder {folder}"):
                folder.mkdir(parents=True, exist_ok=True)
                mark = {"request": request, "name": name, "process": os.getpid()}
                self.path.write_text(json.dumps(mark) + "\n", encoding="utf-8")
        elif self.done or self.ended:
            self._append({"process": os.getpid()})

    def add(self, stem: str, cut: Cut) -> None:
        """Notes that a cut's parts are whole. Raises OutsideError when the disk refuses."""
        self._append({"stem": stem, "cut": asdict(cut)})

    def end(self, stem: str) -> None:
        """Notes that no more cuts will come. Raises OutsideError when the disk refuses."""
        self._append({"stem": stem})

    def _append(self, entry: dict[str, Any]) -> None:
        line = json.dumps(entry) + "\n"
        with outside(f"Writing {self.path}"), self.path.open("a", encoding="utf-8") as file:
            file.write(line)

    def finish(self) -> None:
        """Takes the mark away, and what was never finished."""
        self.sweep()
        self.path.unlink(missing_ok=True)

    def sweep(self) -> None:
        """Removes files that were begun and never came to be parts."""
        made = self._made()
        for path in self.folder.rglob(f"*{ASIDE}"):
            if made.fullmatch(path.name):
                path.unlink(missing_ok=True)

    def _made(self) -> re.Pattern[str]:
        """The names of what a shape puts into the folder."""
        names = "|".join(map(re.escape, self._names()))
        return re.compile(rf"(?:{names})-[0-9]{{4,}}[-0-9]*\..+")

    def clear(self) -> None:
        """Removes what a shape has put into the folder, by the names that it gives to parts."""
        made = self._made()
        for path in self.folder.rglob("*"):
            # What lies deeper than its partitions is another shape's.
            if not all("=" in one for one in path.relative_to(self.folder).parts[:-1]):
                continue
            if made.fullmatch(path.name) or path.name in (MANIFEST, UNFINISHED):
                path.unlink(missing_ok=True)
        for path in sorted(self.folder.rglob("*=*"), reverse=True):
            if path.is_dir() and not any(path.iterdir()):
                path.rmdir()

    def _names(self) -> set[str]:
        """What the parts of this shape and of the one before it are named after."""
        # An earlier Splarn named all parts alike.
        stems = {self.name, "part"}
        broken = (OSError, ValueError, KeyError, TypeError, IndexError)
        with suppress(*broken):
            stems.add(
                str(json.loads(self.path.read_text(encoding="utf-8").splitlines()[0])["name"])
            )
        with suppress(*broken):
            document = json.loads((self.folder / MANIFEST).read_text(encoding="utf-8"))
            names = (Path(str(one["path"])).name for one in document["resources"])
            stems |= {named[1] for one in names if (named := re.match(r"(.+?)-[0-9]{4}", one))}
        return stems

    def _resume(self, request: str) -> None:
        try:
            first, *lines = self.path.read_text(encoding="utf-8").splitlines()
            if json.loads(first)["request"] != request:
                raise ValueError("another request")
            for line in lines:
                entry = json.loads(line)
                if "process" in entry:
                    # Another one went on with it.
                    continue
                if "cut" not in entry:
                    self.ended.add(entry["stem"])
                    continue
                cut = _cut(entry["cut"])
                if not all(self._stands(part) for part in cut.parts):
                    raise ValueError("a part is gone")
                self.done.setdefault(entry["stem"], []).append(cut)
        except (ValueError, KeyError, TypeError):
            # Another request's, or cut off by a crash: begin anew.
            self.done, self.ended = {}, set()
            self.clear()

    @staticmethod
    def at_work(mark: Path) -> bool:
        """Whether the process that last went on with a folder of this mark still lives."""
        processes = []
        with suppress(OSError, ValueError, TypeError, AttributeError):
            for line in mark.read_text(encoding="utf-8").splitlines():
                processes.append(json.loads(line).get("process"))
        known = [one for one in processes if isinstance(one, int)]
        return bool(known) and lives(known[-1])

    def _is_there(self, part: Part) -> bool:
        path = self.folder / part.path
        return path.is_file() and path.stat().st_size == part.bytes


def _cut(fields: dict[str, Any]) -> Cut:
    parts = tuple(
        Part(**{**part, "source": tuple(SourceRange(**piece) for piece in part["source"])})
        for part in fields["parts"]
    )
    counts = tuple(
        Count(**{**count, "faults": tuple(Fault(**fault) for fault in count["faults"])})
        for count in fields["counts"]
    )
    contents = tuple(
        (str(path), Identity(**identity)) for path, identity in fields.get("contents", ())
    )
    stretches = tuple(
        (str(path), Stretch(**stretch)) for path, stretch in fields.get("stretches", ())
    )
    return Cut(parts, counts, contents, stretches)
