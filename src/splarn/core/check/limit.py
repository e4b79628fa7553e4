"""How many rows may be bad: as a count, as a share of those read, or none at all."""

from __future__ import annotations

from dataclasses import dataclass

from splarn.core.errors import ShortfallError
from splarn.core.reading.faults import Fault
from splarn.core.units import parse_count, parse_share, plural

# A share means little before so many rows are read.
LEAST_ROWS = 1000


@dataclass(frozen=True)
class BadRows:
    """The most rows that may be set aside; None means any number.

    `share` is of the rows read so far (0.01 is one in a hundred), of all of them in the end.
    """

    count: int | None = None
    share: float | None = None

    def allows(self, bad: int, rows: int) -> bool:
        """Whether so many bad ones of so many rows are still within the limit."""
        if self.count is not None and bad > self.count:
            return False
        if self.share is None or rows < LEAST_ROWS:
            return True
        return bad <= self.share * rows

    def allows_in_the_end(self, bad: int, rows: int) -> bool:
        """The same when all rows are read, however few they are."""
        return self.allows(bad, rows) and (self.share is None or bad <= self.share * rows)

    def less(self, bad: int) -> BadRows:
        """What is left of it once so many rows were set aside before; a share stays what it is."""
        return self if self.count is None else BadRows(max(self.count - bad, 0), self.share)

    def as_json(self) -> int | str | None:
        """As `read` takes it."""
        return self.count if self.share is None else f"{self.share * 100:g}%"

    @classmethod
    def read(cls, limit: int | str | None) -> BadRows:
        """A limit as people write it: `500`, `2_000` or `1%`; None for any number.

        Raises RequestError for anything else.
        """
        if limit is None:
            return cls()
        if isinstance(limit, str) and limit.strip().endswith("%"):
            return cls(share=parse_share(limit))
        return cls(parse_count(limit))

    def __str__(self) -> str:
        if self.share is not None:
            return f"{self.share * 100:g} % of the rows"
        return "any rows" if self.count is None else f"{plural(self.count, 'row')}"


def too_many_bad(limit: BadRows, fault: Fault | None = None) -> ShortfallError:
    """The error for a bad row over the limit, naming that row where it is known."""
    last = ""
    if fault is not None:
        where = f"{fault.path}, line {fault.line}"
        reason = f"field {fault.field}: {fault.value!r} is {fault.message}"
        if fault.field is None or fault.value is None:
            reason = f"field {fault.field}: {fault.message}" if fault.field else fault.message
        if limit.count == 0:
            return ShortfallError(
                f"The load stopped at a bad row ({where}: {reason}); mend it, or give --bad-rows "
                "set-aside, and run the same command again to go on."
            )
        last = f", the last one at {where} ({reason})"
    verb = "is" if str(limit).startswith("1 ") else "are"
    return ShortfallError(
        f"The load stopped because more than {limit} {verb} bad{last}; raise --bad-row-limit or "
        "mend the files, then run the same command to go on."
    )
