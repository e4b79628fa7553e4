"""Where a command's work is done: on this machine, or on a cluster that it joins."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from splarn.cli.output import Output
    from splarn.core.source.places import Place
    from splarn.core.target.session import OpenEngine
    from splarn.core.work.pools import Pools

# What works on this machine although the job names a cluster.
HERE = "here"


class Where:
    """What a command needs to know of that; `cluster` is None for this machine."""

    def __init__(self, out: Output, cluster: str | None, per_machine: int | None) -> None:
        self.out = out
        self.cluster = None if cluster == HERE else cluster
        self.per_machine = per_machine

    def everywhere(self, at: Place) -> Place:
        """A place by a name that means the same wherever the work is done."""
        from splarn.core.source.places import Remote

        return at if self.cluster is None or isinstance(at, Remote) else at.absolute()

    def anywhere(self, url: str) -> str:
        """A target's URL that means the same wherever the work is done."""
        from splarn.engines import from_anywhere

        return url if self.cluster is None else from_anywhere(url)

    def own(self, folder: Path) -> Path:
        """A folder that work writes into, by a name that means the same wherever that is."""
        return folder if self.cluster is None else folder.absolute()

    @contextmanager
    def pools(
        self,
        inherit: bool = False,
        *,
        reading: Sequence[Place] = (),
        writing: Sequence[Path | None] = (),
        into: OpenEngine | None = None,
    ) -> Iterator[Pools]:
        """The pools of a command: of this machine, or of the cluster that it works on.

        There all workers must reach what is read and written. Workers here may `inherit`.
        """
        from splarn.core.work.pools import Pools

        if self.cluster is None:
            with Pools(inherit) as pools:
                yield pools
            return
        from splarn.core.cluster.pool import Cluster, refuse_files

        if into is not None:
            refuse_files(into())
        with self.out.working("joining the cluster"):
            cluster = Cluster(self.cluster, self.per_machine)
        with Pools(away=cluster) as pools:
            cluster.reach(reading, writing, into)
            self.out.aside(f"cluster: {cluster.told()}")
            for sentence in cluster.notes():
                self.out.note(sentence)
            yield pools
