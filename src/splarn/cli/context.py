"""What a command works on: its options over the job file over the defaults."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from splarn.cli.misuse import Value, if_any, read
from splarn.cli.options import Choices
from splarn.cli.output import Output
from splarn.cli.where import Where
from splarn.core.errors import RequestError
from splarn.core.job import Job, read_job
from splarn.core.parameters import filled_in, parse_settings, refuse_unknown

if TYPE_CHECKING:
    from splarn.core.check.limit import BadRows
    from splarn.core.layout import Layout
    from splarn.core.ledger import Ledger
    from splarn.core.load.pieces import Piece
    from splarn.core.prices import Prices, Usage
    from splarn.core.reading.faults import Fault
    from splarn.core.source.places import Place
    from splarn.core.tuning.configuration import Space
    from splarn.core.tuning.plan import Limits


class Context(Where):
    """One command's settings. Paths in the job file are relative to it, others to here."""

    def __init__(
        self,
        job_file: Path | None,
        as_json: bool,
        settings: Sequence[str] | None = None,
        cluster: str | None = None,
        per_machine: int | None = None,
    ) -> None:
        """`settings` give values to the parameters of the job's source, depot and table.

        Work is done on the `cluster`, or on the job's where none is given.
        """
        self.job: Job = read_job(job_file)
        work = self.job.work
        super().__init__(Output(as_json), cluster or work.cluster, per_machine or work.per_machine)
        if self.job.path is not None:
            self.out.aside(f"job file: {self.job.path}")
        self.parameters = parse_settings(settings or ())
        where = "this command" if self.job.path is None else f"the job file {self.job.path}"
        refuse_unknown(self.parameters, self.templates(), where)
        self._manifest_layout: Layout | None = None
        # Where the records of parts lie in the delivery, by the part's path.
        self._pieces: dict[str, tuple[Piece, ...]] = {}
        # What was among the sources and is no file, with what it is.
        self.skipped: list[tuple[Path, str]] = []

    def sources(self, given: Sequence[str] | None) -> tuple[list[str], Path | None]:
        """The places to look for source files, and what they are relative to."""
        if given:
            return list(given), None
        if not self.job.source.paths:
            raise RequestError(
                "No files are named: give some, or set source.paths in a job file splarn.toml."
            )
        paths = [self._filled(path, "source.paths") for path in self.job.source.paths]
        return paths, self.job.folder

    def templates(self) -> list[str]:
        """What in the job may hold parameters."""
        target = self.job.target
        kinds = [text for one in self.job.kinds.values() for text in (*one.paths, one.table or "")]
        return [*self.job.source.paths, target.table or "", target.depot or "", *kinds]

    def _filled(self, text: str, key: str) -> str:
        """A text of the job with its parameters filled in."""
        return filled_in(text, self.parameters, self._in_job(key))

    def paths(
        self, given: Sequence[str] | None, quiet: bool = False, opened: bool = True
    ) -> list[Place]:
        """The source files; a manifest, or a folder that holds one, stands for its parts.

        Archives stand for what is in them where they are to be `opened`. What is no file is left
        out, which is said unless `quiet`.
        Raises RequestError when there are none.
        """
        from splarn.core.shape.manifest import is_manifest, read_manifest
        from splarn.core.source.files import find_files, opened_up
        from splarn.core.source.places import is_url, place

        places, base = self.sources(given)
        chosen: dict[Place, None] = {}
        for text in places:
            at = place(text)
            if isinstance(at, Path) and is_manifest(base / at if base else at):
                manifest = read_manifest(base / at if base else at)
                self._manifest_layout = manifest.layout
                from splarn.core.load.pieces import pieces_of

                for part in manifest.parts:
                    where = str(manifest.folder / part.path)
                    self._pieces[where] = pieces_of(part, manifest.layout)
                chosen.update(dict.fromkeys(manifest.folder / part.path for part in manifest.parts))
            elif is_url(text) and (names := _in_depot(text)) is not None:
                chosen.update(dict.fromkeys(names))
            else:
                chosen.update(dict.fromkeys(find_files([text], base, self.skipped)))
        if not chosen:
            named = ", ".join(f"{path} is {kind}" for path, kind in self.skipped[:3])
            raise RequestError(f"There is no file to work on: {named or 'name some'}.")
        if not given:
            self._leave_to_kinds(chosen)
        for path, kind in self.skipped if not quiet else ():
            self.out.note(f"Left out {path}: it is {kind}.")
        found = opened_up(chosen) if opened else list(chosen)
        return [self.everywhere(one) for one in found]

    def _leave_to_kinds(self, chosen: dict[Place, None]) -> None:
        """Leaves out what kinds of the job name, which is no file of the job's own layout."""
        from splarn.core.source.files import find_files

        for name, kind in self.job.kinds.items():
            texts = [self._filled(path, f"kinds.{name}.paths") for path in kind.paths]
            with suppress(RequestError):
                for path in find_files(texts, self.job.folder):
                    chosen.pop(path, None)
        if not chosen:
            raise RequestError(
                "All files of source.paths are of other kinds: leave some to it, or make one of "
                "the kinds the job's own source."
            )

    def in_delivery(self, faults: Sequence[Fault]) -> list[Fault]:
        """Faults with the files and lines of the delivery, where they were found in its parts."""
        if not self._pieces:
            return list(faults)
        from splarn.core.load.pieces import in_delivery

        return [in_delivery(fault, self._pieces.get(fault.path, ())) for fault in faults]

    def layout(self, given: Path | None, paths: Sequence[Place]) -> Layout:
        """The layout given, or the manifest's, or the job's, or one inferred, which is said."""
        from splarn.core.layout.descriptor import read_layout

        file = self.layout_file(given)
        if self._manifest_layout is not None and given is None:
            return self._manifest_layout
        if file is not None:
            return read_layout(file)
        from splarn.core.inference.infer import infer_layout
        from splarn.core.units import plural

        with self.out.working("looking how they read"):
            inferred = infer_layout(paths)
        self.out.note(
            f"No layout was given: inferred one from {plural(inferred.rows_sampled, 'row')} "
            "(`splarn layout` shows it)."
        )
        for note in inferred.notes:
            self.out.note(note)
        return inferred.layout

    def layout_file(self, given: Path | None) -> Path | None:
        """Where the layout given stands, or the job's; None for neither."""
        if given is not None:
            return given
        if self._manifest_layout is not None or not self.job.source.layout:
            return None
        return self.job.folder / self.job.source.layout

    def target(self, url: str | None, option: str = "--to") -> str:
        """The target's URL as written, made relative to the job file where that names a file."""
        if url:
            return self.anywhere(url)
        if not self.job.target.url:
            raise RequestError(
                f"No target is named: give {option} URL, or set target.url in a job file "
                "splarn.toml."
            )
        return self.anywhere(_beside(self.job.target.url, self.job.folder))

    def table(self, name: str | None, fallback: str | None = None) -> str:
        """The table's name."""
        table = self.job.target.table
        named = name or (table and self._filled(table, "target.table")) or fallback
        if not named:
            raise RequestError(
                "No table is named: give --table NAME, or set target.table in a job file."
            )
        return named

    def bad_rows(self, mode: str | None, limit: str | None) -> BadRows:
        """How many bad rows may be set aside; none to halt at the first."""
        from splarn.core.check.limit import BadRows

        if self.setting("--bad-rows", _bad_rows, mode, "target.bad_rows") == "halt":
            return BadRows(0)
        return self.setting("--bad-row-limit", BadRows.read, limit, "target.bad_row_limit")

    def setting(self, option: str, parse: Callable[[Any], Value], given: Any, key: str) -> Value:
        """What was given for an option, else what the job file says under a key.

        Raises RequestError that names where the wrong one stands.
        """
        if given is not None:
            return read(option, parse, given)
        section, _, name = key.partition(".")
        return read(self._in_job(key), parse, getattr(getattr(self.job, section), name))

    def _in_job(self, key: str) -> str:
        return f"In the job file {self.job.path}, {key}"

    def rejects(self) -> Path:
        """The folder for refused rows."""
        return self.job.folder / self.job.target.rejects

    def depot(self, given: str | None = None) -> str | None:
        """The depot as written, that of a job file relative to it where it is a folder."""
        written = self.job.target.depot
        if given or not written:
            return given
        return self._from_job(self._filled(written, "target.depot"))

    def way(self, given: str | None) -> str:
        """What the way by a depot is known by: the job's has its parameters' names in it.

        So trials of one month tell of the next one.
        """
        written = self.job.target.depot
        return self.shown_depot(given or (self._from_job(written) if written else None))

    def _from_job(self, place: str) -> str:
        """A place as the job file names it, relative to that file where it is a folder."""
        from splarn.core.source.places import is_url

        here = is_url(place) or place.startswith("$")
        return place if here else str(self.job.folder / place)

    def shown_depot(self, named: str | None) -> str:
        """How a depot may be shown, and is known again; empty for none.

        Raises RequestError for one of an unknown kind.
        """
        from splarn.core.source.places import is_url
        from splarn.core.source.secrets import filled
        from splarn.depots.landing import DepotLanding

        if named is None:
            return ""
        shown = DepotLanding(filled(named, "The depot"), "").place
        # A folder is known again from wherever a command is given.
        return shown if is_url(shown) else str(Path(shown).resolve())

    def space(self, choices: Choices, format: str = "csv", depot: bool = False) -> Space:
        """The space that options and job file describe, without what cannot be of the parts.

        Where there is a depot, parts are shipped by one stream and by four if nothing is said.
        """
        from splarn.core.tuning.configuration import LEVERS, Space
        from splarn.core.tuning.possible import rules_of_parts, rules_of_work

        kept = {
            name: [
                value
                for one in values
                for value in LEVERS[name].values(one, self._in_job(f"space.{LEVERS[name].key}"))
            ]
            for name, values in self.job.space.values().items()
            if name not in choices
        }
        if not kept.get("format", True):
            # Nothing said is the source's own.
            del kept["format"]
        sent = "transfer_streams"
        if depot and sent not in choices and kept[sent] == list(LEVERS[sent].defaults):
            kept[sent] = [1, 4]
        space = Space.of({**kept, **choices}, format)
        return space.without([*rules_of_parts(space, depot), *rules_of_work(space)])

    def limits(self, deadline: str | None, budget: float | None, confidence: str | None) -> Limits:
        """The limits that options and job file set."""
        from splarn.core.tuning.clock import parse_deadline
        from splarn.core.tuning.plan import Limits
        from splarn.core.units import parse_share

        until = self.setting("--deadline", if_any(parse_deadline), deadline, "limits.deadline")
        return Limits(
            None if until is None else until.seconds,
            budget if budget is not None else self.job.limits.budget,
            self.setting("--confidence", parse_share, confidence, "limits.confidence"),
            None if until is None else until.ends,
        )

    def prices(self, tiers: Sequence[str] = ()) -> Prices:
        """The job's price list; without one everything is free, compute of all `tiers` too."""
        from splarn.core.prices import Prices, Tier, read_prices

        if self.job.prices:
            return read_prices(self.job.folder / self.job.prices)
        free = {name: Tier(per_hour=0) for name in tiers}
        return Prices(tiers=free) if free else Prices()

    def priced(self, usage: Callable[[str], Usage]) -> dict[str, Any]:
        """What work cost, by item, as documents hold it; `usage` is told the first tier's name.

        Empty without a price list. A tier that the list lacks is said and costs nothing.
        """
        if not self.job.prices:
            return {}
        from splarn.core.prices import reckon

        prices = self.prices()
        try:
            cost = reckon(prices, usage(next(iter(prices.tiers), "u1")))
        except RequestError as error:
            self.out.note(f"The cost is not known: {error}")
            return {}
        return {"cost": cost.as_json(), "currency": prices.currency}

    def note(
        self,
        kind: str,
        id_: str,
        summary: str,
        document: dict[str, Any],
        *,
        parent: str = "",
        seconds: float | None = None,
    ) -> None:
        """Notes in the ledger what is done; that it cannot be noted undoes nothing, and is said."""
        self.noting(
            lambda ledger: ledger.put(kind, id_, summary, document, parent=parent, seconds=seconds)
        )

    def noting(self, note: Callable[[Ledger], object]) -> None:
        """The same for what notes in the ledger itself."""
        from splarn.core.errors import SplarnError

        try:
            with self.ledger() as ledger:
                note(ledger)
        except SplarnError as error:
            self.out.note(f"It is done, but not noted in the ledger: {error}")

    def check_ledger(self) -> None:
        """Makes sure before any work that its end can be noted. Raises OutsideError."""
        with self.ledger() as ledger:
            ledger.check()

    @contextmanager
    def ledger(self) -> Iterator[Ledger]:
        """The ledger of the job's folder."""
        from splarn.core.ledger import Ledger

        ledger = Ledger(self.job.folder)
        try:
            yield ledger
        finally:
            ledger.close()


def _in_depot(text: str) -> list[Place] | None:
    """The files of a folder in a depot, None for what is none."""
    from splarn.depots.arrived import is_folder, listed

    return list(listed(text)) if is_folder(text) else None


def _bad_rows(mode: str) -> str:
    if mode not in ("halt", "set-aside"):
        raise RequestError(f"{mode!r} is not known; use halt or set-aside.")
    return mode


def _beside(url: str, folder: Path) -> str:
    """A URL of an embedded file, relative to the job's folder rather than to here."""
    scheme, mark, database = url.partition(":///")
    from splarn.engines import is_file

    if url.startswith("described:") and not mark:
        path = url.partition(":")[2]
        return f"described:{folder / path}" if folder != Path() else url

    if not mark or database.startswith(("/", "$")) or not is_file(scheme.split("+")[0]):
        return url
    return f"{scheme}:///{folder / database}" if folder != Path() else url
