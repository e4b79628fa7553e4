"""A file of JSON lines that a scheduler can read: what happened, when, and how long it took."""

from __future__ import annotations

import json
import threading
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from splarn.core.work.disk import outside


class Log:
    """One such file, added to.

    Raises OutsideError when it cannot be opened; later on the work is worth more than its log.
    """

    def __init__(self, path: Path) -> None:
        self._lock = threading.Lock()
        with outside(f"Writing the log {path}"):
            path.parent.mkdir(parents=True, exist_ok=True)
            # Unbuffered, so that what is there is whole at any moment.
            self._file = path.open("ab", buffering=0)

    def write(self, what: str, told: dict[str, Any]) -> None:
        """Adds a line."""
        at = datetime.now(UTC).isoformat(timespec="milliseconds")
        line = json.dumps({"at": at, "event": what, **told}, ensure_ascii=False, default=str)
        with suppress(OSError, ValueError), self._lock:
            self._file.write(line.encode(errors="backslashreplace") + b"\n")

    def close(self) -> None:
        """Ends the file."""
        self._file.close()
