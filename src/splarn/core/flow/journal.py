"""What an earlier try of a run found in the parts that are in, kept beside parts that are gone."""

from __future__ import annotations

import json
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from splarn.core.load.task import PartResult
from splarn.core.reading.faults import Fault
from splarn.core.target.digest import ColumnDigest
from splarn.core.target.hashing import HASHES, RowSum
from splarn.core.target.notes import PartNote
from splarn.core.work.disk import outside

JOURNAL = "loaded.jsonl"


class Journal:
    """One line a part that is in, of one load; lines of another load say nothing.

    A part is removed only when its line is written; where the line is lost all the same, the part
    is made and read again.
    """

    def __init__(self, folder: Path, load_id: str, parts: Mapping[str, PartNote]) -> None:
        self.path = folder / JOURNAL
        self.load_id = load_id
        # Of earlier tries alone; what is in now is kept by whoever loads it.
        self.found: dict[str, PartResult] = {}
        self._file: Any = None
        text = ""
        if self.path.exists():
            with outside(f"Reading {self.path}"):
                text = self.path.read_text(encoding="utf-8")
        for line in text.splitlines():
            # The last line of a try that was killed may be cut off.
            with suppress(ValueError, KeyError, TypeError):
                document = json.loads(line)
                note = parts.get(document["part_id"])
                done = note is not None and note.state == "done"
                if document["load_id"] == load_id and note is not None and done:
                    self.found[note.part_id] = _result(document, note)

    def add(self, result: PartResult) -> None:
        """Keeps what was found in a part. Raises OutsideError when the disk refuses."""
        line = json.dumps({"load_id": self.load_id, **_document(result)}) + "\n"
        with outside(f"Writing {self.path}"):
            if self._file is None:
                # Unbuffered, so that a line is there once this returns.
                self._file = self.path.open("ab", buffering=0)
            self._file.write(line.encode())

    def close(self) -> None:
        """Ends the file."""
        if self._file is not None:
            self._file.close()


def _document(result: PartResult) -> dict[str, Any]:
    """All but the note, which the target has, and the sample, of which others have enough."""
    return {
        "part_id": result.note.part_id,
        "path": result.path,
        "seconds": result.seconds,
        "raw_bytes": result.raw_bytes,
        "commits": result.commits,
        "digests": None if result.digests is None else [one.__dict__ for one in result.digests],
        "hashes": HASHES,
        "row_sum": None if result.row_sum is None else result.row_sum.__dict__,
        "faults": [fault.__dict__ for fault in result.faults],
        "kept": result.kept,
        "stages": result.stages,
    }


def _result(document: dict[str, Any], note: PartNote) -> PartResult:
    digests = document["digests"]
    row_sum = document["row_sum"] if document.get("hashes") == HASHES else None
    return PartResult(
        path=document["path"],
        note=note,
        seconds=document["seconds"],
        raw_bytes=document["raw_bytes"],
        commits=document["commits"],
        digests=None if digests is None else [ColumnDigest(**one) for one in digests],
        row_sum=None if row_sum is None else RowSum(**row_sum),
        faults=[Fault(**fault) for fault in document["faults"]],
        kept=document["kept"],
        stages=document["stages"],
    )
