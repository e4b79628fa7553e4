"""Millrace, the simulated elastic engine: reached over HTTP, it reads and stores parts itself."""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any, ClassVar

from sqlalchemy.engine import URL

from splarn.core.digest import ColumnDigest
from splarn.core.engine import LoadNote, PartNote, ReadBack, TableColumn, TableIndex, Writer
from splarn.core.errors import OutsideError, RequestError
from splarn.core.handover import Carried, HandedPart, Order, Size, Watch
from splarn.core.layout import Dialect, Field, Layout
from splarn.core.layout.descriptor import from_descriptor, to_descriptor
from splarn.core.marks import Marks
from splarn.core.places import key_of
from splarn.core.secrets import filled
from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.ship.trying import Trying
from splarn.engines.millrace_json import _job, _part, load_note, ordered, part_note

TIMEOUT = 60.0
PORT = 8700
# How long a session waits for its turn with a table, and between two looks whether it has come.
PATIENCE, LOOK_EVERY = 120.0, 0.05
# How long it may take until a killed client is missed.
MISSED = 1.0


class MillraceEngine:
    """A Millrace at an address. Its tables are made by loads; it knows no SQL."""

    name = "millrace"
    title = "Millrace"
    in_process = True
    reads_parts = True
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {
        "durability": ("full",),
        "indexes": ("keep",),
        "route": ("direct",),
    }

    def __init__(self, url: URL) -> None:
        if url.password or url.database:
            raise RequestError(
                "Millrace has neither users nor databases: write its URL like "
                f"millrace://127.0.0.1:{PORT}."
            )
        self.place = f"millrace://{url.host or '127.0.0.1'}:{url.port or PORT}"

    def connect(self) -> MillraceSession:
        """Opens a session. Raises OutsideError when it cannot be reached."""
        session = MillraceSession(self.place)
        try:
            session.size()
        except BaseException:
            session.close()
            raise
        return session

    def ddl(self, table: str, layout: Layout) -> str:
        """What makes the table: Millrace takes a Table Schema in place of a statement."""
        step = {"do": "create", "table": table, "layout": to_descriptor(layout)}
        return json.dumps({"steps": [step], "commit": True}, indent=2, ensure_ascii=False)


