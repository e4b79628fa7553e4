"""Names of tables as people write them: pieces between dots, quoted where they hold a dot."""

from __future__ import annotations

from splarn.core.errors import RequestError


def split_name(text: str) -> list[str]:
    """The pieces of a table's name; `"a.b"` is one piece, a doubled quote in it stands for one.

    Raises RequestError when a piece is empty or a quote stays open.
    """
    pieces: list[str] = []
    at = 0
    while True:
        if text[at : at + 1] == '"':
            piece, at = _quoted(text, at + 1)
        else:
            end = text.find(".", at)
            end = len(text) if end < 0 else end
            piece, at = text[at:end], end
        if not piece:
            raise RequestError(f"The table name {text!r} has an empty piece: check the dots in it.")
        pieces.append(piece)
        if at >= len(text):
            return pieces
        if text[at] != ".":
            raise RequestError(
                f'The table name {text!r} goes on after a closing quote: double a quote (`""`) '
                "that belongs to the name."
            )
        at += 1


def _quoted(text: str, at: int) -> tuple[str, int]:
    piece = ""
    while True:
        end = text.find('"', at)
        if end < 0:
            raise RequestError(f"The table name {text!r} opens a quote that it does not close.")
        piece += text[at:end]
        if text[end + 1 : end + 2] != '"':
            return piece, end + 1
        piece, at = piece + '"', end + 2


def join_name(*pieces: str | None) -> str:
    """The reverse of `split_name`; pieces that are None are left out."""
    return ".".join(_written(piece) for piece in pieces if piece is not None)


def _written(piece: str) -> str:
    if "." not in piece and not piece.startswith('"'):
        return piece
    return '"' + piece.replace('"', '""') + '"'


def schema_and_name(table: str) -> tuple[str | None, str]:
    """The schema (a database in MariaDB) and the bare name of a table.

    Raises RequestError for a name of more than two pieces.
    """
    pieces = split_name(table)
    if len(pieces) > 2:
        raise RequestError(
            f"The table name {table!r} has {len(pieces)} pieces: write schema.table, and put a "
            "piece that holds a dot in double quotes."
        )
    return (pieces[0] if len(pieces) == 2 else None), pieces[-1]


def sibling(table: str, name: str) -> str:
    """The name of another table in the same schema."""
    return join_name(schema_and_name(table)[0], name)
