"""What the core asks of an engine; `splarn.engines` answers, and is handed in."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from splarn.core.errors import RequestError
from splarn.core.layout import Layout
from splarn.core.target.handover import Compute, WholeFiles
from splarn.core.target.levers import DISAGREE, LOAD_LEVERS, LoadLevers
from splarn.core.target.merging import Merging
from splarn.core.target.notes import Claims, Notes
from splarn.core.target.outgoing import Outgoing
from splarn.core.target.tables import Digests, Rows, Tables

if TYPE_CHECKING:
    from sqlalchemy.engine import URL


class Session(Protocol):
    """One connection. Changes wait for `commit`. Errors of the engine come as OutsideError."""

    @property
    def tables(self) -> Tables:
        """Tables as wholes."""

    @property
    def rows(self) -> Rows:
        """The rows of tables."""

    @property
    def digests(self) -> Digests:
        """Figures of rows, and looks at them."""

    @property
    def notes(self) -> Notes:
        """The notes of loads."""

    @property
    def claims(self) -> Claims:
        """Whose turn it is."""

    @property
    def compute(self) -> Compute | None:
        """None where the compute has no sizes."""

    @property
    def files(self) -> WholeFiles | None:
        """None where the engine is given rows."""

    @property
    def outgoing(self) -> Outgoing | None:
        """None where the engine gives no rows back."""

    @property
    def merging(self) -> Merging | None:
        """None where tables are no files."""

    def version(self) -> str:
        """What the engine says it is, with its version."""

    def read(self, statement: str) -> int:
        """Runs a reading statement, fetches what it gives and returns how many rows that is.

        Raises OutsideError when the engine refuses it, RequestError where it takes none.
        """

    def clock(self) -> float:
        """Seconds by which phases are measured: the engine's own, or this machine's."""

    def lay_out(self, layout: str) -> None:
        """How files of tables that are made or filled from now on are laid out.

        Of no meaning where tables are no files.
        """

    def relax(self) -> None:
        """Lets commits return before they are safe from a power cut."""

    def checkpoint(self) -> None:
        """Commits where a change of tables would commit anyway; elsewhere all stays open."""

    def commit(self) -> None: ...

    def rollback(self) -> None: ...

    def close(self) -> None: ...


class Engine(Protocol):
    """A kind of target at a place. Picklable as the function that opens it."""

    @property
    def name(self) -> str:
        """How the kind is called in URLs."""

    @property
    def place(self) -> str:
        """The URL as it may be shown, without secrets."""

    @property
    def in_process(self) -> bool:
        """Whether all streams must be threads of one process."""

    def preload(self) -> None:
        """Imports what sessions need. Opens no connection and fails for nothing that is missing."""

    @property
    def reads_parts(self) -> bool:
        """Whether it is given files rather than rows."""

    @property
    def promises(self) -> tuple[str, ...]:
        """What must be known of how sure it is, in sentences; none where notes commit with rows."""

    @property
    def gathers(self) -> bool:
        """Whether rows lie beside their table until all of a load come in by one commit."""

    @property
    def sets_aside(self) -> bool:
        """Whether bad rows may be set aside while it loads; else it must be given good ones."""

    @property
    def has_sizes(self) -> bool:
        """Whether its compute has sizes that are paid for."""

    @property
    def is_file(self) -> bool:
        """Whether it is a database file, whose URL holds its path."""

    @property
    def folders(self) -> tuple[Path, ...]:
        """Folders that hold it, which all streams must see; none where it is reached by a line."""

    @property
    def levers(self) -> Mapping[str, tuple[str, ...]]:
        """The values that each load lever may take."""

    @property
    def title(self) -> str:
        """What people call this kind of target."""

    @property
    def processes_here(self) -> tuple[str, ...]:
        """Names of the processes on this machine that do its work, besides our own."""

    def __init__(self, url: URL) -> None:
        """Raises RequestError where the URL cannot be one of this kind."""

    def connect(self) -> Session:
        """Opens a session. Raises OutsideError when the target cannot be reached."""

    def ddl(self, table: str, layout: Layout) -> str:
        """The statement that makes the table."""


# Opens the engine anew in whichever process calls it.
OpenEngine = Callable[[], Engine]


def check_levers(levers: LoadLevers, engine: Engine) -> None:
    """Raises RequestError when a value is not known, the engine lacks it, or two do not agree."""
    for name, one in LOAD_LEVERS.items():
        value = one.value(getattr(levers, name))
        if not one.known:
            if value != one.usual and name not in engine.levers:
                raise RequestError(
                    f"{one.option}: {engine.title} lays out no files; leave {value!r} out."
                )
            continue
        has = engine.levers.get(name, one.known[:1])
        if value not in has:
            there = " and ".join(has)
            raise RequestError(
                f"{one.option}: {engine.title} lacks {one.words} {value}; it has {there}."
            )
    if not levers.agree:
        raise RequestError(DISAGREE)
