"""What a worker's process has used, as it tells it itself."""

from __future__ import annotations

from contextlib import suppress


def of_this_process() -> dict[str, float]:
    """Core-seconds, bytes of its own in memory, bytes read from and written to disks, and those
    that went over the network of its machine, by whomever.
    """
    import psutil

    process = psutil.Process()
    times = process.cpu_times()
    told = {"cpu_seconds": times.user + times.system, "memory": memory_now()}
    with suppress(psutil.Error, AttributeError):
        counters = process.io_counters()
        told |= {"disk_read": counters.read_bytes, "disk_written": counters.write_bytes}
    network = psutil.net_io_counters()
    if network is not None:
        told |= {"network_sent": network.bytes_sent, "network_received": network.bytes_recv}
    return told


def memory_now() -> float:
    """Bytes in memory that this process shares with no other."""
    import psutil

    memory = psutil.Process().memory_info()
    return float(memory.rss - getattr(memory, "shared", 0))
