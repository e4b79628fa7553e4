"""The compute's size over a load: larger while rows come in, and back whatever happens.

Before the compute is made larger, the load's note in the target says which tier it goes back to.
Whoever next finds that note without a living load behind it puts the size back.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace

from splarn.core.errors import RequestError, SplarnError
from splarn.core.prices import Stretch
from splarn.core.target.handover import Size
from splarn.core.target.notes import LoadNote
from splarn.core.target.session import OpenEngine, Session
from splarn.core.units import tier_units

# What is locked for a decision about the size; no table has such a name.
_COMPUTE = "(compute)"


def size_of(session: Session) -> Size | None:
    """The compute as it is, None where it has no sizes."""
    return None if session.compute is None else session.compute.size()


class Sizing:
    """What one load does with the compute, and what ran when by the engine's clock."""

    def __init__(
        self, session: Session, place: str, tier: str | None, resting_tier: str | None
    ) -> None:
        self.session, self.place = session, place
        size = size_of(session)
        if size is None and (tier or resting_tier):
            raise RequestError(
                f"{place} has no tiers: leave out --tier and --read-tier for such a target."
            )
        for wanted in (tier, resting_tier):
            if size is not None and wanted is not None and wanted not in size.tiers:
                raise RequestError(
                    f"{place} has no tier {wanted}: use one of {', '.join(size.tiers)}."
                )
        self.found = size
        self.tier, self.resting_tier = tier, resting_tier
        self.notes: tuple[str, ...] = ()
        # Seconds of the engine's clock that resizing took.
        self.up = self.down = 0.0
        self._now = size.tier if size else ""
        # Where the size goes back to, and whether the load's note says so.
        self._resting, self._noted = self._now, False
        self._since = session.clock()
        self._stretches: list[Stretch] = []

    @property
    def grows(self) -> bool:
        """Whether the compute is to have another size while rows come in."""
        return self.found is not None and self.tier not in (None, self.found.tier)

    @contextmanager
    def larger(self, note: LoadNote) -> Iterator[None]:
        """The tier for loading while this lasts, then the one for reading.

        Raises what happens inside; an error says so when the size could not be put back.
        """
        if self.found is None:
            yield
            return
        with _turn(self.session):
            tier, self._resting = self._wanted(note)
            if not tier == self._resting == self.found.tier:
                self._note_resting(note)
        try:
            if self._noted:
                self._resize(tier)
            yield
        except BaseException as error:
            try:
                self._back(note)
            except SplarnError:
                left = (
                    f"{self.place} is left at {self._now} and should be {self._resting}: `splarn "
                    "doctor --restore` puts it back, as does the next load."
                )
                error.args = (f"{error} {left}".strip(), *error.args[1:])
            raise
        self._back(note)

    def change(self, note: LoadNote, tier: str) -> None:
        """Another tier from now on, within `larger`; where another load needs it, that is said.

        Raises OutsideError when the target fails.
        """
        with _turn(self.session):
            held = next((one for one in _sized(self.session) if one.load_id != note.load_id), None)
            if held is not None:
                self.notes += (_left_alone(held, self.place, self._now, tier),)
                return
            self._note_resting(note)
        self._resize(tier)

    def _note_resting(self, note: LoadNote) -> None:
        if not self._noted:
            self._write(note, self._resting)
            self._noted = True

    def _wanted(self, note: LoadNote) -> tuple[str, str]:
        """The tier for loading and the one for reading; another's larger one is left alone."""
        assert self.found is not None
        held = [one for one in _sized(self.session) if one.load_id != note.load_id]
        now = (size_of(self.session) or self.found).tier
        resting_tier = self.resting_tier or (held[0].details.resting_tier if held else now)
        tier = self.tier or now
        if held and tier != now:
            self.notes += (_left_alone(held[0], self.place, now, tier),)
            tier = now
        return tier, resting_tier

    def stretches(self) -> tuple[Stretch, ...]:
        """What ran until now."""
        self._note_time()
        return tuple(self._stretches)

    def _back(self, note: LoadNote) -> None:
        if not self._noted:
            return
        with _turn(self.session):
            others = [one for one in _sized(self.session) if one.load_id != note.load_id]
            if not others:
                self._resize(self._resting)
            self._write(note, "")

    def _resize(self, tier: str) -> None:
        # Time until a larger compute is ready is paid at its price, until a smaller one at the old.
        up = tier_units(tier) > tier_units(self._now)
        if up:
            self._note_time()
            self._now = tier
        before = self.session.clock()
        assert self.session.compute is not None, "it has sizes"
        self.session.compute.resize(tier)
        took = self.session.clock() - before
        if up:
            self.up += took
        else:
            self.down += took
            self._note_time()
            self._now = tier

    def _note_time(self) -> None:
        now = self.session.clock()
        units = tier_units(self._now)
        if self._stretches:
            starts = units > tier_units(self._stretches[-1].tier)
        else:
            starts = self.found is None or not self.found.running
        self._stretches.append(Stretch(self._now, now - self._since, starts))
        self._since = now

    def _write(self, note: LoadNote, resting_tier: str) -> None:
        self.session.notes.put_load(
            replace(note, details=note.details.with_(resting_tier=resting_tier))
        )
        self.session.commit()


