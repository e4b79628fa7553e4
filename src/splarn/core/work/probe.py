"""What this machine can do at most: disk, memory and loopback, each measured in a second or so."""

from __future__ import annotations

import os
import socket
import threading
import time
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path

from splarn.core.work.disk import outside

MIB = 1 << 20
BLOCK = 4 * MIB
# Nothing is measured for longer than this, in seconds, nor of more than so many bytes.
LONGEST = 2.0
DISK = 512 * MIB
# Round trips of which the fastest tells how fast one can be.
TRIPS = 40


def disk_speeds(folder: Path) -> dict[str, float]:
    """Bytes a second written and read in order, below `folder`: past the cache and out of it.

    Written bytes count once they are on the disk. Where the system keeps what is read in its cache
    all the same, both ways of reading are alike. Raises OutsideError when the disk refuses.
    """
    path = folder / f"splarn-probe-{os.getpid()}"
    block = os.urandom(BLOCK)
    with outside(f"Measuring the disk in {folder}"):
        try:
            written = 0
            begun = time.perf_counter()
            with path.open("wb", buffering=0) as file:
                while written < DISK and time.perf_counter() - begun < LONGEST:
                    written += file.write(block)
                os.fsync(file.fileno())
            writing = written / (time.perf_counter() - begun)
            past = _read(path, forget=True)
            return {
                "disk_write": writing,
                "disk_read": past,
                "disk_read_cached": _read(path, forget=False),
            }
        finally:
            with suppress(OSError):
                path.unlink(missing_ok=True)


def _read(path: Path, forget: bool) -> float:
    buffer = bytearray(BLOCK)
    with path.open("rb", buffering=0) as file:
        if forget and hasattr(os, "posix_fadvise"):
            os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
        read = 0
        begun = time.perf_counter()
        while (count := file.readinto(buffer)) and time.perf_counter() - begun < LONGEST:
            read += count
        return read / (time.perf_counter() - begun)


def memory_copy() -> float:
    """Bytes a second that one core copies from memory to memory; more than any cache holds."""
    source, target = bytearray(os.urandom(64 * MIB)), bytearray(64 * MIB)
    best = 0.0
    for _ in range(5):
        begun = time.perf_counter()
        target[:] = source
        best = max(best, len(source) / (time.perf_counter() - begun))
    return best


def loopback() -> float:
    """Bytes a second that one connection carries within this machine."""
    with closing(socket.create_server(("127.0.0.1", 0))) as server:
        received = [0]

        def take() -> None:
            connection, _ = server.accept()
            buffer = bytearray(BLOCK)
            with connection:
                while count := connection.recv_into(buffer):
                    received[0] += count

        taker = threading.Thread(target=take, daemon=True)
        taker.start()
        block = os.urandom(BLOCK)
        begun = time.perf_counter()
        with socket.create_connection(server.getsockname()) as line:
            while time.perf_counter() - begun < LONGEST / 2:
                line.sendall(block)
        taker.join()
        return received[0] / (time.perf_counter() - begun)


def quickest(act: Callable[[], object]) -> float:
    """The seconds that an act takes where nothing disturbs it: the median of its fastest half."""
    took: list[float] = []
    begun = time.perf_counter()
    while len(took) < TRIPS and (len(took) < 5 or time.perf_counter() - begun < LONGEST):
        before = time.perf_counter()
        act()
        took.append(time.perf_counter() - before)
    fast = sorted(took)[: max(len(took) // 2, 1)]
    return fast[len(fast) // 2]


def until_it_grows_no_more(
    measure: Callable[[int], float], most: int = 32
) -> list[tuple[int, float]]:
    """What 1, 2, 4 … streams carry, until twice as many carry less than a tenth more."""
    found: list[tuple[int, float]] = []
    streams = 1
    while streams <= most:
        found.append((streams, measure(streams)))
        if len(found) > 1 and found[-1][1] < 1.1 * found[-2][1]:
            break
        streams *= 2
    return found
