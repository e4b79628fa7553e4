"""A catalog of the Iceberg REST protocol on loopback, over one in an SQLite file.

After the open specification of the protocol; just what clients of it ask for.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import uvicorn
from pyiceberg.catalog.rest import CreateTableRequest
from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.exceptions import (
    CommitFailedException,
    NamespaceAlreadyExistsError,
    NoSuchNamespaceError,
    NoSuchTableError,
    TableAlreadyExistsError,
)
from pyiceberg.table import CommitTableRequest
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

CODES = {
    NoSuchTableError: (404, "NoSuchTableException"),
    NoSuchNamespaceError: (404, "NoSuchNamespaceException"),
    NamespaceAlreadyExistsError: (409, "AlreadyExistsException"),
    TableAlreadyExistsError: (409, "AlreadyExistsException"),
    CommitFailedException: (409, "CommitFailedException"),
}


class Catalog:
    """What the addresses answer; asked for a `token`, it takes no other."""

    def __init__(self, folder: Path, token: str) -> None:
        self.token, self.commits = token, 0
        self.inner = SqlCatalog(
            "inner", uri=f"sqlite:///{folder}/inner.db", warehouse=f"file://{folder}/served"
        )

    async def answer(self, request: Request) -> Response:
        """Any request."""
        if request.headers.get("authorization") != f"Bearer {self.token}":
            told = {"message": "no token", "type": "NotAuthorizedException", "code": 401}
            return JSONResponse({"error": told}, 401)
        try:
            found = self._answer(request, await request.body())
        except tuple(CODES) as error:
            code, kind = CODES[type(error)]
            told = {"message": str(error), "type": kind, "code": code}
            return JSONResponse({"error": told}, code)
        return Response(status_code=204) if found is None else JSONResponse(found)

    def _answer(self, request: Request, body: bytes) -> Any:
        pieces = request.url.path.removeprefix("/v1/").split("/")
        method = request.method
        if pieces == ["config"]:
            return {"defaults": {}, "overrides": {}}
        if pieces == ["namespaces"]:
            if method == "POST":
                import json

                space = tuple(json.loads(body)["namespace"])
                self.inner.create_namespace(space)
                return {"namespace": list(space), "properties": {}}
            return {"namespaces": [list(one) for one in self.inner.list_namespaces()]}
        if len(pieces) == 2:
            return {"namespace": [pieces[1]], "properties": {}}
        if len(pieces) == 3:
            if method == "POST":
                return self._create(pieces[1], CreateTableRequest.model_validate_json(body))
            tables = self.inner.list_tables(pieces[1])
            return {"identifiers": [{"namespace": [one[0]], "name": one[1]} for one in tables]}
        name = (pieces[1], pieces[3])
        if method == "DELETE":
            self.inner.drop_table(name)
            return None
        if method == "POST":
            asked = CommitTableRequest.model_validate_json(body)
            self.inner.commit_table(
                self.inner.load_table(name), tuple(asked.requirements), tuple(asked.updates)
            )
            self.commits += 1
        return self._table(self.inner.load_table(name))

    def _create(self, space: str, asked: CreateTableRequest) -> Any:
        made = self.inner.create_table(
            (space, asked.name), asked.table_schema, asked.location,
            asked.partition_spec, asked.write_order, asked.properties,
        )  # fmt: skip
        return self._table(made)

    def _table(self, table: Any) -> Any:
        metadata = table.metadata.model_dump(mode="json", by_alias=True, exclude_none=True)
        return {"metadata-location": table.metadata_location, "metadata": metadata, "config": {}}


@contextmanager
def served(folder: Path, token: str) -> Iterator[tuple[int, Catalog]]:
    """Its port, while it is served."""
    catalog = Catalog(folder, token)
    methods = ["GET", "POST", "DELETE", "HEAD"]
    app = Starlette(routes=[Route("/{path:path}", catalog.answer, methods=methods)])
    server = uvicorn.Server(uvicorn.Config(app, port=0, log_level="error", lifespan="off"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    try:
        while not server.started:
            time.sleep(0.01)
        yield server.servers[0].sockets[0].getsockname()[1], catalog
    finally:
        server.should_exit = True
        thread.join()
        catalog.inner.close()
