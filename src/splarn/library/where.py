"""Where the library's work is done: on this machine, or on a cluster for as long as a block."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING

from splarn.core.source.places import Place, Remote
from splarn.core.work.pools import Pools
from splarn.engines import from_anywhere

if TYPE_CHECKING:
    from splarn.core.target.session import OpenEngine


@dataclass(frozen=True)
class _Cluster:
    where: str
    per_machine: int | None


_joined: ContextVar[_Cluster | None] = ContextVar("splarn_cluster", default=None)


@contextmanager
def cluster(where: str | PathLike[str], *, per_machine: int | None = None) -> Iterator[None]:
    """Calls within this block have their work done by the workers of a Dask cluster.

    `where` is a scheduler's address, the file that it has written, or `local:N`; at most
    `per_machine` pieces of work are at work on one machine. It holds for survey, check, shape,
    ship, load, unload, compact, sweep and run: `with splarn.cluster("tcp://…"): splarn.shape(…)`.
    Each joins the cluster and leaves it again. Workers must reach what is read and written, by the
    same names. The calls raise RequestError where they do not, or differ in Splarn or its
    libraries, and OutsideError where no cluster is found.
    """
    before = _joined.set(_Cluster(str(where), per_machine))
    try:
        yield
    finally:
        _joined.reset(before)


def elsewhere() -> bool:
    """Whether work is done on a cluster."""
    return _joined.get() is not None


def everywhere(at: Place) -> Place:
    """A place by a name that means the same wherever the work is done."""
    return at.absolute() if elsewhere() and not isinstance(at, Remote) else at


def own(folder: str | PathLike[str]) -> Path:
    """A folder that work writes into, by a name that means the same wherever that is."""
    return Path(folder).absolute() if elsewhere() else Path(folder)


def anywhere(target: str) -> str:
    """A target's URL that means the same wherever the work is done."""
    return from_anywhere(target) if elsewhere() else target


@contextmanager
def pools(
    reading: Sequence[Place] = (),
    writing: Sequence[Path | None] = (),
    into: OpenEngine | None = None,
) -> Iterator[Pools]:
    """Workers for one call, ended with it; those of a cluster must reach what is named."""
    joined = _joined.get()
    if joined is None:
        with Pools() as opened:
            yield opened
        return
    from splarn.core.cluster.pool import Cluster, refuse_files

    if into is not None:
        refuse_files(into())
    away = Cluster(joined.where, joined.per_machine)
    with Pools(away=away) as opened:
        away.reach(reading, writing, into)
        yield opened
