"""What a shipment took: by file, by stream, and all together."""

from __future__ import annotations

from dataclasses import dataclass, replace

from splarn.core.prices import Usage


@dataclass(frozen=True)
class Turn:
    """What one stream did for one file, or for a range of it.

    `bytes` are those sent; `throttled` are seconds waited because the depot asked for it.
    """

    stream: int
    bytes: int
    seconds: float
    requests: int
    retries: int
    throttled: float


@dataclass(frozen=True)
class Sent:
    """What became of one file. `kept` says that it was there already, as it is here.

    `left` are ranges that are still to be sent.
    """

    source: str
    name: str
    bytes: int
    digest: str
    kept: bool
    turns: tuple[Turn, ...]
    left: tuple[tuple[int, int], ...] = ()

    def plus(self, turn: Turn) -> Sent:
        """The file after a further turn."""
        return replace(self, turns=(*self.turns, turn))


@dataclass(frozen=True)
class StreamTotal:
    """What one stream did in all. `speed` is bytes a second while it was at work."""

    stream: int
    turns: int
    bytes: int
    speed: float
    requests: int
    retries: int
    throttled: float


@dataclass(frozen=True)
class ShipRecord:
    """What a shipment took. `remote` says that it went over a line that may cost money."""

    place: str
    files: tuple[Sent, ...]
    seconds: float
    remote: bool = True

    @property
    def turns(self) -> list[Turn]:
        """What was done, file by file."""
        return [turn for one in self.files for turn in one.turns]

    @property
    def bytes_sent(self) -> int:
        """Bytes that were not there already."""
        return sum(turn.bytes for turn in self.turns)

    @property
    def requests(self) -> int:
        """Times that the depot was asked for something."""
        return sum(turn.requests for turn in self.turns)

    @property
    def retries(self) -> int:
        """Tries after the first of each thing."""
        return sum(turn.retries for turn in self.turns)

    @property
    def throttled(self) -> float:
        """Seconds that streams waited because they were asked to, all together."""
        return sum(turn.throttled for turn in self.turns)

    def usage(self) -> Usage:
        """What the shipment used; files that were there already are stored all the same."""
        stored = sum(one.bytes for one in self.files)
        if not self.remote:
            return Usage(machine=self.seconds, stored=stored)
        return Usage(
            machine=self.seconds, stored=stored, requests=self.requests, moved=self.bytes_sent
        )

    def streams(self) -> list[StreamTotal]:
        """What each stream did, those that sent something."""
        by_stream: dict[int, list[Turn]] = {}
        for turn in self.turns:
            by_stream.setdefault(turn.stream, []).append(turn)
        told = []
        for stream, turns in sorted(by_stream.items()):
            size = sum(turn.bytes for turn in turns)
            if size or any(turn.retries for turn in turns):
                told.append(
                    StreamTotal(
                        stream,
                        sum(turn.bytes > 0 for turn in turns),
                        size,
                        size / max(sum(turn.seconds for turn in turns), 1e-9),
                        sum(turn.requests for turn in turns),
                        sum(turn.retries for turn in turns),
                        sum(turn.throttled for turn in turns),
                    )
                )
        return told
