"""The errors a user can meet, each with the exit code it ends in."""

from __future__ import annotations


class SplarnError(Exception):
    """One sentence for a user: what is wrong, where, and what to do about it."""

    exit_code = 3


class ShortfallError(SplarnError):
    """The work is done, but the data or the limits fell short."""

    exit_code = 1


class RequestError(SplarnError):
    """The request itself is wrong: an option, the job file, a layout."""

    exit_code = 2


class OutsideError(SplarnError):
    """Something outside Splarn failed: a server, a disk, a file that went away."""

    exit_code = 3


class RefusedError(OutsideError):
    """An engine refused rows, for the given reason: a constraint, a value too large."""

    def __init__(self, sentence: str, reason: str) -> None:
        super().__init__(sentence)
        self.reason = reason

    def __reduce__(self) -> tuple[type[RefusedError], tuple[str, str]]:
        # Errors cross between processes.
        return RefusedError, (str(self), self.reason)


class OvertakenError(OutsideError):
    """Another one has moved the note of a part on, so this one brought nothing in."""
