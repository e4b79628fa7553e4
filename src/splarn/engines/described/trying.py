"""A description tried on scratch tables: what works, what each answer was, what is missing."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from splarn.core.errors import OutsideError, SplarnError
from splarn.core.load.handed import ReadTask, read_part
from splarn.core.load.verify import compare_digests
from splarn.core.source.content import Identity
from splarn.core.source.source import Source
from splarn.engines.described.asking import (
    LAYOUT,
    ROWS,
    Asking,
    Put,
    Tried,
    good_part,
    spoiled_part,
)
from splarn.engines.described.compute import DescribedCompute
from splarn.engines.described.description import Description
from splarn.engines.described.engine import DescribedSession
from splarn.engines.described.promises import promise_of


class Trying(Asking):
    """Tries one thing after the other; each on a table of its own, which is removed again."""

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

    def _step(self, what: str, run: Callable[[], str]) -> None:
        try:
            self._tell(what, True, run())
        except SplarnError as error:
            self._tell(what, False, str(error))
            raise _Stop from None

    def _clear(self) -> None:
        with suppress(SplarnError), self._session() as session:
            for table in (self.table, f"{self.table}_b"):
                session.tables.drop(table)
            session.commit()

    def _connect(self) -> str:
        with self._session() as session:
            DescribedCompute(session.link).start()
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
        able = self.description.abilities
        self.ask()
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


class _Stop(Exception):
    """Nothing further can be tried."""


def try_out(description: Description, folder: Path, put: Put) -> tuple[list[Tried], str]:
    """Tries a description; what came of it, and which promise holds by what was seen.

    `folder` is for three small parts, which `put` brings to where the engine reads them.
    """
    tried = Trying(description, folder, put).carry_out()
    failed = any(one.holds is False for one in tried)
    return tried, "" if failed else promise_of(description)
