"""Shipped descriptions of engines, led to the databases of the tests."""

from __future__ import annotations

import re
from pathlib import Path

from sqlalchemy.engine import make_url

from splarn.engines.described import description as describing

SHIPPED = Path(describing.__file__).parent / "shipped"
KINDS = ("postgresql", "duckdb", "mariadb")
PROMISES = {
    "postgresql": "once, by transaction", "duckdb": "once, by transaction",
    "mariadb": "once, by transaction", "sluice": "once, by the engine's own history",
}  # fmt: skip
# The name in the environment that a server's password stands under.
KEY = "SPLARN_TEST_KEY"


def describe(kind: str, url: str, path: Path, port: int | None = None) -> str:
    """Writes the shipped description of a kind for the database behind a URL; its own target URL.

    `port` is another way to the server.
    """
    text, told = (SHIPPED / f"{kind}.toml").read_text(), make_url(url)
    if kind == "sluice":
        text = text.replace('"sluice.db"', f'"{told.database}", rows_a_second = 20000')
    elif kind == "duckdb":
        text = text.replace('"larkmere.duckdb"', f'"{told.database}"')
    else:
        usual = {"postgresql": ("postgres", 5432), "mariadb": ("root", 3306)}[kind]
        given = {
            "host": f'"{told.host or "127.0.0.1"}"',
            "port": str(port or told.port or usual[1]),
            "user": f'"{told.username or usual[0]}"',
            "dbname" if kind == "postgresql" else "database": f'"{told.database}"',
        }
        if told.password:
            given["password"] = f'"${{{KEY}}}"'
        if kind == "mariadb":
            given |= {"charset": '"utf8mb4"', "client_flag": "2"}
        line = ", ".join(f"{name} = {value}" for name, value in given.items())
        text = re.sub(r"(?m)^arguments = .*$", lambda _: f"arguments = {{ {line} }}", text)
    path.write_text(text)
    return f"described:{path}"
