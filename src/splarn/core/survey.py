"""The survey: what the source files are, and what in them will matter for loading."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import xxhash

from splarn.core.codecs import codec_by_name, codec_of, read_blocks
from splarn.core.errors import OutsideError
from splarn.core.files import outside
from splarn.core.layout import Dialect, Layout
from splarn.core.progress import Progress, Silent
from splarn.core.records import BOM, record_chunks, scan

PROBE = 256 << 10


@dataclass(frozen=True)
class Finding:
    """Something about the source that the engineer should know, and what to do about it."""

    kind: str
    path: str | None
    message: str


@dataclass(frozen=True)
class SourceFile:
    """One file of the source. `rows` is an estimate unless `rows_exact`; None when unreadable.

    `content_id` is the hash of all unpacked bytes with `--exact`; otherwise of the size and of
    samples, which tells different files apart but cannot prove two the same.
    """

    path: str
    bytes: int
    codec: str
    rows: int | None
    rows_exact: bool
    content_id: str
    findings: tuple[Finding, ...] = ()


@dataclass(frozen=True)
class Catalogue:
    """All source files with their findings; `findings` are those of files and of the whole."""

    files: tuple[SourceFile, ...]
    findings: tuple[Finding, ...]

    @property
    def bytes(self) -> int:
        """Bytes on disk."""
        return sum(file.bytes for file in self.files)

    @property
    def rows(self) -> int | None:
        """Records in all files, or None when one is unknown."""
        counts = [file.rows for file in self.files]
        return None if None in counts else sum(count or 0 for count in counts)


def survey(
    paths: Sequence[Path],
    layout: Layout | None = None,
    exact: bool = False,
    progress: Progress | None = None,
) -> Catalogue:
    """Looks at every file; reads all of each only when `exact`.

    Raises OutsideError when a file cannot be read at all; damaged ones become findings.
    """
    watch = progress or Silent()
    dialect = layout.dialect if layout else None
    watch.start("survey", len(paths), "files")
    files: list[SourceFile] = []
    headers: dict[bytes, list[str]] = defaultdict(list)
    for path in paths:
        file, head = _look_at(path, dialect, exact)
        files.append(file)
        if head:
            headers[head].append(str(path))
        watch.advance(1)
    watch.finish()
    found = [finding for file in files for finding in file.findings]
    found += _same_content(files, exact) + _mixed_headers(headers)
    return Catalogue(tuple(files), tuple(found))


def _look_at(path: Path, dialect: Dialect | None, exact: bool) -> tuple[SourceFile, bytes]:
    with outside(f"Reading {path}"):
        size = path.stat().st_size
    codec = codec_of(path)
    findings: list[Finding] = []

    def say(kind: str, message: str) -> None:
        findings.append(Finding(kind, str(path), message))

    named = codec_by_name(path)
    if size == 0:
        say("empty", f"{path.name} is empty; leave it out or ask for it again")
        return SourceFile(str(path), 0, "none", 0, True, "", tuple(findings)), b""
    if named != codec:
        is_word = "uncompressed text" if codec == "none" else codec
        say(
            "codec-mismatch",
            f"{path.name} is named like {named} but is {is_word}; Splarn goes by the content, "
            "other tools may not",
        )
    try:
        rows, content_id, head = _measure(path, codec, size, dialect or Dialect(), exact)
    except OutsideError as error:
        say("damaged", str(error).rstrip("."))
        return SourceFile(str(path), size, codec, None, False, "", tuple(findings)), b""
    if rows == 0:
        say("header-only", f"{path.name} holds a header and no records")
    small = size < PROBE and codec == "none"
    return SourceFile(
        str(path), size, codec, rows, exact or small, content_id, tuple(findings)
    ), head


def _measure(
    path: Path, codec: str, size: int, dialect: Dialect, exact: bool
) -> tuple[int, str, bytes]:
    """Rows, content id and the first line."""
    if exact:
        state = xxhash.xxh3_128()
        head = b""
        rows = 0

        def hashed() -> object:
            nonlocal head
            for block in read_blocks(path, codec):
                head = head or block[:65536]
                state.update(block)
                yield block

        for chunk in record_chunks(hashed(), dialect, where=str(path)):  # type: ignore[arg-type]
            rows += chunk.rows
        return rows, f"xxh3-128:{state.hexdigest()}", _first_line(head)
    blocks: list[bytes] = []
    held = 0
    for block in read_blocks(path, codec, block=PROBE):
        blocks.append(block)
        held += len(block)
        if held >= PROBE:
            break
    head = b"".join(blocks)
    state = xxhash.xxh3_128(head)
    tail_start = max(size - 65536, 0)
    state.update(b"".join(read_blocks(path, "none", tail_start)))
    state.update(str(size).encode())
    probe = scan(head, dialect)
    whole = codec == "none" and len(head) >= size
    if whole:
        rows = sum(chunk.rows for chunk in record_chunks([head], dialect, where=str(path)))
    else:
        ends = probe.ends
        used = int(ends[-1]) if len(ends) else len(head)
        unpacked = size if codec == "none" else _unpacked_size(path, codec, head, size)
        rows = max(round(unpacked * max(len(ends), 1) / used) - int(dialect.header), 1)
    return rows, f"sample:{state.hexdigest()}", _first_line(head)


def _unpacked_size(path: Path, codec: str, head: bytes, size: int) -> int:
    """Guesses the unpacked size from how far the packed bytes of the head reached."""
    if codec == "gzip" and size < 1 << 30:
        # The last four bytes of a gzip member are its unpacked size modulo 2**32 (RFC 1952).
        tail = b"".join(read_blocks(path, "none", size - 4))
        told = int.from_bytes(tail, "little")
        if told >= len(head):
            return told
    from splarn.core.codecs import CODECS, Packing

    packer = CODECS[codec].packer(Packing.parse(codec).level)
    packed = len(packer.compress(head)) + len(packer.flush())
    return round(size * len(head) / max(packed, 1))


def _first_line(head: bytes) -> bytes:
    return head.removeprefix(BOM).split(b"\n", 1)[0].rstrip(b"\r")


def _same_content(files: Sequence[SourceFile], exact: bool) -> list[Finding]:
    groups: dict[str, list[SourceFile]] = defaultdict(list)
    for file in files:
        if file.content_id:
            groups[file.content_id].append(file)
    sure = "hold" if exact else "seem to hold"
    hint = "" if exact else " (--exact makes sure)"
    return [
        Finding(
            "same-content",
            group[-1].path,
            f"{', '.join(Path(file.path).name for file in group)} {sure} the same content{hint}; "
            "loading all of them would double rows",
        )
        for group in groups.values()
        if len(group) > 1
    ]


def _mixed_headers(headers: dict[bytes, list[str]]) -> list[Finding]:
    if len(headers) < 2:
        return []
    common = max(headers.values(), key=len)
    if len(common) == 1 and len(headers) > 2:
        return []  # No two files begin alike: they have no header to compare.
    return [
        Finding(
            "mixed-headers",
            paths[0],
            f"{Path(paths[0]).name} begins with another first line than {Path(common[0]).name}; "
            "survey and load each kind apart",
        )
        for paths in headers.values()
        if paths is not common
    ]
