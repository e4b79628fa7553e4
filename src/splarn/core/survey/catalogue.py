"""The catalogue of all source files, with what shows only when they are held against each other."""

from __future__ import annotations

import time
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from splarn.core.errors import OutsideError
from splarn.core.layout import Dialect, Layout
from splarn.core.source.places import Place, Remote
from splarn.core.survey.facts import DELIMITED, PARQUET, Finding, SourceFile
from splarn.core.survey.intended import Intended, size_findings
from splarn.core.survey.look import content_id_of, look_at
from splarn.core.work.pool import AT_ONCE, Pool, Threads
from splarn.core.work.progress import Progress, Silent

# A file changed this recently may still be on its way; it is looked at again after a pause.
FRESH = 60.0
PAUSE = 0.4

__all__ = ["Catalogue", "Finding", "SourceFile", "survey"]


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

    @property
    def rows_bounds(self) -> tuple[int, int]:
        """Between how many records there are, as far as they are known."""
        return (
            sum(file.rows_low or 0 for file in self.files),
            sum(file.rows_high or 0 for file in self.files),
        )

    @property
    def by_file(self) -> dict[str, list[Finding]]:
        """The findings of each file by its path, also those that only show beside other files."""
        findings: dict[str, list[Finding]] = {file.path: [] for file in self.files}
        for finding in self.findings:
            if finding.path in findings:
                findings[finding.path].append(finding)
        return findings


def survey(
    paths: Sequence[Place],
    layout: Layout | None = None,
    exact: bool = False,
    intended: Intended | None = None,
    progress: Progress | None = None,
    skipped: Sequence[tuple[Path, str]] = (),
    pool: Pool | None = None,
) -> Catalogue:
    """Looks at every file, reads all of each only when `exact`, and compares them.

    `skipped` is what was found among them and is no file, with what it is. Without a `pool` they
    are looked at here.
    Raises OutsideError when a file cannot be read at all; damaged ones become findings.
    """
    watch = progress or Silent()
    dialect = layout.dialect if layout else None
    watch.start("survey", len(paths), "files")
    begun = time.time()
    files = []
    for file in _looks(paths, dialect, exact, pool):
        files.append(file)
        watch.advance(1)
    watch.finish()
    files, twins = _same_content(files, paths)
    findings = [finding for file in files for finding in file.findings]
    findings += [
        Finding("not-a-file", str(path), f"{path.name} is {kind}; it was left out")
        for path, kind in skipped
    ]
    findings += _growing(files, paths, begun)
    findings += twins
    findings += _mixed(files)
    if intended is not None:
        findings += size_findings(files, intended)
    return Catalogue(tuple(files), tuple(findings))


@dataclass(frozen=True)
class LookTask:
    """One file to be looked at; picklable."""

    path: Place
    dialect: Dialect | None
    exact: bool


def run_look(task: LookTask) -> SourceFile:
    """See `look_at`."""
    return look_at(task.path, task.dialect, task.exact)


def _looks(
    paths: Sequence[Place], dialect: Dialect | None, exact: bool, pool: Pool | None
) -> Iterator[SourceFile]:
    """A look at each file; those behind a network are looked at several at a time."""
    if pool is not None:
        return pool.flow(run_look, (LookTask(path, dialect, exact) for path in paths))
    if not any(isinstance(path, Remote) for path in paths):
        return (look_at(path, dialect, exact) for path in paths)
    return Threads(AT_ONCE).flow(lambda path: look_at(path, dialect, exact), paths)


def _growing(files: Sequence[SourceFile], paths: Sequence[Place], begun: float) -> list[Finding]:
    fresh = [
        (file, path)
        for file, path in zip(files, paths, strict=True)
        if file.modified > begun - FRESH
    ]
    if not fresh:
        return []
    time.sleep(max(PAUSE - (time.time() - begun), 0))
    findings = []
    for file, path in fresh:
        try:
            size = path.stat().st_size
        except (OSError, OutsideError):
            size = -1
        if size != file.bytes:
            change = "disappeared" if size < 0 else f"grew from {file.bytes:,} to {size:,} bytes"
            name = Path(file.path).name
            message = f"{name} {change} while it was looked at; wait until it is delivered"
            findings.append(Finding("growing", file.path, message))
    return findings


