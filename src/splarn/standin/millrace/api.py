"""Millrace over HTTP: its compute, its tables, loads and their jobs, as JSON on loopback.

GET    /compute            size, state and clock          PUT {"tier": …} resizes
POST   /clock              {"advance": seconds} lets time go by
POST   /steps              {"steps": […], "commit": …} one transaction over the tables
PUT    /inbox/NAME         a part handed in directly
POST   /loads              an order; GET /loads/ID its state, DELETE ends it; one that is "open"
POST   /loads/ID           takes further "parts" with their "notes", tells "news" after so many,
                           or is told by "end" that all have come
GET    /jobs               records of all parts ever loaded
GET    /chunks/TABLE       number and rows of each chunk of a table's columns
GET    /chunk/NUMBER       one of them, an Arrow file
GET    /holds/HOLDER       an answer without end, for as long as the holder lives
POST   /holds/HOLDER       {"take": name} or {"leave": name}, which others then wait for
"""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from splarn.core.errors import RequestError
from splarn.standin.depot import SimulatedDepot
from splarn.standin.millrace.clock import SimulatedCompute
from splarn.standin.millrace.loading import Loading, Order, jobs_of, parts_of
from splarn.standin.millrace.physics import EnginePhysics
from splarn.standin.millrace.store import NoSuch, Store
from splarn.standin.physics import DepotPhysics

# Parts that are really read at once, whatever the clock pretends.
READERS = 2
# What an answer to "how is the load" waits for its end, in seconds.
PATIENCE = 1.0


