"""The write lock of an SQLite file, and what others may do meanwhile."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy.engine import Connection

from splarn.engines.sql.link import Link, SqlLink

# Where a connection keeps whether its transaction has the write lock.
WRITES = "splarn_writes"

# How a statement begins that changes the file; what is temporary lies elsewhere.
CHANGES = re.compile(
    r"\s*(INSERT|UPDATE|DELETE|ALTER|CREATE(?!\s+TEMP)|DROP\s(?!.*\btemp\.))", re.IGNORECASE
)


def begin_writing(connection: Connection) -> None:
    """Waits for the write lock of the file.

    A transaction that has read would not wait but fail at once where another writes, so it ends.
    """
    driver: Any = connection.connection.driver_connection
    if driver.in_transaction:
        driver.execute("COMMIT")
    driver.execute("BEGIN IMMEDIATE")
    connection.info[WRITES] = True


def stop_reading(link: Link) -> None:
    """Ends a transaction that has only read: others cannot commit for as long as it lasts."""
    assert isinstance(link, SqlLink), "SQLAlchemy holds the connection"
    if link.connection.in_transaction() and not link.connection.info[WRITES]:
        link.rollback()
