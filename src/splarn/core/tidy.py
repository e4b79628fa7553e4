"""What sweeps, runs and shapes that did not come to their end have left, and its removal."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from splarn.core.ledger import FOLDER, Ledger
from splarn.core.load.landing import Landing
from splarn.core.shape.folder import Unfinished
from splarn.core.shape.manifest import UNFINISHED
from splarn.core.target.session import OpenEngine, Session
from splarn.core.tuning.trial_table import left_tables, remove_table
from splarn.core.work.disk import outside
from splarn.core.work.owner import is_owned, lives, owner_note

# How temporary folders of sweeps are called, the process that uses one behind it.
SCRATCH = "splarn-sweep-"
# How deep below the job's folder shapes are looked for.
DEPTH = 3


@dataclass(frozen=True)
class Leftover:
    """Something that nobody works on any more: what it is, where, bytes, and how it is removed."""

    what: str
    where: str
    bytes: int
    remove: Callable[[], None] = field(compare=False, repr=False)


def scratch_prefix() -> str:
    """How the temporary folder of a sweep of this process is to begin."""
    return f"{SCRATCH}{os.getpid()}-"


def left_here(folder: Path, ledger: Ledger) -> list[Leftover]:
    """Leftovers on this machine: of sweeps that were killed, of runs, and of shapes in the folder.

    Raises OutsideError when something cannot be looked at.
    """
    with outside(f"Looking for leftovers in {folder}"):
        return [*_scratch(folder), *_parts_of_runs(folder, ledger), *_shapes(folder)]


def left_in_target(
    open_engine: OpenEngine, keeper: Session, landing: Callable[[str], Landing] | None
) -> list[Leftover]:
    """Tables of trials, with their parts in a depot, whose sweeps were killed.

    `keeper` claims those sweeps, so that none goes on for as long as it lives. Raises OutsideError.
    """
    place = open_engine().place
    return [
        Leftover(
            "a table of a sweep's trials",
            f"{note.table} in {place}",
            0,
            partial(remove_table, open_engine, note, landing),
        )
        for note in left_tables(keeper)
    ]


def _scratch(folder: Path) -> Iterator[Leftover]:
    # That of sweeps on a cluster is where all of its machines see it.
    begun = [*Path(tempfile.gettempdir()).glob(f"{SCRATCH}*"), *folder.glob(f"{SCRATCH}*")]
    for path in dict.fromkeys(begun):
        owner = path.name.removeprefix(SCRATCH).partition("-")[0]
        mine = path.is_dir() and path.stat().st_uid == os.getuid()
        if mine and owner.isdigit() and not lives(int(owner)):
            yield _folder("the sample and parts of a sweep that was killed", path)


def _parts_of_runs(folder: Path, ledger: Ledger) -> Iterator[Leftover]:
    over = {entry.parent for entry in ledger.entries("run")}
    for path in sorted((folder / FOLDER / "parts").glob("*")):
        if path.is_dir() and not is_owned(path):
            ended = "that is over" if path.name in over else "that did not end"
            yield _folder(f"the parts of a run {ended}", path)


def _shapes(folder: Path) -> Iterator[Leftover]:
    for depth in range(1, DEPTH + 1):
        for mark in sorted(folder.glob("/".join(["*"] * depth) + f"/{UNFINISHED}")):
            if FOLDER in mark.relative_to(folder).parts or Unfinished.at_work(mark):
                continue
            yield Leftover(
                "a shape that did not end",
                str(mark.parent),
                _size(mark.parent),
                partial(_forget_shape, mark),
            )


def _forget_shape(mark: Path) -> None:
    """Removes what the shape made, by the names that it gives, and nothing else."""
    with outside(f"Removing {mark.parent}"):
        begun = json.loads(mark.read_text(encoding="utf-8").splitlines()[0])
        Unfinished(mark.parent, str(begun["request"]), False, str(begun["name"])).clear()
        if not any(mark.parent.iterdir()):
            mark.parent.rmdir()


def _folder(what: str, path: Path) -> Leftover:
    def remove() -> None:
        with outside(f"Removing {path}"):
            shutil.rmtree(path)
            owner_note(path).unlink(missing_ok=True)

    return Leftover(what, str(path), _size(path), remove)


def _size(path: Path) -> int:
    return sum(one.stat().st_size for one in path.rglob("*") if one.is_file())
