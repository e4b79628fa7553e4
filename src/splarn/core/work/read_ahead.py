"""Work done a little ahead: one thread draws items while the caller is busy with those before."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from queue import Empty, Full, Queue
from threading import Event, Thread
from typing import TypeVar

Item = TypeVar("Item")
DEPTH = 2
PATIENCE = 0.1


@contextmanager
def ahead(items: Iterator[Item], depth: int = DEPTH) -> Iterator[Iterator[Item]]:
    """The same items, drawn by a thread that is at most `depth` of them ahead.

    An error that drawing raises is raised in its place. Leaving the block stops the thread and
    waits for it, so that whatever the items come from is at rest.
    """
    ready: Queue[tuple[Item | None, BaseException | None]] = Queue(depth)
    over = Event()

    def hand(item: Item | None, error: BaseException | None) -> None:
        while not over.is_set():
            try:
                ready.put((item, error), timeout=PATIENCE)
                return
            except Full:
                continue

    def draw() -> None:
        try:
            for item in items:
                hand(item, None)
                if over.is_set():
                    return
        except BaseException as error:
            hand(None, error)
        else:
            hand(None, StopIteration())

    def given() -> Iterator[Item]:
        while True:
            item, error = ready.get()
            if isinstance(error, StopIteration):
                return
            if error is not None:
                raise error
            yield item  # type: ignore[misc]

    thread = Thread(target=draw, daemon=True)
    thread.start()
    try:
        yield given()
    finally:
        over.set()
        # Room for an item on its way, so that the thread need not wait out its patience.
        with suppress(Empty):
            ready.get_nowait()
        thread.join()