def _left_alone(held: LoadNote, place: str, now: str, tier: str) -> str:
    return (
        f"The load {held.load_id} uses {place} at {now} at the moment, so it was not made {tier}."
    )


def restore_left(open_engine: OpenEngine) -> list[str]:
    """Puts back the size that a load which was killed has left behind; says what it did.

    Raises OutsideError when the target fails.
    """
    engine = open_engine()
    session = engine.connect()
    try:
        if (compute := session.compute) is None:
            return []
        left = [note for note in _sized(session) if session.claims.claim(note.load_id)]
        if not left:
            return []
        said = []
        with _turn(session):
            for note in left:
                size = compute.size()
                resting_tier = note.details.resting_tier
                living = [one for one in _sized(session) if one not in left]
                if size.tier != resting_tier and not living:
                    session.claims.await_batches(note.load_id)
                    compute.resize(resting_tier)
                    said.append(
                        f"The load {note.load_id} was broken off and had left {engine.place} at "
                        f"{size.tier}: it is {resting_tier} again."
                    )
                session.notes.put_load(replace(note, details=note.details.with_(resting_tier="")))
                session.commit()
        return said
    finally:
        session.rollback()
        session.close()


@dataclass(frozen=True)
class Standing:
    """A compute as it is found.

    `resting_tier` is where it should go back to, None where nothing says;
    `living` tells of a load that is at work on it at this moment.
    """

    tier: str
    resting_tier: str | None
    living: str | None

    @property
    def forgotten(self) -> bool:
        """Whether it is larger than it should be, and nobody is using that."""
        above = self.resting_tier is not None and tier_units(self.tier) > tier_units(
            self.resting_tier
        )
        return above and self.living is None


def look_at_compute(open_engine: OpenEngine, resting_tier: str | None) -> Standing | None:
    """What runs, None where the target has no sizes.

    `resting_tier` is its tier when nothing is loaded.
    Raises OutsideError when the target fails.
    """
    session = open_engine().connect()
    try:
        size = size_of(session)
        if size is None:
            return None
        sized = _sized(session)
        living = next((one.load_id for one in sized if not session.claims.claim(one.load_id)), None)
        return Standing(
            size.tier, resting_tier or (sized[0].details.resting_tier if sized else None), living
        )
    finally:
        session.rollback()
        session.close()


def put_back(open_engine: OpenEngine, resting_tier: str) -> None:
    """Gives a compute its resting tier. Raises OutsideError when the target fails."""
    session = open_engine().connect()
    try:
        if session.compute is not None:
            session.compute.resize(resting_tier)
    finally:
        session.close()


@contextmanager
def _turn(session: Session) -> Iterator[None]:
    """Nobody else looks at who needs the size meanwhile, and decides by that."""
    session.claims.take_turn(_COMPUTE)
    try:
        yield
    finally:
        session.claims.end_turn(_COMPUTE)


def _sized(session: Session) -> list[LoadNote]:
    """Loads that have made the compute larger and have not put it back."""
    return [note for note in session.notes.loads() if note.details.resting_tier]
