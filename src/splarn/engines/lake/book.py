"""What a lake keeps beside its tables: rows that have not come in yet, and notes of their parts.

Each is a small document in the warehouse. Nothing here is part of a table: a load's rows come in
with its notes, by one commit of the table itself.
"""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any
from urllib.parse import quote, unquote

from splarn.core.lake.columns import LakeColumn
from splarn.core.lake.writing import DataFile
from splarn.core.layout.file_layout import FileLayout, read_file_layout
from splarn.core.target.details import LoadDetails
from splarn.core.target.notes import LoadNote, PartNote
from splarn.engines.lake.storage import Storage


@dataclass(frozen=True)
class Side:
    """Rows on their way into a table, which lie in files that no table has yet.

    `number` marks them. `spec` is the table's own number of how it is partitioned, None where the
    table gets `columns` and `layout` anew with these rows.
    """

    name: str
    table: str
    load_id: str
    number: int
    columns: tuple[LakeColumn, ...]
    layout: FileLayout
    folder: str
    spec: int | None

    def document(self) -> dict[str, Any]:
        """As it is kept."""
        return {**asdict(self), "layout": self.layout.text()}


@dataclass(frozen=True)
class PartEntry:
    """A part's note, and the files that hold what has been read of it."""

    note: PartNote
    files: tuple[DataFile, ...] = ()


class Book:
    """The documents of a warehouse."""

    def __init__(self, storage: Storage) -> None:
        self.storage = storage
        self.root = f"{storage.root}/splarn"
        # What tells this session's notes of parts from those of one that may still be at them.
        self._mine = ""

    def side(self, name: str) -> Side | None:
        """What is kept of rows beside a table."""
        found = self._read(self._side(name))
        if found is None:
            return None
        columns = tuple(LakeColumn(**one) for one in found.pop("columns"))
        layout = read_file_layout(found.pop("layout"))
        return Side(**found, columns=columns, layout=layout)

    def put_side(self, side: Side) -> None:
        """Keeps it."""
        self._write(self._side(side.name), side.document())

    def drop_side(self, name: str) -> None:
        """Forgets it."""
        self.storage.remove(self._side(name))

    def _side(self, name: str) -> str:
        return f"{self.root}/beside/{quote(name, safe='')}.json"

    def ids(self) -> dict[str, str]:
        """All loads that were ever begun, with their tables."""
        names = [uri.rpartition("/")[2] for uri in self.storage.names(f"{self.root}/ids")]
        pairs = (name.partition("@")[::2] for name in names)
        return {load_id: unquote(table) for load_id, table in pairs}

    def put_id(self, load_id: str, table: str) -> None:
        """Notes that a load is going to begin."""
        self.storage.write(f"{self.root}/ids/{load_id}@{quote(table, safe='')}", b"")

    def entries(self, load_id: str) -> dict[str, PartEntry]:
        """All that is noted of an unfinished load's parts, by their ids."""
        begun, moved = self._all(load_id)
        found = {one.note.part_id: one for one in begun}
        # Of several that were at one part each noted all that it brought in, files and rows.
        return found | {one.note.part_id: one for one in sorted(moved, key=_reached)}

    def files(self, load_id: str) -> list[DataFile]:
        """All files that are noted of an unfinished load, also of those that were overtaken."""
        return [file for entry in self._all(load_id)[1] for file in entry.files]

    def _all(self, load_id: str) -> tuple[list[PartEntry], list[PartEntry]]:
        """Parts of which nothing is in yet, and the notes of others, several of one perhaps."""
        begun: list[PartEntry] = []
        moved: list[PartEntry] = []
        for uri in self.storage.names(self._open(load_id)):
            document = self._read(uri)
            if isinstance(document, list):
                begun += [PartEntry(read_part(one)) for one in document]
            elif document is not None:
                moved.append(_read_entry(document))
        return begun, moved

    def follow(self, note: PartNote) -> PartEntry | None:
        """The furthest entry of a part; what this session notes from now on stands beside it."""
        self._mine = f"-{secrets.token_hex(6)}"
        begin = f"{self._open(note.load_id)}/{_token(note)}"
        found = [
            _read_entry(document)
            for uri in self.storage.names(self._open(note.load_id))
            if uri.startswith(begin) and (document := self._read(uri)) is not None
        ]
        return max(found, key=_reached, default=None)

    def entry(self, note: PartNote) -> PartEntry | None:
        """What is noted of one part beyond that it was begun."""
        document = self._read(self._part(note))
        return None if document is None else _read_entry(document)

    def begun(self, load_id: str, notes: Sequence[PartNote]) -> None:
        """Notes parts of which nothing is in yet."""
        listed = [part_document(note) for note in notes]
        text = json.dumps(listed, ensure_ascii=False)
        token = hashlib.sha256(text.encode()).hexdigest()[:12]
        self.storage.write(f"{self._open(load_id)}/begun-{token}.json", text.encode())

    def put_entry(self, entry: PartEntry) -> None:
        """Notes how far a part is, and its files."""
        files = [[one.path, one.rows, one.bytes, list(one.partition)] for one in entry.files]
        self._write(self._part(entry.note), {"note": part_document(entry.note), "files": files})

    def close(self, load_id: str) -> None:
        """Forgets an unfinished load's parts."""
        self.storage.remove_all(self._open(load_id))

    def _open(self, load_id: str) -> str:
        return f"{self.root}/open/{quote(load_id, safe='')}"

    def _part(self, note: PartNote) -> str:
        return f"{self._open(note.load_id)}/{_token(note)}{self._mine}.json"

    def put_parts(self, load_id: str, notes: Sequence[PartNote]) -> str:
        """Keeps the notes of a load's parts for good; the name by which they are found."""
        text = json.dumps([part_document(one) for one in notes], ensure_ascii=False)
        name = f"{load_id}-{hashlib.sha256(text.encode()).hexdigest()[:16]}.json"
        self.storage.write(f"{self.root}/loads/{quote(name, safe='')}", text.encode())
        return name

    def parts(self, name: str) -> list[PartNote]:
        """The notes that are found by a name."""
        found = self._read(f"{self.root}/loads/{quote(name, safe='')}")
        return [read_part(one) for one in found or ()]

    def gone(self) -> list[dict[str, Any]]:
        """What is kept of loads whose tables are gone."""
        found = [self._read(uri) for uri in self.storage.names(f"{self.root}/gone")]
        return [one for one in found if one is not None]

    def put_gone(self, load_id: str, document: dict[str, Any]) -> None:
        """Keeps what is known of a load whose table is gone."""
        self._write(f"{self.root}/gone/{quote(load_id, safe='')}.json", document)

    def forget(self, load_id: str, table: str) -> None:
        """Forgets that there ever was a load."""
        self.storage.remove(f"{self.root}/gone/{quote(load_id, safe='')}.json")
        self.storage.remove(self._id(load_id, table))
        for uri in self.storage.names(f"{self.root}/loads"):
            if uri.rpartition("/")[2].startswith(f"{load_id}-"):
                self.storage.remove(uri)
        self.close(load_id)

    def _id(self, load_id: str, table: str) -> str:
        return f"{self.root}/ids/{load_id}@{quote(table, safe='')}"

    def _read(self, uri: str) -> Any:
        data = self.storage.read(uri)
        return None if data is None else json.loads(data)

    def _write(self, uri: str, document: Any) -> None:
        self.storage.write(uri, json.dumps(document, ensure_ascii=False).encode())


