"""A LOAD DATA LOCAL that reads what is written into a pipe while a thread carries it out."""

from __future__ import annotations

import os
import threading
from typing import Any


class Flow:
    """A LOAD DATA LOCAL under way: a thread sends what is written into a pipe."""

    def __init__(self, connection: Any, into: str) -> None:
        self.stored = self.first = 0
        self.warning: str | None = None
        self._error: BaseException | None = None
        self._connection, self._into = connection, into
        self._reading, self._writing = os.pipe()
        self._open = True
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def write(self, data: bytes) -> None:
        """Hands bytes on, waiting while the pipe is full. Raises what the driver raised."""
        view = memoryview(data)
        try:
            while view:
                view = view[os.write(self._writing, view) :]
        except BrokenPipeError:
            self.end()
            raise

    def end(self) -> None:
        """Waits until all is stored. Raises what the driver raised."""
        if self._open:
            self._open = False
            os.close(self._writing)
            self._thread.join()
        if self._error is not None:
            raise self._error

    def _run(self) -> None:
        try:
            with self._connection.cursor() as cursor:
                name = f"/dev/fd/{self._reading}"
                self.stored = cursor.execute(f"LOAD DATA LOCAL INFILE '{name}' {self._into}")
                cursor.execute("SHOW WARNINGS LIMIT 1")
                warning = cursor.fetchone()
                self.warning = str(warning[2]).rstrip(".") if warning else None
                cursor.execute("SELECT last_insert_id()")
                self.first = int(cursor.fetchone()[0])
        except BaseException as error:
            self._error = error
        finally:
            # Whoever still writes learns that nobody reads any more.
            os.close(self._reading)