class Millrace:
    """The application, as the ASGI standard has it. Everything it keeps lies in a folder."""

    def __init__(
        self, folder: Path, physics: EnginePhysics, depot: DepotPhysics | None = None
    ) -> None:
        self.folder, self.physics = folder, physics
        self.store = Store(folder / "tables")
        self.compute = SimulatedCompute(physics)
        (folder / "inbox").mkdir(exist_ok=True)
        # What is handed in directly comes over the same kind of line as what goes into a depot.
        self.inbox = SimulatedDepot(folder / "inbox", depot or DepotPhysics())
        self._turn = threading.Lock()
        self._pool = ThreadPoolExecutor(READERS, "millrace")
        self._loads: dict[str, Loading] = {}
        self._holders: set[str] = set()
        self._held: dict[str, str] = {}
        self._calls: dict[tuple[str, str], Callable[..., Any]] = {
            ("GET", "compute"): self._compute,
            ("PUT", "compute"): self._resize,
            ("POST", "clock"): self._advance,
            ("POST", "steps"): self._steps,
            ("POST", "loads"): self._load,
            ("GET", "loads"): self._state,
            ("DELETE", "loads"): self._cancel,
            ("GET", "jobs"): self._jobs,
            ("GET", "chunks"): self._chunks,
        }

    def close(self) -> None:
        """Ends what is under way and lets go of the files."""
        for load in self._loads.values():
            load.cancel()
        self._pool.shutdown()
        for load in self._loads.values():
            load.ended.wait()
        self.store.close()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answers one request."""
        if scope["type"] == "lifespan":
            return
        first, _, below = scope["path"].strip("/").partition("/")
        if first == "inbox":
            await self.inbox({**scope, "path": f"/{below}"}, receive, send)
            return
        request = Request(scope, receive)
        if first == "holds" and request.method == "GET":
            await self._hold(below, receive, send)
            return
        if first == "chunk" and request.method == "GET":
            answer = await self._chunk(below)
            await answer(scope, receive, send)
            return
        answer = await self._answer(request, first, below)
        await answer(scope, receive, send)

    async def _answer(self, request: Request, first: str, below: str) -> Response:
        try:
            body = await request.body()
            document = json.loads(body) if body else {}
            if first == "holds":
                return self._grant(below, document)
            call = self._calls.get((request.method, first))
            if call is None:
                return _no(404, f"there is no {request.method} /{first}")
            return JSONResponse(await run_in_threadpool(call, below, document))
        except RequestError as error:
            return _no(422, str(error))
        except NoSuch as error:
            return _no(409, str(error))
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            return _no(400, f"the request cannot be read ({type(error).__name__}: {error})")

    def _compute(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        compute = self.compute
        return {
            "tier": compute.tier,
            "tiers": list(self.physics.tiers),
            "state": "running" if compute.running else "idle",
            "clock": compute.now,
            "since": compute.since,
            "loads": sum(not load.ended.is_set() for load in self._loads.values()),
        }

    def _resize(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        with self._turn:
            self.compute.resize(str(document["tier"]))
        return self._compute(below, document)

    def _advance(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        with self._turn:
            self.compute.advance(max(float(document["advance"]), 0.0))
        return self._compute(below, document)

    def _steps(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        steps = document["steps"]
        answers = self.store.steps(steps, bool(document.get("commit")))
        last = steps[-1] if steps else {}
        if last.get("do") == "digest":
            with self._turn:
                self.compute.scan(self.store.rows(last["table"]))
        return {"found": answers}

    def _load(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        if below:
            return self._go_on(below, document)
        order = Order.read(document)
        with self._turn:
            earlier = self._loads.get(order.load_id)
            if earlier is not None and not earlier.ended.is_set():
                raise NoSuch(f"the load {order.load_id} is under way")
            loading = Loading(
                order, self.store, self.compute, self.physics, self.folder, self._pool
            )
            self._loads[order.load_id] = loading
        loading.add(order.parts)
        if not document.get("open"):
            loading.close()
        threading.Thread(target=loading.run, args=(self._turn,), daemon=True).start()
        return {"state": "begun"}

    def _go_on(self, load_id: str, document: dict[str, Any]) -> dict[str, Any]:
        """Further parts of an open order, what became of those before, or its end."""
        loading = self._loads.get(load_id)
        if loading is None:
            raise NoSuch(f"there is no order of the load {load_id}")
        if "parts" in document:
            parts = parts_of(document)
            self.store.steps(
                [{"do": "note_part", "note": note} for note in document["notes"]], True
            )
            with self._turn:
                loading.add(parts)
        if document.get("end"):
            loading.close()
        after = document.get("news")
        jobs, until, busy = [], None, None
        if after is not None:
            jobs = loading.news(int(after), PATIENCE if document.get("wait", True) else 0.0)
            with self._turn:
                until, busy = loading.standing(int(after) + len(jobs))
        state = "ended" if loading.ended.is_set() else "begun"
        return {"jobs": jobs, "until": until, "busy": busy, "state": state}

    def _state(self, load_id: str, document: dict[str, Any]) -> dict[str, Any]:
        loading = self._loads.get(load_id)
        if loading is not None and not loading.ended.wait(PATIENCE):
            return {"state": "begun", "through": loading.done, "clock": self.compute.now}
        jobs = jobs_of(self.store, load_id)
        state = "failed" if any(job["state"] == "failed" for job in jobs) else "ended"
        return {"state": state if jobs else "unknown", "jobs": jobs, "clock": self.compute.now}

    def _cancel(self, load_id: str, document: dict[str, Any]) -> dict[str, Any]:
        loading = self._loads.get(load_id)
        if loading is not None:
            loading.cancel()
            loading.ended.wait()
        return {"state": "ended"}

    def _chunks(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        return {"chunks": self.store.chunks(below)}

    async def _chunk(self, below: str) -> Response:
        try:
            data = await run_in_threadpool(self.store.chunk, int(below))
        except (NoSuch, ValueError) as error:
            return _no(409, str(error))
        return Response(data, media_type="application/vnd.apache.arrow.file")

    def _jobs(self, below: str, document: dict[str, Any]) -> dict[str, Any]:
        return {"jobs": jobs_of(self.store)}

    async def _hold(self, holder: str, receive: Any, send: Any) -> None:
        """Answers without end; when the other side is gone, so is what it held."""
        self._holders.add(holder)
        headers = [(b"content-type", b"application/json")]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await send({"type": "http.response.body", "body": b"{}\n", "more_body": True})
        try:
            while (await receive())["type"] != "http.disconnect":
                pass
        except asyncio.CancelledError:
            pass
        finally:
            self._holders.discard(holder)
            for name in [name for name, by in self._held.items() if by == holder]:
                del self._held[name]

    def _grant(self, holder: str, document: dict[str, Any]) -> Response:
        if holder not in self._holders:
            return _no(409, "this holder is not connected")
        if "leave" in document:
            if self._held.get(document["leave"]) == holder:
                del self._held[document["leave"]]
            return JSONResponse({"granted": False})
        return JSONResponse({"granted": self._held.setdefault(document["take"], holder) == holder})


def _no(code: int, why: str) -> JSONResponse:
    return JSONResponse({"error": why}, status_code=code)
