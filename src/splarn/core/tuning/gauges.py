"""What work uses on this machine: processor time, memory and disk, ours and a server's."""

from __future__ import annotations

import os
import threading
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from types import TracebackType
from typing import Any

# What workers on other machines have used, by their names and the figures'.
Afar = Mapping[str, Mapping[str, float]]
EVERY = 0.1
# Every so manieth look is at a server's processes too, since all of a machine must be gone through.
RARELY = 5
# A share of all cores from which on work waits for the processor more than for anything else.
BUSY = 0.85


@dataclass(frozen=True)
class Used:
    """Core-seconds of our processes and of the server's where it is on this machine, bytes at most
    in the memory of ours that worked (what they share left out), bytes that ours read from the disk
    and wrote there, and those that went over this machine's network, loopback too, by whomever: the
    system does not tell whose they are.

    What the system does not tell is 0.
    """

    cpu_seconds: float = 0.0
    server_cpu_seconds: float = 0.0
    peak_memory: int = 0
    disk_read: int = 0
    disk_written: int = 0
    network_sent: int = 0
    network_received: int = 0

    def as_json(self) -> dict[str, float]:
        """The figures by name."""
        return asdict(self)

    def plus(self, before: Afar, after: Afar) -> Used:
        """With what workers on other machines used between two looks.

        One that came between them began with nothing; what one used that is gone is not known.
        """
        sums = Counter[str]()
        for name, one in after.items():
            was = before.get(name, {})
            sums["peak_memory"] += int(one.get("memory", 0))
            for key in ("disk_read", "disk_written", "network_sent", "network_received"):
                sums[key] += int(max(one.get(key, 0) - was.get(key, 0), 0))
        cpu = sum(
            max(one["cpu_seconds"] - before.get(name, {}).get("cpu_seconds", 0.0), 0.0)
            for name, one in after.items()
        )
        ours = {key: value + sums[key] for key, value in asdict(self).items()}
        return Used(**{**ours, "cpu_seconds": self.cpu_seconds + cpu})

    def bound(self, seconds: float) -> str:
        """What held the work up, as far as that can be told: `processor`, or `waiting`."""
        cores = os.cpu_count() or 1
        busy = (self.cpu_seconds + self.server_cpu_seconds) / max(seconds * cores, 1e-9)
        return "processor" if busy >= BUSY else "waiting"


class Gauge:
    """Watches from when it is entered until it is left; `used` is known then.

    `server` are the names of the processes that do the target's work here. Processes that end
    meanwhile count with what they were last seen to have used. `afar` tells what workers on other
    machines have used so far, each by `cpu_seconds`, `memory` (at most since it was last asked) and
    others of the figures' names.
    """

    def __init__(self, server: Sequence[str] = (), afar: Callable[[], Afar] | None = None) -> None:
        self.used = Used()
        self._afar = afar or (dict)
        self._afar_first: Afar = {}
        self._server = frozenset(server)
        self._first: dict[tuple[int, float], Any] = {}
        self._last: dict[tuple[int, float], Any] = {}
        self._memory: dict[tuple[int, float], int] = {}
        self._network = (0, 0)
        self._left = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)

    def __enter__(self) -> Gauge:
        self._look()
        self._afar_first = self._afar()
        self._first = dict(self._last)
        self._memory.clear()
        self._network = _network()
        self._thread.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._left.set()
        self._thread.join()
        self._look()
        sent, received = (
            max(now - before, 0) for now, before in zip(_network(), self._network, strict=True)
        )
        totals = [0.0, 0.0, 0.0, 0.0]
        memory = 0
        for key, figures in self._last.items():
            ours, *now = figures
            before = self._first.get(key, (ours, 0.0, 0, 0))[1:]
            cpu, read, written = (max(a - b, 0) for a, b in zip(now, before, strict=True))
            totals[0 if ours else 1] += cpu
            totals[2] += read if ours else 0
            totals[3] += written if ours else 0
            # Workers of other trials stand by.
            memory += self._memory[key] if ours and cpu > 0 else 0
        here = Used(totals[0], totals[1], memory, int(totals[2]), int(totals[3]), sent, received)
        self.used = here.plus(self._afar_first, self._afar())

    def _watch(self) -> None:
        looks = 0
        while not self._left.wait(EVERY):
            looks += 1
            self._look(looks % RARELY == 0)

    def _look(self, at_server: bool = True) -> None:
        import psutil

        for process, ours in self._processes(at_server):
            with suppress(psutil.Error), process.oneshot():
                times = process.cpu_times()
                read = written = 0
                with suppress(psutil.Error, AttributeError):
                    counters = process.io_counters()
                    read, written = counters.read_bytes, counters.write_bytes
                key = process.pid, process.create_time()
                self._last[key] = ours, times.user + times.system, read, written
                memory = process.memory_info()
                private = memory.rss - getattr(memory, "shared", 0)
                self._memory[key] = max(self._memory.get(key, 0), private)

    def _processes(self, at_server: bool) -> Iterator[tuple[Any, bool]]:
        import psutil

        own = psutil.Process()
        yield own, True
        with suppress(psutil.Error):
            yield from ((child, True) for child in own.children(recursive=True))
        if self._server and at_server:
            for process in psutil.process_iter(["name"]):
                if process.info["name"] in self._server:
                    yield process, False


def _network() -> tuple[int, int]:
    """Bytes that this machine has sent and received so far, over all its interfaces."""
    import psutil

    counters = psutil.net_io_counters()
    return (0, 0) if counters is None else (counters.bytes_sent, counters.bytes_recv)
