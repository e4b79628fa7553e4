"""A description tried on scratch tables: what works, what each answer was, what is missing."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from splarn.core.errors import OutsideError, RequestError, SplarnError
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.load.handed import ReadTask, read_part
from splarn.core.load.verify import compare_digests
from splarn.core.source.content import Identity
from splarn.core.source.places import Place
from splarn.core.source.source import Source
from splarn.core.target.handover import HandedPart
from splarn.engines.described.bringing import Bringing, tag_of
from splarn.engines.described.description import Description
from splarn.engines.described.engine import DescribedSession
from splarn.engines.described.promises import promise_of
from splarn.engines.described.tables import table_values

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


def spoiled_part(path: Path) -> Path:
    """The same with a word among the numbers, two thirds down."""
    lines = good_part(path, 1001).read_text(encoding="utf-8").splitlines()
    at = 2 * len(lines) // 3
    lines[at] = "upstream" + lines[at][lines[at].index(",") :]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return path


class Trying:
    """Tries one thing after the other; each on a table of its own, which is removed again."""

    def __init__(self, description: Description, folder: Path, put: Put) -> None:
        self.description, self.folder, self.put = description, folder, put
        self.tried: list[Tried] = []
        self.table = f"splarn_try_{secrets.token_hex(3)}"

    def carry_out(self) -> list[Tried]:
        """All of it, until something fails without which nothing further can be tried."""
        with suppress(_Stop):
            self._step("connect", self._connect)
            try:
                self._step("make a table, and look at it", self._make)
                self._step("load a part", self._load)
                self._step("figures of every column", self._figures)
                self._abilities()
            finally:
                self._clear()
        return self.tried

    def _tell(self, what: str, holds: bool | None, answer: str) -> None:
        self.tried.append(Tried(what, holds, answer))

    def _step(self, what: str, run: Callable[[], str]) -> None:
        try:
            self._tell(what, True, run())
        except SplarnError as error:
            self._tell(what, False, str(error))
            raise _Stop from None

    @contextmanager
    def _session(self) -> Iterator[DescribedSession]:
        with closing(DescribedSession(self.description)) as session:
            yield session

    def _clear(self) -> None:
        with suppress(SplarnError), self._session() as session:
            for table in (self.table, f"{self.table}_b"):
                session.tables.drop(table)
            session.commit()

    def _connect(self) -> str:
        with self._session() as session:
            return session.version()

    def _make(self) -> str:
        with self._session() as session:
            self.table = session.tables.canonical(self.table)
            session.tables.create(self.table, LAYOUT)
            session.commit()
            found = session.tables.columns(self.table)
            names = [column.name for column in found or ()]
            if names != list(LAYOUT.names):
                raise OutsideError(
                    f"statements.look answers the columns {', '.join(names) or 'none'} for a table "
                    f"with {', '.join(LAYOUT.names)}: it must answer name, type and YES or NO for "
                    "each, in order, in the table's own schema."
                )
            wrong = [
                f"{column.name} ({column.type})"
                for column, field in zip(found or (), LAYOUT.fields, strict=True)
                if column.type not in (field.type, "any")
                and not (field.type == "boolean" and column.type == "integer")
            ]
            if wrong:
                raise OutsideError(
                    f"statements.look calls the types otherwise: {', '.join(wrong)}: answer a type "
                    "that begins as the engine's own statement writes it."
                )
            return f"{len(names)} columns"

    def _bring(self, session: DescribedSession, place: Place) -> int:
        """Runs the load statement for a part, in the open transaction; rows by its own answer."""
        bringing = Bringing(self.description, self.table, LAYOUT, LAYOUT.names)
        part = HandedPart(Path(place.name).stem, place, "none")
        return bringing.bring(session.link, part, self.table)

    def _count(self) -> int:
        with self._session() as session:
            return session.rows.count(self.table)

    def _load(self) -> str:
        self.part = self.put(good_part(self.folder / "good.csv"))
        with self._session() as session:
            told = self._bring(session, self.part)
            session.commit()
        there = self._count()
        if (told, there) != (ROWS, ROWS):
            raise OutsideError(
                f"A part of {ROWS} rows was loaded; the statement said {told}, and "
                f"statements.count answers {there}: mend statements.load, rows or count."
            )
        return f"{ROWS} rows, by its own count too"

    def _figures(self) -> str:
        source = Source.of(self.folder / "good.csv").read_by(LAYOUT)
        read = read_part(ReadTask("tried", source, Identity(), "", LAYOUT, LAYOUT.names))
        with self._session() as session:
            table = session.digests.of_columns(self.table, LAYOUT.fields)
        differences = compare_digests(read or [], [], table)
        if differences:
            raise OutsideError(
                f"The table differs from what was read: {'; '.join(differences)}: mend types or "
                "figures."
            )
        return "as they were read"

    def _abilities(self) -> None:
        able, told = self.description.abilities, self.description.statements
        if told.came_in:
            self._history(told.came_in)
        before = self._count()
        # Everything up to the commit, and then the connection is gone.
        session = DescribedSession(self.description)
        second = self.put(good_part(self.folder / "second.csv", 501))
        self._bring(session, second)
        session.link.close()
        left = self._count() - before
        self._hold(
            "a load without a commit is gone when the connection breaks",
            able.transactions,
            left == 0,
            f"{left} of {ROWS} rows stayed",
            "abilities.transactions",
        )
        before = self._count()
        spoiled = self.put(spoiled_part(self.folder / "spoiled.csv"))
        refusal = ""
        with self._session() as session:
            try:
                self._bring(session, spoiled)
                session.commit()
            except SplarnError as error:
                refusal = str(error)
                session.rollback()
        left = self._count() - before
        if refusal:
            self._tell("a spoiled part is refused", True, refusal)
            self._hold(
                "a part that fails leaves no row", able.whole_parts or able.transactions, left == 0,
                f"{left} rows of it stayed", "abilities.whole_parts",
            )  # fmt: skip
        else:
            self._tell(
                "a spoiled part is refused", None,
                f"it was taken, with {left} rows: what a value must be is not held there, so that "
                "only figures of columns tell",
            )  # fmt: skip
        before = self._count()
        with self._session() as session:
            self._bring(session, self.part)
            session.commit()
        came = self._count() - before
        self._hold(
            "the same part again loads nothing",
            able.once_by_file,
            came == 0,
            f"{came} rows came again",
            "abilities.once_by_file",
        )
        self._claims()
        self._sizes()

    def _hold(self, what: str, declared: bool, holds: bool, answer: str, key: str) -> None:
        """An ability against what was seen."""
        if declared and not holds:
            self._tell(what, False, f"{answer}: {key} says otherwise, so take it out")
        elif declared:
            self._tell(what, True, "as declared")
        else:
            hint = f"; it does, so {key} = true would be true" if holds else f": {answer}"
            self._tell(what, None, f"not declared{hint}")

    def _history(self, statement: str) -> None:
        with self._session() as session:
            try:
                answer = session.link.say(
                    statement, address=str(self.part), load_id=self.table, part_id="good",
                    tag=tag_of(self.table, "good"),
                    **table_values(self.table),
                )  # fmt: skip
                rows = int(answer.value or 0)
            except (SplarnError, ValueError, TypeError) as error:
                self._tell("its history knows a part", False, f"statements.came_in: {error}")
                return
        self._tell(
            "its history knows a part", rows == ROWS,
            f"{rows} rows for a part of {ROWS}"
            + ("" if rows == ROWS else ": mend statements.came_in"),
        )  # fmt: skip

    def _claims(self) -> None:
        if not self.description.statements.claim:
            self._tell("two loads at once are kept apart", None, "there is no statements.claim")
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


class _Stop(Exception):
    """Nothing further can be tried."""


def try_out(description: Description, folder: Path, put: Put) -> tuple[list[Tried], str]:
    """Tries a description; what came of it, and which promise holds by what was seen.

    `folder` is for three small parts, which `put` brings to where the engine reads them.
    """
    tried = Trying(description, folder, put).carry_out()
    failed = any(one.holds is False for one in tried)
    return tried, "" if failed else promise_of(description)
