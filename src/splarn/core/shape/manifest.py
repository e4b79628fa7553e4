"""The manifest: a Data Package descriptor that lists the parts and where each came from."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from splarn.core.errors import RequestError
from splarn.core.files import ASIDE, outside, write_text
from splarn.core.layout import Layout
from splarn.core.layout.descriptor import from_descriptor, to_descriptor
from splarn.core.places import place

MANIFEST = "datapackage.json"
UNFINISHED = MANIFEST + ASIDE


@dataclass(frozen=True)
class SourceRange:
    """Unpacked bytes `start` to `end` of a source file; `end` is None up to its end.

    Of a columnar file they are rows. `path` is the URL as it was given where the file is remote.
    """

    path: str
    codec: str
    start: int
    end: int | None


@dataclass(frozen=True)
class Part:
    """One file made by `shape`. `path` is relative to the manifest's folder.

    `bytes` are packed, `raw_bytes` unpacked; `hash` is of the packed bytes.
    """

    path: str
    codec: str
    bytes: int
    raw_bytes: int
    rows: int
    hash: str
    source: tuple[SourceRange, ...]
    seconds: float = 0.0


@dataclass(frozen=True)
class Manifest:
    """The parts, in source order, and the layout they share."""

    folder: Path
    layout: Layout
    parts: tuple[Part, ...]

    @property
    def rows(self) -> int:
        """Records in all parts."""
        return sum(part.rows for part in self.parts)

    @property
    def bytes(self) -> int:
        """Packed bytes of all parts."""
        return sum(part.bytes for part in self.parts)

    @property
    def raw_bytes(self) -> int:
        """Unpacked bytes of all parts."""
        return sum(part.raw_bytes for part in self.parts)

    @property
    def path(self) -> Path:
        """Where the manifest lies."""
        return self.folder / MANIFEST


_MEDIA = {
    "csv": "text/csv",
    "jsonl": "application/jsonl",
    "parquet": "application/vnd.apache.parquet",
}


def _resource_name(path: str) -> str:
    """A name as the standard allows it, which no other part has."""
    bare = path.removesuffix(Path(path).name) + Path(path).name.split(".")[0]
    return re.sub(r"[^a-z0-9._/-]", "-", bare.lower()).replace("/", "-")


def write_manifest(manifest: Manifest) -> None:
    """Writes the manifest, whole or not at all.

    Raises OutsideError when the disk refuses.
    """
    layout = to_descriptor(manifest.layout)
    resources = [
        {
            "name": _resource_name(part.path),
            "path": part.path,
            "format": manifest.layout.format,
            "mediatype": _MEDIA[manifest.layout.format],
            **({"encoding": layout["encoding"]} if "encoding" in layout else {}),
            "bytes": part.bytes,
            "hash": part.hash,
            "compression": part.codec,
            "rows": part.rows,
            "rawBytes": part.raw_bytes,
            "source": [
                {
                    "path": str(place(piece.path)),
                    "codec": piece.codec,
                    "start": piece.start,
                    "end": piece.end,
                }
                for piece in part.source
            ],
        }
        for part in manifest.parts
    ]
    package = {
        "$schema": "https://datapackage.org/profiles/2.0/datapackage.json",
        "name": manifest.layout.name.lower(),
        "layout": layout,
        "resources": resources,
    }
    write_text(manifest.path, json.dumps(package, indent=1, ensure_ascii=False) + "\n")


def header_line(layout: Layout) -> bytes:
    """The header record as delimited text."""
    dialect = layout.dialect
    quote = dialect.quote
    special = (dialect.delimiter, "\n", "\r", quote or "\n")

    def cell(name: str) -> str:
        if quote is None or not any(mark in name for mark in special):
            return name
        return quote + name.replace(quote, quote * 2) + quote

    line = dialect.delimiter.join(cell(name) for name in layout.names) + "\n"
    return line.encode(dialect.encoding)


def is_manifest(path: Path) -> bool:
    """Whether a path names a manifest or a folder that holds one."""
    return path.name == MANIFEST or (path / MANIFEST).is_file()


def read_manifest(path: Path) -> Manifest:
    """Reads a manifest file, or the one in a folder.

    Raises RequestError when there is none, it cannot be read, or the shape that was to write it
    did not finish.
    """
    if path.is_dir():
        path = path / MANIFEST
    if not path.is_file():
        if path.with_name(UNFINISHED).exists():
            raise RequestError(
                f"The parts in {path.parent} are unfinished: run the same `splarn shape` again."
            )
        raise RequestError(f"There is no manifest {path}: make one with `splarn shape`.")
    with outside(f"Reading {path}"):
        text = path.read_bytes()
    return parse_manifest(text, str(path), path.parent)


def parse_manifest(text: bytes, where: str, folder: Path) -> Manifest:
    """A manifest's content; `where` names its origin in errors, `folder` holds the parts.

    Raises RequestError when it is none.
    """
    try:
        package: dict[str, Any] = json.loads(text)
        layout = from_descriptor(package["layout"], where)
        parts = tuple(
            Part(
                path=resource["path"],
                codec=resource["compression"],
                bytes=int(resource["bytes"]),
                raw_bytes=int(resource["rawBytes"]),
                rows=int(resource["rows"]),
                hash=resource["hash"],
                source=tuple(SourceRange(**piece) for piece in resource["source"]),
            )
            for resource in package["resources"]
        )
    except (KeyError, TypeError, ValueError) as error:
        raise RequestError(
            f"{where} is not a manifest written by `splarn shape` ({error}): shape the source "
            "again."
        ) from None
    return Manifest(folder, layout, parts)
