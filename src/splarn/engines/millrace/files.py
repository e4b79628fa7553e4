"""Files handed over to Millrace: orders whose parts are all there, and such as come meanwhile."""

from __future__ import annotations

import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import replace
from pathlib import Path

from splarn.core.errors import OutsideError
from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.source.places import key_of
from splarn.core.source.retry import Trying
from splarn.core.source.secrets import filled
from splarn.core.target.handover import (
    HandedPart,
    PartJob,
    PartsLoaded,
    PartsOrder,
    Standing,
    Watch,
)
from splarn.core.target.notes import PartNote
from splarn.engines.millrace.documents import note_document, ordered, part_documents, part_job
from splarn.engines.millrace.link import MillraceLink
from splarn.engines.millrace.parts import Concern, MillraceNotes


class MillraceFiles(Concern):
    """Files that it reads itself; those that lie here are sent into its inbox."""

    def load_parts(self, order: PartsOrder, watch: Watch) -> PartsLoaded:
        """See WholeFiles. Files from here go into its inbox first."""
        done = {
            note.part_id
            for note in MillraceNotes(self.link).parts([order.load_id])
            if note.state == "done"
        }
        self.link.broken_off.clear()
        wanted = [part for part in order.parts if part.part_id not in done]
        sending = 0.0
        if wanted:
            here = [part for part in wanted if isinstance(part.path, Path)]
            begun = time.perf_counter()
            with ThreadPoolExecutor(order.streams) as pool:
                list(pool.map(self.send, here))
            if here:
                # The line is real; while it was busy, time went by there too.
                sending = time.perf_counter() - begun
                self.let_pass(sending)
            self._go_on()
            self.link.call("POST", "/loads", ordered(order, wanted, list(map(_place, wanted))))
        while (progress := self.link.call("GET", f"/loads/{order.load_id}"))["state"] == "begun":
            watch(len(done) + progress["through"])
        return PartsLoaded(tuple(part_job(one) for one in progress.get("jobs", [])), sending)

    def open_order(self, order: PartsOrder) -> MillraceOrder:
        """See WholeFiles."""
        self.link.broken_off.clear()
        bare = ordered(replace(order, parts=()), (), ())
        self.link.call("POST", "/loads", {**bare, "open": True})
        return MillraceOrder(self.link, order.load_id)

    def let_pass(self, seconds: float) -> None:
        """See WholeFiles."""
        self.link.call("POST", "/clock", {"advance": seconds})

    def send(self, part: HandedPart) -> None:
        """See WholeFiles. By a connection of its own, so that several may send at once."""
        from splarn.depots.http import HttpDepot

        self._go_on()
        assert isinstance(part.path, Path), "only what lies here is sent"
        path = part.path
        with closing(HttpDepot(f"{self.link.base}/inbox")) as inbox:
            digest, size = digest_of(blocks_of(path))
            trying = Trying(self.link.place, path.name)
            trying.until_ready(lambda: inbox.put(_name(part), blocks_of(path), size, digest))

    def _go_on(self) -> None:
        """Raises OutsideError once the load was broken off."""
        if self.link.broken_off.is_set():
            raise OutsideError(f"The load was broken off before {self.link.place} began it.")


class MillraceOrder:
    """An order that is open; see OpenOrder."""

    def __init__(self, link: MillraceLink, load_id: str) -> None:
        self._link, self._path = link, f"/loads/{load_id}"
        self._known = 0
        self.standing: Standing | None = None

    def add(self, parts: Sequence[HandedPart], notes: Sequence[PartNote]) -> None:
        """See OpenOrder."""
        told = part_documents(parts, list(map(_place, parts)))
        noted = [note_document(note) for note in notes]
        self._link.call("POST", self._path, {"parts": told, "notes": noted})

    def news(self, wait: bool = True) -> list[PartJob]:
        """See OpenOrder."""
        answer = self._link.call("POST", self._path, {"news": self._known, "wait": wait})
        found = answer["jobs"]
        if not found and answer["state"] == "ended":
            raise OutsideError(
                f"{self._link.place} has ended the order before all of its parts were through: run "
                "the same command again."
            )
        self._known += len(found)
        if answer["until"] is not None:
            self.standing = Standing(answer["until"], answer["busy"])
        return [part_job(one) for one in found]

    def end(self) -> PartsLoaded:
        """See OpenOrder."""
        self._link.call("POST", self._path, {"end": True})
        while (progress := self._link.call("GET", self._path))["state"] == "begun":
            pass
        return PartsLoaded(tuple(part_job(one) for one in progress.get("jobs", [])))


def _name(part: HandedPart) -> str:
    """What a file is called in the inbox."""
    return f"{part.part_id.replace(':', '-')}-{part.path.name}"


def _place(part: HandedPart) -> str:
    """Where Millrace finds a part: at its address, or in its inbox."""
    if isinstance(part.path, Path):
        return f"inbox:{_name(part)}"
    return filled(key_of(part.path), str(part.path))