class MillraceSession:
    """Changes are kept here until `commit` sends them as one transaction.

    What is read meanwhile is asked for behind them, in a transaction that is taken back.
    """

    def __init__(self, place: str) -> None:
        try:
            import httpx
        except ModuleNotFoundError:
            raise RequestError(
                "Millrace is reached with httpx, which is not installed: "
                "pip install 'splarn[places]'."
            ) from None
        self._httpx = httpx
        self.place = place
        self._base = place.replace("millrace://", "http://")
        # Loopback needs no certificates, and reading them takes long.
        self._client = httpx.Client(base_url=self._base, timeout=TIMEOUT, verify=False)
        self._holder = secrets.token_hex(8)
        self._hold: Any = None
        self._pending: list[dict[str, Any]] = []

    # A chunk is never changed: its rows are there as they came, or not at all.
    marks_changes = True

    # Tables.

    def canonical(self, table: str) -> str:
        """See Session. A name is what it is."""
        return table

    def kind(self, table: str) -> str:
        """See Session."""
        return "" if self._ask("columns", table=table) is None else "table"

    def longest_name(self) -> tuple[int, str] | None:
        """See Session."""
        return None

    def against_name(self, name: str) -> str:
        """See Session."""
        return ""

    def columns_text(self, table: str) -> str:
        """See Session."""
        return json.dumps([[one.name, one.type] for one in self.columns(table) or ()])

    def fingerprint(self, table: str, marks: Marks | None = None) -> str:
        """See Session. Chunks never change, so how many rows there are says it."""
        return f"rows:{self.count(table, marks)}"

    def read_back(self, table: str, fields: Sequence[Field], rows: Any) -> ReadBack:
        """See Session. It has no rules that could change a value, and no way to ask for one."""
        return ReadBack()

    def columns(self, table: str) -> list[TableColumn] | None:
        """See Session."""
        found = self._ask("columns", table=table)
        if found is None:
            return None
        fields = from_descriptor(found, table).fields
        return [
            TableColumn(field.name, "string" if field.is_text else field.type, not field.required)
            for field in fields
        ]

    def create(self, table: str, layout: Layout) -> None:
        """See Session."""
        self._change("create", table=table, layout=to_descriptor(layout))

    def clone(
        self,
        table: str,
        copy: str,
        *,
        logged: bool = True,
        indexes: bool = False,
        twin: bool = False,
    ) -> None:
        """See Session."""
        self._change("clone", table=table, copy=copy)

    def shell(self, table: str, copy: str) -> None:
        """See Session."""
        self._change("clone", table=table, copy=copy)

    def drop(self, table: str) -> None:
        """See Session."""
        self._change("drop", table=table)

    def swap(self, table: str, aside: str, before: str) -> None:
        """See Session."""
        self._change("swap", table=table, aside=aside, before=before)

    def bound(self, table: str) -> list[str]:
        """See Session."""
        return []

    def indexes(self, table: str) -> list[TableIndex]:
        """See Session. It has none."""
        return []

    def drop_index(self, table: str, index: TableIndex) -> None:
        """See Session."""

    def restore_index(self, table: str, index: TableIndex) -> None:
        """See Session."""

    # Rows.

    def empty(self, table: str) -> None:
        """See Session."""
        self._change("empty", table=table)

    def pour(
        self, source: str, into: str, names: Sequence[str] | None = None
    ) -> tuple[int, Marks | None]:
        """See Session. Which chunks the rows will be is known only after the commit."""
        found = self._ask("pour", source=source, into=into)
        self._change("pour", source=source, into=into)
        return int(found["rows"]), None

    def remove(self, table: str, marks: Marks) -> int:
        """See Session."""
        found = self._ask("remove", table=table, marks=marks)
        self._change("remove", table=table, marks=marks)
        return int(found)

    def count(self, table: str, marks: Marks | None = None) -> int:
        """See Session."""
        return int(self._ask("count", table=table, marks=marks))

    def can_mark(self, table: str, names: Sequence[str]) -> bool:
        """See Session. Every part is a chunk of its own."""
        return True

    def last_mark(self, table: str) -> int | None:
        """See Session."""
        return None

    def digest(
        self, table: str, fields: Sequence[Field], marks: Marks | None = None
    ) -> list[ColumnDigest]:
        """See Session."""
        layout = to_descriptor(Layout(table, Dialect(), tuple(fields)))
        found = self._ask("digest", table=table, layout=layout, marks=marks)
        return [ColumnDigest(**one) for one in found]

    def writer(self, table: str, layout: Layout, names: Sequence[str]) -> Writer:
        """See Session. Raises RequestError: it reads files itself."""
        raise RequestError("Millrace takes whole files and no single rows: hand parts over to it.")

    def follow_identity(self, table: str, column: str) -> str:
        """See Session. It numbers nothing."""
        return ""

    # Notes.

    def lock(self, table: str) -> None:
        """See Session. Raises OutsideError when others do not leave the table for long."""
        until = time.monotonic() + PATIENCE
        while not self._take(f"table {table}"):
            if time.monotonic() > until:
                raise OutsideError(
                    f"Another load has held {table} of {self.place} for {PATIENCE:.0f} s: wait for "
                    "it to end, or stop it."
                )
            time.sleep(LOOK_EVERY)

    def release(self, table: str) -> None:
        """See Session."""
        self._call("POST", f"/holds/{self._holder}", {"leave": f"table {table}"})

    def checkpoint(self) -> None:
        """See Session. Changes of tables belong to the transaction here."""

    def claim(self, load_id: str) -> bool:
        """See Session. One that was killed just now may not have been missed yet."""
        until = time.monotonic() + MISSED
        while not self._take(f"load {load_id}"):
            if time.monotonic() > until:
                return False
            time.sleep(LOOK_EVERY)
        return True

    def settle(self, load_id: str) -> None:
        """See Session. Parts that are at work come to their end, no others begin."""
        self._call("DELETE", f"/loads/{load_id}")

    def loads(self, table: str | None = None) -> list[LoadNote]:
        """See Session."""
        found = self._ask("loads", table=table)
        return [load_note(*note) for note in found]

    def parts(self, load_ids: Sequence[str]) -> list[PartNote]:
        """See Session."""
        found = self._ask("parts", load_ids=list(load_ids))
        return [part_note(*note) for note in found]

    def note_load(self, note: LoadNote) -> None:
        """See Session."""
        kept = [note.load_id, note.table, note.state, note.mode, note.started, note.details.text()]
        self._change("note_load", note=kept)

    def note_part(self, note: PartNote) -> None:
        """See Session."""
        self._change("note_part", note=_part(note))

    def advance(self, was: PartNote, now: PartNote) -> None:
        """See Session."""
        self._change("advance", was=_part(was), now=_part(now))

    def forget(self, table: str) -> None:
        """See Session."""
        self._change("forget", table=table)

    def notes_whole(self, table: str) -> bool:
        """See Session. Nobody but Millrace itself writes its notes."""
        return True

    def renew_notes(self, table: str) -> None:
        """See Session."""

    def relax(self) -> None:
        """See Session."""

    def commit(self) -> None:
        """See Session."""
        if self._pending:
            steps, self._pending = self._pending, []
            self._call("POST", "/steps", {"steps": steps, "commit": True})

    def rollback(self) -> None:
        """See Session."""
        self._pending = []

    def close(self) -> None:
        """See Session."""
        if self._hold is not None:
            self._hold.close()
        self._client.close()

    # Compute and loads.

    def clock(self) -> float:
        """See Session."""
        return float(self._call("GET", "/compute")["clock"])

    def size(self) -> Size | None:
        """See Session."""
        found = self._call("GET", "/compute")
        return Size(found["tier"], tuple(found["tiers"]), found["state"] == "running")

    def resize(self, tier: str) -> None:
        """See Session."""
        self._call("PUT", "/compute", {"tier": tier})

    def carry(self, order: Order, watch: Watch) -> Carried:
        """See Session. Files from here go into its inbox first."""
        done = {note.part_id for note in self.parts([order.load_id]) if note.state == "done"}
        wanted = [part for part in order.parts if part.part_id not in done]
        sending = 0.0
        if wanted:
            begun = time.perf_counter()
            placed = self._placed(wanted, order.streams)
            if any(isinstance(part.path, Path) for part in wanted):
                # The line is real; while it was busy, time went by there too.
                sending = time.perf_counter() - begun
                self._call("POST", "/clock", {"advance": sending})
            self._call("POST", "/loads", ordered(order, wanted, placed))
        while (found := self._call("GET", f"/loads/{order.load_id}"))["state"] == "running":
            watch(len(done) + found["done"])
        return Carried(tuple(_job(one) for one in found.get("jobs", [])), sending)

    def _placed(self, parts: Sequence[HandedPart], streams: int) -> list[str]:
        """Where Millrace finds parts; those that lie here are sent into its inbox."""
        from splarn.depots.http import HttpDepot

        with (
            closing(HttpDepot(f"{self._base}/inbox")) as inbox,
            ThreadPoolExecutor(streams) as pool,
        ):

            def placed(part: HandedPart) -> str:
                if not isinstance(part.path, Path):
                    return filled(key_of(part.path), str(part.path))
                name = f"{part.part_id.replace(':', '-')}-{part.path.name}"
                trying = Trying(self.place, part.path.name)
                digest, size = digest_of(blocks_of(part.path))
                trying.until_ready(lambda: inbox.put(name, blocks_of(part.path), size, digest))
                return f"inbox:{name}"

            return list(pool.map(placed, parts))

    def _take(self, what: str) -> bool:
        if self._hold is None:
            request = self._client.build_request(
                "GET", f"/holds/{self._holder}", timeout=self._httpx.Timeout(TIMEOUT, read=None)
            )
            with self._reaching():
                self._hold = self._client.send(request, stream=True)
        return bool(self._call("POST", f"/holds/{self._holder}", {"take": what})["granted"])

    def _ask(self, verb: str, **given: Any) -> Any:
        """What a step finds behind the changes that wait."""
        steps = [*self._pending, {"do": verb, **given}]
        return self._call("POST", "/steps", {"steps": steps})["found"]

    def _change(self, verb: str, **given: Any) -> None:
        self._pending.append({"do": verb, **given})

    def _call(self, method: str, path: str, document: Any = None) -> Any:
        with self._reaching():
            answer = self._client.request(method, path, json=document)
        try:
            found = answer.json()
        except ValueError:
            raise OutsideError(
                f"{self.place} does not answer like a Millrace: check the address."
            ) from None
        if answer.status_code == 422:
            raise RequestError(found["error"])
        if answer.status_code >= 400:
            why = found.get("error", f"it answers {answer.status_code}")
            raise OutsideError(f"{self.place} refused a request: {why}.")
        return found

    @contextmanager
    def _reaching(self) -> Iterator[None]:
        try:
            yield
        except self._httpx.TransportError as error:
            raise OutsideError(
                f"{self.place} cannot be reached ({type(error).__name__}): start it with `splarn "
                "standin`, or check the address."
            ) from None
