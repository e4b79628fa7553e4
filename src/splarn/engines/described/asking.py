"""What a description lets the engine be asked, tried: its history, rows left out, marks, sizes."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from splarn.core.errors import RequestError, SplarnError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.source.places import Place
from splarn.core.target.handover import HandedPart
from splarn.engines.described.bringing import Bringing
from splarn.engines.described.description import Description
from splarn.engines.described.engine import DescribedSession
from splarn.engines.described.rows import mark_of

LAYOUT = Layout(
    "tried",
    Dialect(header=False),
    (
        Field("reading_no", "integer", required=True),
        Field("gauge", max_length=20),
        Field("level", "number", precision=9, scale=2),
        Field("rate", "number"),
        Field("open", "boolean"),
        Field("day", "date"),
        Field("at", "datetime"),
        Field("noon", "time"),
        Field("remark"),
    ),
)
ROWS = 40
# The bad row of a spoiled part, from 0.
SPOILED = 2 * ROWS // 3
# A part that was loaded just now ended within so many seconds.
LATELY = 600.0


@dataclass(frozen=True)
class Tried:
    """One thing that was tried: whether it `holds` (None where it is not declared), and how."""

    what: str
    holds: bool | None
    answer: str


# Puts a part where the engine can read it, and gives its place.
Put = Callable[[Path], Place]


def good_part(path: Path, first: int = 1) -> Path:
    """A part with a value of every type, nulls among them."""
    lines = []
    for n in range(first, first + ROWS):
        remark = f'"Lock ""{n % 7}"", upper; gate"' if n % 3 else ""
        lines.append(
            f"{n},LK-{n % 9},{'' if n % 11 == 0 else f'{n % 90}.25'},{n / 8},"
            f"{('true', 'false', '')[n % 3]},2031-0{n % 9 + 1}-11,2031-07-04 10:{n % 60:02}:07,"
            f"12:{n % 60:02}:00,{remark}"
        )
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return path


def spoiled_part(path: Path, first: int = 1001) -> Path:
    """The same with a word among the numbers, two thirds down."""
    lines = good_part(path, first).read_text(encoding="utf-8").splitlines()
    lines[SPOILED] = "upstream" + lines[SPOILED][lines[SPOILED].index(",") :]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return path


def handed(place: Place) -> HandedPart:
    """A part as an engine is told of it."""
    return HandedPart(Path(place.name).stem, place, "none")


class Asking:
    """Holds answers about parts that were loaded against what is known of them."""

    # Where the good part lies that was loaded first.
    part: Place

    def __init__(self, description: Description, folder: Path, put: Put) -> None:
        self.description, self.folder, self.put = description, folder, put
        self.tried: list[Tried] = []
        self.table = f"splarn_try_{secrets.token_hex(3)}"

    def _tell(self, what: str, holds: bool | None, answer: str) -> None:
        self.tried.append(Tried(what, holds, answer))

    @contextmanager
    def _session(self) -> Iterator[DescribedSession]:
        with closing(DescribedSession(self.description)) as session:
            yield session

    @property
    def _bringing(self) -> Bringing:
        return Bringing(self.description, self.table, LAYOUT, LAYOUT.names)

    def _bring(self, session: DescribedSession, place: Place, leaving: bool = False) -> int:
        """Runs the load statement for a part, in the open transaction; rows by its own answer."""
        return self._bringing.bring(session.link, handed(place), self.table, leaving)

    def _count(self) -> int:
        with self._session() as session:
            return session.rows.count(self.table)

    def ask(self) -> None:
        """All that is declared, once a good part is in."""
        told = self.description.statements
        if told.came_in:
            self._answers("its history knows a part", "came_in", self._came_in)
        if told.under_way:
            self._answers("it tells what is still under way", "under_way", self._under_way)
        if told.times:
            self._answers("it tells when a part was at work", "times", self._times)
        if told.brought:
            self._answers("rows of a load are told from others", "brought", self._brought)
        if told.aside:
            self._answers("bad rows are left out", "aside", self._left_out)

    def _answers(
        self, what: str, key: str, ask: Callable[[DescribedSession], tuple[bool, str]]
    ) -> None:
        with self._session() as session:
            try:
                holds, answer = ask(session)
            except SplarnError as error:
                holds, answer = False, str(error)
                if "statements." not in answer:
                    answer = f"statements.{key}: {answer}"
        self._tell(what, holds, answer)

    def _came_in(self, session: DescribedSession) -> tuple[bool, str]:
        statement = self.description.statements.came_in
        answer = self._bringing.asked(session.link, statement, handed(self.part), self.table)
        rows = session.link.number("statements.came_in", answer)
        wrong = "" if rows == ROWS else ": mend statements.came_in"
        return rows == ROWS, f"{rows} rows for a part of {ROWS}{wrong}"

    def _under_way(self, session: DescribedSession) -> tuple[bool, str]:
        values = self._bringing.part_values("good", self.table)
        answer = session.link.say(self.description.statements.under_way, **values)
        running = session.link.number("statements.under_way", answer)
        if running:
            return False, f"{running} of a part that is in: mend statements.under_way"
        return True, "none of a part that is in"

    def _times(self, session: DescribedSession) -> tuple[bool, str]:
        now = session.clock()
        times = self._bringing.times(session.link, handed(self.part), self.table)
        if times is None:
            return False, "it told nothing of a part that is in: mend statements.times"
        queued, started, finished = times
        if not queued <= started <= finished:
            return False, f"{queued}, {started} and {finished} are in no order: mend times"
        if not -1 <= now - finished < LATELY:
            return False, (
                f"it finished at {finished} by statements.times, and it is {now:.3f} by "
                "statements.clock: let both tell seconds of the same clock"
            )
        return True, f"{started - queued:.3f} s in the queue, {finished - started:.3f} s at work"

    def _brought(self, session: DescribedSession) -> tuple[bool, str]:
        mine, other = mark_of(self.table), mark_of(f"not {self.table}")
        found = [session.rows.count(self.table, ((mark, mark),)) for mark in (mine, other)]
        if found != [ROWS, 0]:
            return False, (
                f"{found[0]} rows of a load of {ROWS}, and {found[1]} of one that brought none: "
                "mend statements.brought, and put {mark} into each row"
            )
        return True, f"{ROWS} rows by their mark, none by another"

    def _left_out(self, session: DescribedSession) -> tuple[bool, str]:
        before = self._count()
        place = self.put(spoiled_part(self.folder / "left.csv", 3001))
        self._bring(session, place, leaving=True)
        refused = self._bringing.refused(session.link, handed(place), self.table)
        session.commit()
        came, rows = self._count() - before, [fault.row for fault in refused]
        if (came, rows) != (ROWS - 1, [SPOILED + 1]):
            return False, (
                f"of {ROWS} rows, of which row {SPOILED + 1} is bad, {came} came in, and "
                f"statements.refused told of {len(rows)}"
                f"{f' (row {rows[0]})' if rows else ''}: mend aside or refused"
            )
        return True, f"row {rows[0]}: {refused[0].message}"

    def _claims(self) -> None:
        if not self.description.statements.claim:
            self._tell(
                "two loads at once are kept apart", None,
                "by files on one machine, since there is no statements.claim",
            )  # fmt: skip
            return
        with self._session() as one, self._session() as other:
            first, second = one.claims.claim(self.table), other.claims.claim(self.table)
        with self._session() as later:
            again = later.claims.claim(self.table)
        held = (first, second, again) == (True, False, True)
        self._tell(
            "two loads at once are kept apart", held,
            "a claim is held until its session ends" if held
            else f"claims answered {first}, {second} while it was held, and {again} after",
        )  # fmt: skip

    def _sizes(self) -> None:
        told = self.description.statements
        if not (told.size and told.resize):
            self._tell("its compute has sizes", None, "there is no statements.size and resize")
            return
        with self._session() as session:
            assert session.compute is not None, "both statements are there"
            try:
                found = session.compute.size()
            except (SplarnError, RequestError) as error:
                self._tell("its compute has sizes", False, str(error))
                return
        known = found.tier in found.tiers
        self._tell(
            "its compute has sizes", known,
            f"{found.tier} of {', '.join(found.tiers)}"
            + ("" if known else ": name it in statements.tiers"),
        )  # fmt: skip
