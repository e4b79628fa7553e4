"""What work uses is measured, and only what it uses."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from splarn.core.tuning.gauges import Gauge, Used

BURN = "import time; t = time.process_time()\nwhile time.process_time() - t < 0.4: pass"


def test_processor_memory_and_disk_are_those_of_the_work_alone(tmp_path: Path) -> None:
    idle = subprocess.Popen([sys.executable, "-c", f"{BURN}\ntime.sleep(60)"])
    time.sleep(1.0)
    with Gauge() as gauge:
        subprocess.run([sys.executable, "-c", f"x = bytearray(80 << 20)\n{BURN}"], check=True)
        (tmp_path / "file").write_bytes(bytes(8 << 20))
    used = gauge.used
    idle.kill()
    idle.wait()
    # Others on this machine may slow the work down, but add nothing to it.
    assert 0.3 <= used.cpu_seconds < 3
    assert used.server_cpu_seconds == 0
    assert used.peak_memory >= 80 << 20
    assert used.disk_written >= 0


def test_what_held_work_up_follows_from_the_cores_it_kept_busy() -> None:
    assert Used(cpu_seconds=1000.0).bound(1.0) == "processor"
    assert Used(cpu_seconds=0.01).bound(10.0) == "waiting"
    assert Used.__name__ in repr(Used()) and set(Used().as_json()) == {
        "cpu_seconds", "server_cpu_seconds", "peak_memory", "disk_read", "disk_written",
        "network_sent", "network_received",
    }  # fmt: skip
