"""The workers of a cluster that were found to be of use, by machine."""

from __future__ import annotations

import asyncio
import pickle
import secrets
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from splarn.core.cluster import visiting
from splarn.core.cluster.guests import Letter, farewell, let_go, measured, welcome
from splarn.core.cluster.joining import Joined, differences, named
from splarn.core.cluster.reaching import Reach
from splarn.core.cluster.sealing import Letters, Sealed, sealed
from splarn.core.errors import OutsideError, RequestError
from splarn.core.source.secrets import OF_SESSION
from splarn.core.units import plural

# A worker that does not answer within so many seconds is asked again later.
ANSWER = 10.0
# Nothing is waited for longer than this, in seconds, of one that is being left.
LEAVING = 2.0


@dataclass(eq=False)
class Worker:
    """One worker process, its machine and how many calls it takes at once."""

    address: str
    machine: str
    threads: int
    memory: int
    calls: set[Any] = field(default_factory=set)
    ready: bool = True


class Crew:
    """Workers of a scheduler; `per_machine` is how many calls may be at work on each machine."""

    def __init__(self, joined: Joined, per_machine: int | None = None) -> None:
        self.client, self.place, self._joined = joined.client, joined.place, joined
        self.per_machine = per_machine
        self.session = secrets.token_hex(4)
        self.letters = Letters(f"s{self.session}{OF_SESSION}")
        self.reach = Reach()
        self.fit: dict[str, Worker] = {}
        # Those that are of no use, with the reason, and those that are being asked.
        self.unfit: dict[str, str] = {}
        self._asked: set[str] = set()
        self._known: dict[str, dict[str, Any]] = {}
        self.ours = visiting.look()

    @property
    def threads(self) -> int:
        """Calls that may be at work at once, on all machines together."""
        return self.capacity()

    @property
    def machines(self) -> int:
        """Machines that have a worker of use."""
        return len({worker.machine for worker in self.fit.values()})

    def muster(self) -> None:
        """Greets all workers that are there.

        Raises OutsideError when there is none, RequestError when one has other versions than this
        machine, or all lack a place that is needed.
        """
        come, _ = self.look()
        if not come and not self.fit:
            raise OutsideError(f"The cluster at {self.place} has no workers: start some.")
        looks = self._differing(come)
        self._refuse_others(looks)
        self.asked(come)
        self.joined(dict.fromkeys(come) | self._welcomed(looks))
        self._refuse_none()

    def _differing(self, addresses: Sequence[str]) -> dict[str, str]:
        """In what each worker that answers is not as this machine is; empty where it is."""
        told = self._ask(visiting.look, addresses)
        return {address: "; ".join(differences(one, self.ours)) for address, one in told.items()}

    def _refuse_others(self, looks: Mapping[str, str]) -> None:
        for what in filter(None, looks.values()):
            where = [address for address, one in looks.items() if one == what]
            raise RequestError(
                f"{named(where)} of {self.place} would not do what this machine does: {what}. "
                "Install the same there, or leave such workers out of the cluster."
            )

    def _ask(
        self, what: Any, addresses: Sequence[str], *given: Any, within: float = ANSWER
    ) -> dict[str, Any]:
        """What workers answer to a function; those left out that do not, as one that is ended.

        Raises OutsideError when the scheduler is gone.
        """
        client = self.client

        async def ask() -> dict[str, Any]:
            asked = {
                address: asyncio.ensure_future(
                    client.run(what, *given, workers=[address], on_error="return")
                )
                for address in addresses
            }
            done, late = await asyncio.wait(asked.values(), timeout=within)
            for one in late:
                one.cancel()
            return {
                address: one.result()[address]
                for address, one in asked.items()
                if one in done and one.exception() is None and address in one.result()
            }

        if not addresses:
            return {}
        try:
            told: dict[str, Any] = client.sync(ask)
        except Exception as error:
            raise self._gone(error) from None
        return {address: one for address, one in told.items() if not _unheard(one)}

    def _gone(self, error: BaseException) -> OutsideError:
        return OutsideError(
            f"The scheduler at {self.place} is gone ({type(error).__name__}): run the same command "
            "again when it is back; what is in stays in."
        )

    def look(self) -> tuple[list[str], list[Worker]]:
        """Addresses that are new, and workers that are no longer there.

        Raises OutsideError when the scheduler does not answer.
        """
        try:
            found = self.client.sync(
                self.client.scheduler.identity, n_workers=-1, callback_timeout=10
            )
        except Exception as error:
            raise self._gone(error) from None
        self._known = found["workers"]
        gone = [worker for address, worker in self.fit.items() if address not in self._known]
        for worker in gone:
            del self.fit[worker.address]
        for address in [one for one in self.unfit if one not in self._known]:
            del self.unfit[address]
        seen = {*self.fit, *self.unfit, *self._asked}
        return [address for address in self._known if address not in seen], gone

    def asked(self, addresses: Iterable[str]) -> None:
        """Notes that these are being greeted."""
        self._asked |= set(addresses)

    def greeted(self, addresses: Sequence[str]) -> dict[str, str | None]:
        """Greets workers; for each why it is of no use, empty where it is, None where it is silent.

        Raises OutsideError when the scheduler is gone.
        """
        return dict.fromkeys(addresses) | self._welcomed(self._differing(addresses))

    def _welcomed(self, looks: Mapping[str, str]) -> dict[str, str | None]:
        """Tells workers that are as this machine is what they need; see `greeted`."""
        found: dict[str, str | None] = {
            address: f"differs ({what})" if what else None for address, what in looks.items()
        }
        alike = [address for address, why in found.items() if why is None]
        reach = sealed(self.reach, self.letters.number)
        letter = Letter(
            tuple(self.letters.there()), self.letters.names(), reach, self.reach.version
        )
        sent = Sealed(self.session, pickle.dumps(letter))
        for address, told in self._ask(welcome, alike, sent).items():
            found[address] = (told[0] if told else "") if isinstance(told, tuple) else _why(told)
        return found

    def joined(self, found: Mapping[str, str | None]) -> list[Worker]:
        """Takes in what came of a greeting; workers that are of no use any more.

        One that was silent is greeted again while the scheduler knows it.
        """
        self._asked -= set(found)
        left: list[Worker] = []
        for address, why in found.items():
            known = self._known.get(address)
            if known is None or why is None:
                continue
            if why:
                self.unfit[address] = why
                if address in self.fit:
                    left.append(self.fit.pop(address))
                continue
            self.unfit.pop(address, None)
            if address not in self.fit:
                self.fit[address] = Worker(
                    address, str(known["host"]), int(known["nthreads"]),
                    int(known.get("memory_limit") or 0),
                )  # fmt: skip
            self.fit[address].ready = True
        return left

    def renew(self) -> None:
        """Tells all that have been greeted what has been added since.

        Raises RequestError when none of them is of use any more.
        """
        self.joined(self.greeted(list(self.fit)))
        self._refuse_none()

    def _refuse_none(self) -> None:
        if not self.fit and self.unfit:
            reason = next(iter(self.unfit.values()))
            raise RequestError(f"{_who(self.unfit)} {reason}.")

    def capacity(self, machines: int | None = None) -> int:
        """Calls that may be at work at once on so many of the machines, on all if None."""
        here = self._first(machines)
        by_machine: dict[str, int] = {}
        for worker in list(self.fit.values()):
            if here is None or worker.machine in here:
                by_machine[worker.machine] = by_machine.get(worker.machine, 0) + worker.threads
        most = self.per_machine
        return sum(min(one, most) if most else one for one in by_machine.values())

    def _first(self, machines: int | None) -> set[str] | None:
        """The machines of which only so many are to work; None where all may."""
        if machines is None:
            return None
        return set(sorted({one.machine for one in self.fit.values()})[:machines])

    def room(self, ahead: int, machines: int | None = None) -> Worker | None:
        """The worker that has the most to give, None where all are busy enough.

        Only so many of the `machines` are given something, all if None.
        """
        here = self._first(machines)
        busy: dict[str, int] = {}
        for worker in self.fit.values():
            busy[worker.machine] = busy.get(worker.machine, 0) + len(worker.calls)
        best: Worker | None = None
        most = self.per_machine
        for worker in self.fit.values():
            held = len(worker.calls)
            if not worker.ready or (here is not None and worker.machine not in here):
                continue
            if held >= worker.threads + (0 if most else ahead):
                continue
            if most is not None and busy[worker.machine] >= most:
                continue
            if self._known.get(worker.address, {}).get("status", "running") != "running":
                continue
            if best is None or _load(worker, busy) < _load(best, busy):
                best = worker
        return best

    def why_not(self) -> str:
        """Why workers that are there are of no use, to follow a sentence."""
        if not self.unfit:
            return ""
        return f" ({_who(self.unfit)} {next(iter(self.unfit.values()))})"

    def used(self) -> dict[str, dict[str, float]]:
        """What each worker's process has used since it began."""
        told = self._ask(measured, list(self.fit))
        machines = {address: worker.machine for address, worker in self.fit.items()}
        # A machine's network is told once, by one of its workers.
        first = {machine: address for address, machine in reversed(machines.items())}
        return {
            address: {
                key: value
                for key, value in one.items()
                if not key.startswith("network") or first[machines[address]] == address
            }
            for address, one in told.items()
            if isinstance(one, dict)
        }

    def let_go(self, at: dict[str, list[int]]) -> dict[str, list[int]]:
        """Has workers end calls that nobody wants; those that are still at work."""
        left: dict[str, list[int]] = {}
        for address, numbers in at.items():
            told = self._ask(let_go, [address], self.session, numbers, within=LEAVING).get(address)
            if isinstance(told, tuple) and told:
                left[address] = list(told)
        return left

    def leave(self) -> None:
        """Has all workers forget this session, and lets the scheduler go."""
        try:
            with suppress(OutsideError):
                self._ask(farewell, list(self.fit), self.session, within=LEAVING)
        finally:
            self._joined.close()


def _load(worker: Worker, busy: dict[str, int]) -> tuple[float, int]:
    return len(worker.calls) / max(worker.threads, 1), busy[worker.machine]


def _who(unfit: dict[str, str]) -> str:
    if len(unfit) == 1:
        return f"The worker {next(iter(unfit))}"
    return f"None of the {plural(len(unfit), 'worker')} is of use: {next(iter(unfit))}"


def _unheard(answer: Any) -> bool:
    """Whether it is none of the worker's own, which was ended before it could give one."""
    return isinstance(answer, OSError | TimeoutError | EOFError)


def _why(error: Any) -> str:
    # What others than Splarn's own errors quote may be anything.
    return f"did not answer as Splarn does ({type(error).__name__})"
