"""One round of faults, by its number, in whichever process it is to run."""

from __future__ import annotations

import shutil
import tempfile
import time
import traceback
from contextlib import suppress
from importlib import import_module
from pathlib import Path

from tests.faults.rounds import ROUNDS, round_of
from tests.faults.world import SERVERS, World
from tests.zygote import EARLY


def run_round(seed: int, only: str | None = None) -> tuple[int, str, str, float]:
    """One round: its number, its name, what did not hold (empty when all did), and seconds."""
    act = round_of(seed)
    if only is not None:
        act = next(one for _, one in ROUNDS if one.__name__ == only)
    folder = Path(tempfile.mkdtemp(prefix=f"splarn-fault-{seed}-"))
    world = World(seed, folder)
    begun = time.monotonic()
    wrong = ""
    try:
        act(world)
    except BaseException as error:
        if isinstance(error, KeyboardInterrupt):
            raise
        where = traceback.extract_tb(error.__traceback__)[-1]
        wrong = f"{type(error).__name__} ({Path(where.filename).name}:{where.lineno}): {error}"
    finally:
        for one in reversed(world.closing):
            with suppress(Exception):
                one.close()
        if not wrong:
            shutil.rmtree(folder, ignore_errors=True)
    return seed, act.__name__, wrong, time.monotonic() - begun


def prepare() -> None:
    """What each worker does first: the imports of the program, which its rounds then fork."""
    for name in EARLY:
        import_module(name)


def begin_worker(servers: dict[str, str]) -> None:
    """Tells a worker where the servers are, and prepares it."""
    SERVERS.update(servers)
    prepare()
