"""The compute of a described engine whose size can be asked and set."""

from __future__ import annotations

from splarn.core.errors import OutsideError
from splarn.core.target.handover import Size
from splarn.engines.described.link import DescribedLink
from splarn.engines.sql.link import Concern

# What an answer says where the compute runs.
RUNNING = ("1", "t", "true", "y", "yes", "running", "started")


class DescribedCompute(Concern):
    """See Compute."""

    link: DescribedLink

    def size(self) -> Size:
        """See Compute."""
        told = self.link.description.statements
        with self.link.failing("Asking the size of", self.link.place):
            answer = self.link.say(told.size)
        if not answer.rows:
            raise OutsideError(
                f"statements.size of {self.link.description.path} answered no row: it must answer "
                "the tier, and whether it runs."
            )
        row = answer.rows[0]
        running = len(row) < 2 or str(row[1]).strip().lower() in RUNNING
        tiers = tuple(told.tiers) or (str(row[0]),)
        return Size(str(row[0]), tiers, running)

    def resize(self, tier: str) -> None:
        """See Compute."""
        with self.link.failing("Changing the size of", self.link.place):
            self.link.say(self.link.description.statements.resize, tier=tier)
            self.link.commit()
