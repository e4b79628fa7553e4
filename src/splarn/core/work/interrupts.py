"""Ctrl-C, also where it is lost on the way.

Python raises it wherever the program is, and some libraries written in C swallow it there. So it is
noted too, and whoever waits for work looks whether one was lost.
"""

from __future__ import annotations

import signal
import threading
from types import FrameType

_noted = threading.Event()


def listen() -> None:
    """Notes interrupts from now on; does nothing outside the main thread, or where they are off."""
    if threading.current_thread() is not threading.main_thread():
        return
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _note)


def _note(number: int, frame: FrameType | None) -> None:
    _noted.set()
    raise KeyboardInterrupt


def raise_lost() -> None:
    """Raises KeyboardInterrupt, once, where one was noted and the work goes on all the same."""
    if _noted.is_set() and threading.current_thread() is threading.main_thread():
        _noted.clear()
        raise KeyboardInterrupt


def met() -> None:
    """The interrupt arrived: what is done from here on is not to be broken off by it again."""
    _noted.clear()
