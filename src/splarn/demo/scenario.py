"""Larkmere Waterways: passages of boats through locks, as CSV files of uneven size.

Rows are made in blocks of columns, so that any number of them takes the same memory. A known share
is spoiled in known ways, and `truth.json` says which rows those are.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from splarn.core.errors import RequestError
from splarn.core.records.lines import joined_lines
from splarn.core.work.disk import outside
from splarn.core.work.progress import Progress, Silent

BLOCK_ROWS = 200_000
SPOILED_SHARE = 0.0002
# How the rows are spread over the quarters' files: real deliveries are never even.
FILE_SHARES = (0.46, 0.07, 0.31, 0.01, 0.15)
HEADER = "passage_no,lock_code,boat,direction,entered,cleared,draught_cm,cargo_t,toll,note\n"
FIRST_DAY = np.datetime64("2031-01-01T00:00:00")
SPOILS = ("no number", "no such day", "column missing", "column too many", "no passage number")

_ADJECTIVES = ("Grey", "Patient", "Old", "Second", "Quiet", "Copper", "Long", "Merry", "Late")
_NOUNS = (
    "Heron",
    "Lantern",
    "Otter",
    "Kettle",
    "Willow",
    "Anvil",
    "Moorhen",
    "Ferryman",
    "Thistle",
)
_REMARKS = (
    "waited for the lower pound",
    "gate {n} slow to close",
    "crew of {n}, none hurried",
    "told to moor, then waved on",
    'signed in as "temporary"',
    "paddle {n} stiff, greased; see log",
    "two on board\nlines handed up late",
    'master said "no hurry", stayed {n} minutes',
    "ballast shifted,\ntrimmed before the next lock",
)


@dataclass(frozen=True)
class Spoiled:
    """One row spoiled on purpose. `row` counts from 1 after the header of its file."""

    file: str
    row: int
    kind: str


@dataclass(frozen=True)
class Delivery:
    """The files made, how many rows they hold, and which of them are spoiled."""

    paths: tuple[Path, ...]
    rows: int
    bytes: int
    spoiled: tuple[Spoiled, ...]

    @property
    def good(self) -> int:
        """Rows that can be loaded."""
        return self.rows - len(self.spoiled)


def make_passages(folder: Path, rows: int, seed: int, progress: Progress | None = None) -> Delivery:
    """Writes the passages files and `truth.json` into `folder`; the same seed, the same bytes.

    Raises OutsideError when the disk refuses.
    """
    watch = progress or Silent()
    watch.start("generate", rows, "rows")
    shares = np.array(FILE_SHARES)
    counts = np.floor(shares / shares.sum() * rows).astype(int)
    counts[0] += rows - counts.sum()
    paths: list[Path] = []
    spoiled: list[Spoiled] = []
    total = 0
    first = 1
    with outside(f"Writing the demo's data to {folder}"):
        folder.mkdir(parents=True, exist_ok=True)
        for number, count in enumerate(counts.tolist(), 1):
            path = folder / f"passages-{number:02d}.csv"
            random = np.random.default_rng([seed, number])
            with path.open("wb") as file:
                file.write(HEADER.encode())
                done = 0
                for block, spoils in _blocks(random, first, count):
                    file.write(block)
                    spoiled += [Spoiled(path.name, done + row + 1, kind) for row, kind in spoils]
                    made = min(BLOCK_ROWS, count - done)
                    done += made
                    watch.advance(made)
            first += count
            paths.append(path)
            total += path.stat().st_size
        truth = {
            "rows": rows,
            "good": rows - len(spoiled),
            "seed": seed,
            "spoiled": [asdict(entry) for entry in spoiled],
        }
        (folder / "truth.json").write_text(json.dumps(truth, indent=1) + "\n")
    watch.finish()
    return Delivery(tuple(paths), rows, total, tuple(spoiled))


def known_passages(folder: Path) -> Delivery:
    """What `make_passages` has written into a folder.

    Raises OutsideError when it cannot be read, RequestError when it is not what was written.
    """
    with outside(f"Reading the demo's data in {folder}"):
        try:
            truth = json.loads((folder / "truth.json").read_text())
            spoiled = tuple(Spoiled(**entry) for entry in truth["spoiled"])
            rows = int(truth["rows"])
        except (ValueError, TypeError, KeyError):
            raise RequestError(
                f"{folder / 'truth.json'} is not what the demo wrote: name another folder with "
                "--into."
            ) from None
        paths = tuple(sorted(folder.glob("passages-*.csv")))
        return Delivery(paths, rows, sum(path.stat().st_size for path in paths), spoiled)


def _blocks(
    random: np.random.Generator, first: int, count: int
) -> Iterator[tuple[bytes, list[tuple[int, str]]]]:
    for start in range(0, count, BLOCK_ROWS):
        size = min(BLOCK_ROWS, count - start)
        columns = _columns(random, first + start, size)
        chosen = np.flatnonzero(random.random(size) < SPOILED_SHARE).tolist()
        spoils = [(row, SPOILS[int(random.integers(len(SPOILS)))]) for row in chosen]
        yield _lines(columns, spoils), spoils


def _columns(random: np.random.Generator, first: int, size: int) -> list[Any]:
    """The ten columns as text, quoted where they need it."""
    entered = FIRST_DAY + (random.random(size) * 365 * 86400).astype("timedelta64[s]")
    stay = random.gamma(4.0, 210.0, size).astype("timedelta64[s]")
    cleared = _text(pa.array(entered + stay))
    draught = np.clip(random.normal(110, 28, size), 30, 240).astype(int)
    empty = random.random(size) < 0.35
    cargo = np.where(empty, 0, random.gamma(3.0, 900.0, size)).astype(int)
    toll = 250 + draught * 3 + cargo // 12
    return [
        _text(pa.array(np.arange(first, first + size))),
        _picked(random, size, [f"LK-{number:03d}" for number in range(1, 61)]),
        _picked(random, size, _boats()),
        _picked(random, size, ["up", "down"]),
        _text(pa.array(entered)),
        # Some boats never left: their passage was called off.
        _blanked(cleared, random.random(size) < 0.01),
        _text(pa.array(draught)),
        _blanked(_hundredths(cargo), empty),
        _hundredths(toll),
        _picked(random, size, _notes()),
    ]


def _text(array: Any) -> Any:
    return array.cast(pa.string())


def _hundredths(values: Any) -> Any:
    whole = _text(pa.array(values // 100))
    cents = pc.utf8_lpad(_text(pa.array(values % 100)), 2, "0")
    return pc.binary_join_element_wise(whole, cents, ".")


def _blanked(text: Any, where: Any) -> Any:
    return pc.if_else(pa.array(where), pa.scalar(""), text)


def _picked(random: np.random.Generator, size: int, values: list[str]) -> Any:
    return pa.array(values).take(pa.array(random.integers(len(values), size=size)))


def _boats() -> list[str]:
    names = [f"{adjective} {noun}" for adjective in _ADJECTIVES for noun in _NOUNS]
    return [*names, *(_quoted(f'The "{noun}", tender') for noun in _NOUNS)]


def _notes() -> list[str]:
    notes = [_quoted(remark.format(n=number)) for remark in _REMARKS for number in range(2, 9)]
    return notes + [""] * len(notes)


def _quoted(value: str) -> str:
    if any(mark in value for mark in ',"\n'):
        return '"' + value.replace('"', '""') + '"'
    return value


def _lines(columns: list[Any], spoils: list[tuple[int, str]]) -> bytes:
    lines = pc.binary_join_element_wise(*columns, ",")
    if not spoils:
        return joined_lines(lines)
    pieces = []
    last = 0
    for row, kind in spoils:
        pieces.append(joined_lines(lines.slice(last, row - last)))
        cells = [column[row].as_py() for column in columns]
        pieces.append((",".join(_spoil(cells, kind)) + "\n").encode())
        last = row + 1
    pieces.append(joined_lines(lines.slice(last)))
    return b"".join(pieces)


def _spoil(cells: list[str], kind: str) -> list[str]:
    if kind == "no number":
        cells[6] = "deep"
    elif kind == "no such day":
        cells[4] = "2031-02-30 " + cells[4][11:]
    elif kind == "column missing":
        del cells[3]
    elif kind == "column too many":
        cells.insert(3, "again")
    else:
        cells[0] = ""
    return cells
