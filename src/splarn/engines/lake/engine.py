"""A lake: tables in the Apache Iceberg format, whose files Splarn writes itself."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from importlib.util import find_spec
from pathlib import Path
from typing import ClassVar

from sqlalchemy.engine import URL

from splarn.core.errors import RequestError
from splarn.core.lake.columns import columns_of
from splarn.core.layout import Layout
from splarn.core.layout.file_layout import FileLayout, read_file_layout
from splarn.core.source.places import place
from splarn.core.target.merging import Merging
from splarn.core.target.outgoing import Outgoing
from splarn.core.target.session import Engine
from splarn.engines.lake.catalog import LakeCatalog
from splarn.engines.lake.digests import LakeDigests
from splarn.engines.lake.link import LakeLink
from splarn.engines.lake.merging import LakeMerging
from splarn.engines.lake.notes import LakeNotes
from splarn.engines.lake.outgoing import LakeOutgoing
from splarn.engines.lake.rows import LakeRows
from splarn.engines.lake.storage import Storage, uri_of
from splarn.engines.lake.tables import LakeTables
from splarn.engines.plain import PlainEngine, PlainSession
from splarn.engines.sql.claims import MachineClaims

CATALOG = "catalog.db"
FOLDER_WANTED = (
    "A lake needs a folder for its catalog: write it like lake:///larkmere-lake, or "
    "lake:///larkmere-lake?warehouse=s3://bucket/prefix with its files in a store, or "
    "lake+rest://host:8181?warehouse=s3://bucket/prefix with a catalog of the REST protocol."
)


class LakeEngine(PlainEngine):
    """A folder with a catalog in an SQLite file, or a catalog that is reached over HTTP."""

    name = "lake"
    title = "Lake"
    in_process = False
    reads_parts = False
    gathers = True
    has_sizes = False
    levers: ClassVar[Mapping[str, tuple[str, ...]]] = {**PlainEngine.levers, "file_layout": ()}

    def __init__(self, url: URL) -> None:
        query = {key: str(value) for key, value in url.query.items()}
        unknown = sorted(set(query) - {"warehouse", "tls", "catalog"})
        if unknown:
            raise RequestError(f"A lake's URL has no {unknown[0]}: {FOLDER_WANTED}")
        self._name = query.get("catalog", "splarn")
        if url.drivername == "lake+rest":
            self._over_http(url, query)
            return
        if not url.database or url.host:
            raise RequestError(FOLDER_WANTED)
        folder = Path(url.database).resolve()
        self.place = url.set(query={}).render_as_string(hide_password=True)
        self._folder: Path | None = folder
        self._root = uri_of(query.get("warehouse", str(folder)))
        self._settings = {"uri": f"sqlite:///{folder / CATALOG}"}

    def _over_http(self, url: URL, query: Mapping[str, str]) -> None:
        if not url.host or "warehouse" not in query:
            raise RequestError(FOLDER_WANTED)
        port = f":{url.port}" if url.port else ""
        self.place = f"lake+rest://{url.host}{port}{'/' + url.database if url.database else ''}"
        self._folder = None
        self._root = uri_of(query["warehouse"])
        scheme = "https" if query.get("tls") in ("on", "yes", "true") else "http"
        path = f"/{url.database}" if url.database else ""
        self._settings = {"uri": f"{scheme}://{url.host}{port}{path}"}
        if url.password:
            self._settings["token"] = url.password

    @property
    def folders(self) -> tuple[Path, ...]:
        """See Engine. A catalog and files may be in two places."""
        at = place(self._root)
        held = [self._folder, at if isinstance(at, Path) else None]
        return tuple(dict.fromkeys(one for one in held if one is not None))

    def preload(self) -> None:
        """See Engine. Streams write files and leave the catalog alone."""
        import pyarrow.parquet  # noqa: F401

    def connect(self) -> LakeSession:
        """Opens a session. Raises OutsideError when it cannot be reached."""
        if find_spec("pyiceberg") is None:
            raise RequestError(
                f"{self.place} needs the package pyiceberg, which is not installed: "
                "pip install 'splarn[lake]'."
            )
        if self._folder is not None and not self._folder.parent.is_dir():
            raise RequestError(
                f"The folder {self._folder.parent} for {self.place} does not exist: make it or "
                "name another place."
            )
        storage = Storage(self._root)
        catalog = LakeCatalog(self.place, self._name, self._settings, storage)
        return LakeSession(LakeLink(self.place, storage, catalog))

    def ddl(self, table: str, layout: Layout) -> str:
        """What makes the table: a lake takes a schema in place of a statement."""
        columns = [
            {"id": one.number, "name": one.name, "required": one.required, "type": one.type}
            for one in columns_of(layout.fields, 1)
        ]
        return json.dumps({"type": "struct", "fields": columns}, indent=2, ensure_ascii=False)


class LakeSession(PlainSession):
    """See Session. Files are written and read here."""

    compute = None
    files = None

    def __init__(self, link: LakeLink) -> None:
        self.link = link
        self.tables = LakeTables(link)
        self.rows = LakeRows(link)
        self.digests = LakeDigests(link)
        self.notes = LakeNotes(link)
        self.claims = MachineClaims(link)
        self.outgoing: Outgoing | None = LakeOutgoing(link)
        self.merging: Merging | None = LakeMerging(link)

    def lay_out(self, layout: str) -> None:
        """See Session."""
        wanted = read_file_layout(layout)
        self.link.wanted = None if wanted == FileLayout() else wanted

    def version(self) -> str:
        """See Session."""
        from pyiceberg import __version__

        return f"Apache Iceberg by pyiceberg {__version__}"

    def read(self, statement: str) -> int:
        """See Session."""
        raise RequestError("A lake knows no statements.")

    def clock(self) -> float:
        """See Session."""
        return time.perf_counter()

    def checkpoint(self) -> None:
        """See Session. Changes of tables belong to the transaction."""

    def close(self) -> None:
        """See Session."""
        self.link.close()
        self.claims.close()


# The type checker holds the engine to the contract.
_KIND: type[Engine] = LakeEngine
