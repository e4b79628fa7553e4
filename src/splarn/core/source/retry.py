"""Trying again what may pass, after waits that double, vary by chance and heed what is asked."""

from __future__ import annotations

import random
import re
import time
from collections.abc import Callable
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import TypeVar

from splarn.core.errors import OutsideError
from splarn.core.units import show_duration
from splarn.core.work.lanes import tell

Found = TypeVar("Found")
# Tries of one thing before it is given up; the waits between them double up to the longest.
TRIES = 9
FIRST_WAIT, LONGEST_WAIT = 0.1, 20.0
# The longest rest that a depot is given, at one time and all together, in seconds.
LONGEST_REST, MOST_REST = 120.0, 600.0
WORTH_SAYING = 3.0
# Answers of an HTTP store after which trying again may help.
PASSING = frozenset({408, 425, 429, 500, 502, 503, 504})


_SECONDS = re.compile(r"([0-9]+)(?:\.[0-9]{0,9})?")


class Unready(Exception):
    """A depot that could not take or give something now; trying again may help.

    `wait` is how many seconds it asked to be left alone for, None if it did not say.
    """

    def __init__(self, why: str, wait: float | None = None) -> None:
        super().__init__(why)
        self.why = why
        self.wait = wait


class Trying:
    """Tries acts at a place again and counts what that took; `throttled` is in seconds.

    Spreading keeps streams that were turned away together from coming back together (Brooker 2015,
    "Exponential Backoff and Jitter").
    """

    def __init__(self, place: str, name: str, pause: Callable[[float], None] = time.sleep) -> None:
        self.place, self.name, self.pause = place, name, pause
        self.requests = self.retries = 0
        self.throttled = 0.0

    def until_ready(self, act: Callable[[], Found]) -> Found:
        """What the act gives. Raises OutsideError when it is not ready again and again."""
        tried = 0
        while True:
            self.requests += 1
            try:
                return act()
            except Unready as unready:
                tried += 1
                if tried == TRIES:
                    raise OutsideError(
                        f"{self.place} did not give or take {self.name} in {TRIES} tries "
                        f"({unready.why}): run the same command again to go on, with fewer streams "
                        "if it asks for rest."
                    ) from None
                self.retries += 1
                wait = random.uniform(0, min(FIRST_WAIT * 2 ** (tried - 1), LONGEST_WAIT))
                if unready.wait is not None:
                    if unready.wait > LONGEST_REST or self.throttled + unready.wait > MOST_REST:
                        raise OutsideError(
                            f"{self.place} asks to be left alone for "
                            f"{show_duration(unready.wait)} ({unready.why}), longer than Splarn "
                            "waits: run the same command again then, with fewer streams."
                        ) from None
                    wait += unready.wait
                    self.throttled += wait
                if wait >= WORTH_SAYING:
                    tell(f"{self.place} asks for rest: waiting {show_duration(wait)}.")
                self.pause(wait)


def seconds_asked(text: str | None) -> float | None:
    """What Retry-After asks for: seconds or a date (RFC 9110, section 10.2.3).

    None where it asks for nothing that could be understood.
    """
    if text is None:
        return None
    text = text.strip()
    if number := _SECONDS.fullmatch(text):
        # More digits than these are longer than anybody waits.
        return float(text) if len(number[1]) <= 12 else 1e12
    try:
        until = parsedate_to_datetime(text)
        if until.tzinfo is None:
            until = until.replace(tzinfo=UTC)
        return max((until - datetime.now(UTC)).total_seconds(), 0.0)
    except (TypeError, ValueError, OverflowError):
        return None