def _token(note: PartNote) -> str:
    return hashlib.sha256(note.part_id.encode()).hexdigest()[:24]


def _reached(entry: PartEntry) -> tuple[bool, int, int]:
    """How far a part is by one of its entries."""
    return entry.note.state == "done", entry.note.position, entry.note.rows


def part_document(note: PartNote) -> dict[str, Any]:
    """A part's note as it is kept."""
    return asdict(note)


def read_part(document: dict[str, Any]) -> PartNote:
    """The reverse of `part_document`."""
    marks = document["marks"]
    kept = None if marks is None else tuple((int(first), int(last)) for first, last in marks)
    return PartNote(**{**document, "marks": kept})


def _read_entry(document: dict[str, Any]) -> PartEntry:
    files = [DataFile(path, rows, size, tuple(values))
             for path, rows, size, values in document["files"]]  # fmt: skip
    return PartEntry(read_part(document["note"]), tuple(files))


def load_document(note: LoadNote, parts: str) -> dict[str, Any]:
    """A load's note as its table keeps it; `parts` is where those of its parts are."""
    return {
        "load_id": note.load_id, "table": note.table, "state": note.state, "mode": note.mode,
        "started": note.started, "details": json.loads(note.details.text()), "parts": parts,
    }  # fmt: skip


def read_load(document: dict[str, Any]) -> LoadNote:
    """The reverse of `load_document`."""
    kept = {name: document[name] for name in ("load_id", "table", "state", "mode", "started")}
    return LoadNote(**kept, details=LoadDetails.read(json.dumps(document["details"])))
