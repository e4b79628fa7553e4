"""How a cluster is found, and whether its workers are such as this machine is."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from splarn.core.cluster import visiting
from splarn.core.errors import OutsideError, RequestError

TIMEOUT = 10.0
# Local workers beyond so many are a slip of the hand.
MOST_LOCAL = 256
_ADDRESS = re.compile(r"(?:tcp|tls|ws|wss|ucx)://[^\s/]+|[\w.\-]+:\d+")


@dataclass(frozen=True)
class Joined:
    """A client of a scheduler. `close` also ends the workers where they were started here."""

    client: Any
    place: str
    close: Callable[[], None]
    started_here: bool = False


def join(where: str) -> Joined:
    """Connects to a scheduler by its address or file, or starts so many workers (`local:N`).

    Raises RequestError for what names no cluster, OutsideError when nobody answers.
    """
    _require()
    if where.startswith("local:"):
        return _local(where)
    if Path(where).is_file():
        return _connected(where, scheduler_file=where)
    if not _ADDRESS.fullmatch(where):
        raise RequestError(
            f"{where!r} names no cluster: give a scheduler's address such as tcp://host:8786, the "
            "file that a scheduler wrote, or local:4 for four workers on this machine."
        )
    return _connected(where, address=where)


def _require() -> None:
    try:
        import distributed  # noqa: F401
    except ModuleNotFoundError:
        raise RequestError(
            "Work on a cluster needs the package distributed, which is not installed: "
            "pip install 'splarn[cluster]'."
        ) from None


def _quiet() -> None:
    """What the library has to say is said in sentences of our own."""
    import logging

    import cloudpickle  # type: ignore[import-untyped]
    import dask

    for name in ("distributed", "distributed.client", "distributed.scheduler", "tornado"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    dask.config.set({"distributed.logging": {"distributed": "critical"}})
    cloudpickle.register_pickle_by_value(visiting)


def _connected(where: str, **how: Any) -> Joined:
    import distributed

    _quiet()
    make: Any = distributed.Client
    try:
        client = make(**how, timeout=TIMEOUT, set_as_default=False, heartbeat_interval="2s")
    except Exception as error:
        # A file that no scheduler wrote ends in whatever the library runs into.
        raise OutsideError(
            f"No scheduler answers at {where} ({type(error).__name__}): check the address and that "
            "it runs."
        ) from None
    return Joined(
        client,
        where if where.startswith(("tcp", "tls")) else str(client.scheduler.addr),
        client.close,
    )


def _local(where: str) -> Joined:
    import distributed

    _quiet()
    make: Any = distributed.Client
    start: Any = distributed.LocalCluster
    count = where.removeprefix("local:")
    if not count.isdigit() or not 1 <= int(count) <= MOST_LOCAL:
        raise RequestError(f"{where!r} is no number of workers: write local:4.")
    try:
        cluster = start(
            n_workers=int(count), threads_per_worker=1, processes=True, dashboard_address=":0",
            silence_logs=50, host="127.0.0.1",
        )  # fmt: skip
        client = make(cluster, timeout=TIMEOUT, set_as_default=False)
    except (OSError, TimeoutError, RuntimeError) as error:
        raise OutsideError(f"No worker could be started here ({error}).") from None

    def close() -> None:
        client.close()
        cluster.close(timeout=TIMEOUT)

    return Joined(client, "this machine", close, True)


def differences(theirs: Any, ours: Mapping[str, Any]) -> list[str]:
    """In what a worker is not as this machine is, as words; nothing where it is.

    A package of an extra that one of the two lacks is missed when it is needed, and not before.
    """
    if not isinstance(theirs, Mapping):
        return [f"it does not answer as this machine does ({type(theirs).__name__}: {theirs})"]
    if theirs.get("missing") or not theirs.get("splarn"):
        return [f"it has no Splarn ({theirs.get('missing') or 'not installed'})"]
    found = [
        f"{name} {theirs.get(key)} in place of {ours.get(key)}"
        for name, key in (("Python", "python"), ("Splarn", "splarn"))
        if theirs.get(key) != ours.get(key)
    ]
    if not found and theirs.get("code") != ours.get("code"):
        found.append("another Splarn of the same version")
    if not found and theirs.get("kernel") != ours.get("kernel"):
        found.append("Splarn's kernel is built on one of the two only")
    packages = ours.get("packages", {})
    for name, version in theirs.get("packages", {}).items():
        here = packages.get(name, "")
        if version and here and version != here:
            found.append(f"{name} {version} in place of {here}")
    return found


def named(addresses: Iterable[str], most: int = 3) -> str:
    """Workers by their addresses, the first of many."""
    every = sorted(addresses)
    more = f" and {len(every) - most} more" if len(every) > most else ""
    return ", ".join(every[:most]) + more