def _same_content(
    files: Sequence[SourceFile], paths: Sequence[Place]
) -> tuple[list[SourceFile], list[Finding]]:
    """Files of equal content under whatever name or codec, proven by their whole hashes.

    Of large files only those are read to their end that could have a twin: another one begins with
    the same line and has either the same size or another codec.
    """
    files = list(files)
    codecs: dict[bytes, set[str]] = defaultdict(set)
    sizes: Counter[tuple[bytes, int]] = Counter()
    for file in files:
        codecs[file.head_line].add(file.codec)
        sizes[file.head_line, file.bytes] += 1
    groups: dict[str, list[SourceFile]] = defaultdict(list)
    for index, file in enumerate(files):
        if not file.content_id or file.rows == 0:
            continue
        twin = sizes[file.head_line, file.bytes] > 1 or len(codecs[file.head_line]) > 1
        if file.content_id.startswith("head:") and twin:
            try:
                whole = content_id_of(paths[index], file.codec)
            except OutsideError as error:
                damage = Finding("damaged", file.path, str(error).rstrip("."))
                files[index] = replace(file, findings=(*file.findings, damage), rows=None)
                continue
            files[index] = file = replace(file, content_id=whole)
        groups[file.content_id].append(file)
    findings = [
        Finding(
            "same-content",
            group[-1].path,
            f"{_names(group)} hold the same content; load one of them, or its rows will be in the "
            f"table {len(group)} times",
        )
        for key, group in groups.items()
        if len(group) > 1 and not key.startswith("head:")
    ]
    return files, findings


def _names(group: Sequence[SourceFile]) -> str:
    names = [Path(file.path).name for file in group[:4]]
    if len(group) > 4:
        return f"{', '.join(names)} and {len(group) - 4:,} more"
    return f"{', '.join(names[:-1])} and {names[-1]}"


def _mixed(files: Sequence[SourceFile]) -> list[Finding]:
    """Files of other columns or another header than most."""
    findings = []
    for kind in (DELIMITED, PARQUET):
        filled = [file for file in files if file.format == kind and file.rows and file.columns]
        if len(filled) > 1:
            findings += _mixed_columns(filled)
    formats = Counter(file.format for file in files if file.rows)
    if len(formats) > 1:
        kinds = ", ".join(f"{count:,} {kind}" for kind, count in formats.most_common())
        findings.append(
            Finding(
                "mixed-formats", None, f"the files are of several formats: {kinds}; load each apart"
            )
        )
    return findings


def _mixed_columns(filled: Sequence[SourceFile]) -> list[Finding]:
    findings = []
    usual = Counter(file.columns for file in filled).most_common(1)[0][0]
    like = next(file for file in filled if file.columns == usual)
    for file in filled:
        if file.columns != usual:
            message = (
                f"{Path(file.path).name} has {file.columns} columns where "
                f"{Path(like.path).name} has {usual}; survey and load each kind apart"
            )
            findings.append(Finding("mixed-columns", file.path, message))
    headers = Counter(file.head_line for file in filled if file.columns == usual)
    if len(headers) > 1:
        common = headers.most_common(1)[0][0]
        like = next(file for file in filled if file.head_line == common)
        for file in filled:
            if file.columns == usual and file.head_line != common:
                difference = "another header than" if file.head_line else "no header, unlike"
                if file.format == PARQUET:
                    difference = "other column names or types than"
                message = (
                    f"{Path(file.path).name} has {difference} {Path(like.path).name}; survey and "
                    "load each kind apart"
                )
                findings.append(Finding("mixed-headers", file.path, message))
    return findings
