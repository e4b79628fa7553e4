"""Faults: what is wrong with a record, and the file that keeps the refused ones."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.work.disk import ASIDE, outside

SHOWN_VALUE = 120
# The kind of a fault that only the target saw.
ENGINE = "engine"


@dataclass(frozen=True)
class Fault:
    """One thing wrong with one record. `line` and `row` count from 1, the header not a row.

    `kind` is one of columns, type, required, encoding, record, constraint, unique, engine. `raw` is
    the record as it came.
    """

    path: str
    line: int
    row: int
    field: str | None
    kind: str
    value: str | None
    message: str
    raw: str = ""
    # The part that was loaded and the row in it, where the rest names the delivery it was made of.
    part: str = ""
    part_row: int = 0

    def as_json(self) -> dict[str, Any]:
        """Everything but the raw record."""
        document = asdict(self)
        del document["raw"]
        if not self.part:
            del document["part"], document["part_row"]
        return document

    @property
    def loaded_row(self) -> int:
        """The row in the file that was loaded."""
        return self.part_row or self.row


def shorten(value: str) -> str:
    """A value short enough for a message."""
    return value if len(value) <= SHOWN_VALUE else value[: SHOWN_VALUE - 1] + "…"


def write_rejects(path: Path, faults: Iterable[Fault]) -> int:
    """Appends refused records as JSON lines, one record a line; returns how many.

    Raises OutsideError when the disk refuses.
    """
    count = 0
    with outside(f"Writing {path}"):
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("a", encoding="utf-8") as file:
            for fault in faults:
                file.write(json.dumps(asdict(fault), ensure_ascii=False) + "\n")
                count += 1
    return count


def replace_rejects(path: Path, faults: Iterable[Fault]) -> Path:
    """Writes a rejects file anew, whole or not at all; returns its path.

    Raises OutsideError when the disk refuses.
    """
    temporary = path.with_name(path.name + ASIDE)
    temporary.unlink(missing_ok=True)
    write_rejects(temporary, faults)
    with outside(f"Writing {path}"):
        temporary.replace(path)
    return path


def count_rejects(path: Path) -> int:
    """The refused records that a rejects file keeps; 0 where there is none."""
    if not path.exists():
        return 0
    with outside(f"Reading {path}"), path.open("rb") as file:
        return sum(line.endswith(b"\n") for line in file)


def read_rejects(path: Path) -> Iterator[Fault]:
    """The refused records of a rejects file.

    Raises RequestError when a line is no reject.
    """
    with outside(f"Reading {path}"), path.open(encoding="utf-8") as file:
        for number, line in enumerate(file, 1):
            try:
                yield Fault(**json.loads(line))
            except (ValueError, TypeError):
                raise RequestError(
                    f"{path} is not a rejects file: line {number} cannot be read."
                ) from None
