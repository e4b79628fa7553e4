"""The simulated depot: an HTTP store on loopback that is as slow and as fickle as it is told to be.

PUT, GET with ranges, HEAD, DELETE and a listing as JSON; digests after RFC 9530. Files lie in a
folder and are seen only when they are whole.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import re
import secrets
from collections.abc import AsyncIterator
from functools import lru_cache
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse, Response, StreamingResponse

from splarn.core.ship.content import blocks_of, digest_of
from splarn.core.ship.ranges import Ranges
from splarn.core.source.digest_fields import read_field, write_field
from splarn.core.work.disk import ASIDE
from splarn.standin.physics import DepotPhysics, Wire

BLOCK = 64 << 10
_RANGE = re.compile(r"bytes=(\d+)-(\d*)$")
_CONTENT_RANGE = re.compile(r"bytes (\d+)-(\d+)/(\d+)$")


class LineCut(Exception):
    """The connection is cut on purpose; the server drops it."""


class SimulatedDepot:
    """The application, as the ASGI standard has it."""

    def __init__(self, folder: Path, physics: DepotPhysics) -> None:
        self.folder = folder
        self.link = Wire(physics)
        self.physics = physics
        self._ranges = Ranges()
        # What it has been asked for and has refused, for those who want to know.
        self.counts = {"requests": 0, "throttled": 0, "reset": 0, "stalled": 0, "corrupted": 0}

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answers one request."""
        if scope["type"] == "lifespan":
            return
        request = Request(scope, receive)
        self.counts["requests"] += 1
        if not self.link.admits():
            self.counts["throttled"] += 1
            wait = {"Retry-After": f"{self.physics.retry_after:g}"}
            await Response(status_code=503, headers=wait)(scope, receive, send)
            return
        if self.physics.latency:
            await asyncio.sleep(self.physics.latency)
        path = self._path(unquote(request.url.path))
        if path is None:
            answer: Response = Response(status_code=400)
        elif request.method == "PUT":
            answer = await self._put(request, path)
        elif request.method in ("GET", "HEAD"):
            answer = self._get(request, path)
        elif request.method == "OPTIONS":
            answer = Response(status_code=204, headers={"Accept-Content-Range": "bytes"})
        elif request.method == "DELETE":
            answer = Response(status_code=204 if path.is_file() else 404)
            path.unlink(missing_ok=True)
        else:
            answer = Response(status_code=405)
        # Cut off without an answer where the faults have struck.
        with contextlib.suppress(LineCut, ClientDisconnect):
            await answer(scope, receive, send)

    def _path(self, name: str) -> Path | None:
        path = (self.folder / name.strip("/")).resolve()
        inside = path == self.folder.resolve() or self.folder.resolve() in path.parents
        return path if inside and not path.name.endswith(ASIDE) else None

    async def _put(self, request: Request, path: Path) -> Response:
        wanted = int(request.headers.get("content-length", -1))
        cut = self._moment(self.physics.reset_share, wanted, "reset")
        stall = self._moment(self.physics.stall_share, wanted, "stalled")
        spoil = self._moment(self.physics.corrupt_share, wanted, "corrupted")
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = path.with_name(f"{path.name}.{secrets.token_hex(4)}{ASIDE}")
        state, size, free = hashlib.sha256(), 0, 0.0
        try:
            with temporary.open("wb") as file:
                async for block in request.stream():
                    if stall is not None and size >= stall:
                        stall = None
                        await asyncio.sleep(self.physics.stall_seconds)
                    if cut is not None and size >= cut:
                        return _Dropped()
                    if spoil is not None and block:
                        block, spoil = bytes([block[0] ^ 1]) + block[1:], None
                    free = await self.link.carry(len(block), free)
                    file.write(block)
                    state.update(block)
                    size += len(block)
            digest = write_field(state.hexdigest())
            if "content-range" in request.headers:
                return self._ranged(request, path, temporary, digest, size)
            announced = request.headers.get("content-digest", digest)
            if size != wanted or announced != digest:
                return Response("what arrived is not what was announced", status_code=422)
            temporary.replace(path)
        except ClientDisconnect:
            return _Dropped()
        finally:
            temporary.unlink(missing_ok=True)
        return Response(status_code=201, headers={"Repr-Digest": digest})

    def _ranged(
        self, request: Request, path: Path, temporary: Path, found: str, size: int
    ) -> Response:
        """Keeps a range that has arrived beside the others of its file."""
        announced = request.headers.get("content-digest", found)
        span = _CONTENT_RANGE.match(request.headers["content-range"])
        whole = read_field(request.headers.get("repr-digest", ""))
        if span is None or whole is None or announced != found:
            return Response("the range is not what was announced", status_code=422)
        first, end, total = int(span[1]), int(span[2]) + 1, int(span[3])
        if end - first != size or end > total:
            return Response("the range is not as long as announced", status_code=422)
        with temporary.open("rb") as file:
            blocks = iter(lambda: file.read(BLOCK), b"")
            right = self._ranges.put(path, blocks, (first, end), total, whole)
        if right is None:
            return Response(status_code=202)
        if not right:
            return Response("the ranges are not the file that was announced", status_code=422)
        return Response(status_code=201, headers={"Repr-Digest": request.headers["repr-digest"]})

    def _get(self, request: Request, path: Path) -> Response:
        if path.is_dir():
            return JSONResponse({"files": self._listed(path)})
        if not path.is_file():
            whole = read_field(request.headers.get("repr-digest", ""))
            spans = self._ranges.held(path, 0, whole) if whole else []
            held = ", ".join(f"{first}-{end - 1}" for first, end in spans)
            return Response(
                status_code=404, headers={"Content-Ranges-Held": held} if held else None
            )
        status = path.stat()
        size = status.st_size
        whole = _digest_of(path, size, status.st_mtime_ns)
        headers = {"Accept-Ranges": "bytes", "Repr-Digest": write_field(whole)}
        first, last, code = 0, size - 1, 200
        if asked := _RANGE.match(request.headers.get("range", "")):
            first, code = int(asked[1]), 206
            last = min(int(asked[2] or last), last)
            if first > last:
                return Response(status_code=416, headers={"Content-Range": f"bytes */{size}"})
            headers["Content-Range"] = f"bytes {first}-{last}/{size}"
            if "want-content-digest" in request.headers:
                headers["Content-Digest"] = write_field(_digest(path, first, last + 1))
        headers["Content-Length"] = str(last - first + 1)
        if request.method == "HEAD":
            return Response(status_code=200, headers=headers)
        return StreamingResponse(self._sent(path, first, last + 1), code, headers)

    async def _sent(self, path: Path, first: int, end: int) -> AsyncIterator[bytes]:
        cut = self._moment(self.physics.reset_share, end - first, "reset")
        stall = self._moment(self.physics.stall_share, end - first, "stalled")
        spoil = self._moment(self.physics.corrupt_share, end - first, "corrupted")
        free, at = 0.0, first
        with path.open("rb") as file:
            file.seek(first)
            while at < end and (block := file.read(min(BLOCK, end - at))):
                if stall is not None and at - first >= stall:
                    stall = None
                    await asyncio.sleep(self.physics.stall_seconds)
                if cut is not None and at - first >= cut:
                    raise LineCut
                if spoil is not None:
                    block, spoil = bytes([block[0] ^ 1]) + block[1:], None
                free = await self.link.carry(len(block), free)
                at += len(block)
                yield block

    def _listed(self, folder: Path) -> list[dict[str, Any]]:
        return [
            {"name": path.relative_to(folder).as_posix(), "size": path.stat().st_size}
            for path in sorted(folder.rglob("*"))
            if path.is_file() and not path.name.endswith(ASIDE)
        ]

    def _moment(self, share: float, size: int, what: str) -> int | None:
        """After how many bytes a fault strikes a transfer, None if it does not."""
        if size <= 0 or not self.link.strikes(share):
            return None
        self.counts[what] += 1
        return self.link.luck.randrange(size)


class _Dropped(Response):
    """An answer that is never whole, upon which the server ends the connection."""

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Begins to answer."""
        headers = [(b"content-length", b"1")]
        await send({"type": "http.response.start", "status": 500, "headers": headers})
        raise LineCut


@lru_cache(maxsize=4096)
def _digest_of(path: Path, size: int, changed: int) -> str:
    """That of a whole file as it was then; a store works it out once, not for each who asks."""
    return _digest(path)


def _digest(path: Path, first: int = 0, end: int | None = None) -> str:
    size = None if end is None else end - first
    return digest_of(blocks_of(path, first, size))[0]
