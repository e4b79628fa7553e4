"""A small server of Arrow Flight SQL before a DuckDB file, for tests of engines that speak it.

Written after the protocol's own description (FlightSql.proto of Apache Arrow): prepared statements,
their parameters and results, and transactions. `python -m tests.flight_sql FILE` prints its port;
whoever comes must show the token of the environment's SPLARN_TEST_TOKEN.
"""

from __future__ import annotations

import os
import secrets
import sys
import threading
from collections.abc import Iterator
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.flight as flight

TYPE = "type.googleapis.com/arrow.flight.protocol.sql."
# SqlInfo: whether there are transactions, and of which kind (1: transactions).
TRANSACTIONS = 8


def fields_of(message: bytes) -> dict[int, Any]:
    """The fields of a message in the wire format of protocol buffers: numbers and bytes."""
    found: dict[int, Any] = {}
    at = 0

    def number() -> int:
        nonlocal at
        value = shift = 0
        while True:
            byte = message[at]
            at += 1
            value |= (byte & 127) << shift
            if byte < 128:
                return value
            shift += 7

    while at < len(message):
        key = number()
        if key & 7 == 2:
            size = number()
            found[key >> 3] = message[at : at + size]
            at += size
        else:
            found[key >> 3] = number()
    return found


def message_of(**fields: bytes) -> bytes:
    """A message of byte fields, by their numbers: `_1=b"x"`."""
    told = b""
    for name, value in fields.items():
        told += bytes([int(name[1:]) << 3 | 2]) + _length(len(value)) + value
    return told


def _length(size: int) -> bytes:
    told = b""
    while size > 127:
        told += bytes([size & 127 | 128])
        size >>= 7
    return told + bytes([size])


def opened(message: bytes) -> tuple[str, dict[int, Any]]:
    """What a message of any kind is called, and its fields."""
    outer = fields_of(message)
    return outer[1].decode().removeprefix(TYPE), fields_of(outer.get(2, b""))


def wrapped(kind: str, message: bytes) -> bytes:
    """The reverse."""
    return message_of(_1=(TYPE + kind).encode(), _2=message)


class Prepared:
    """A statement, its parameters once they have come, and the transaction that it is of."""

    def __init__(self, query: str, link: Any) -> None:
        self.query, self.link = query, link
        self.parameters: list[Any] = []

    def run(self) -> pa.Table:
        """What it answers."""
        return self.link.execute(self.query, self.parameters).to_arrow_table()


class Asked(flight.ServerMiddlewareFactory):  # type: ignore[misc]
    """Lets in whoever shows the token."""

    def start_call(self, info: Any, headers: Any) -> None:
        """See Flight."""
        told = [
            value for name in headers if name.lower() == "authorization" for value in headers[name]
        ]
        if told != [f"Bearer {os.environ['SPLARN_TEST_TOKEN']}"]:
            raise flight.FlightUnauthenticatedError("no token, or another")


class Server(flight.FlightServerBase):  # type: ignore[misc]
    """See the module."""

    def __init__(self, path: str) -> None:
        super().__init__("grpc://127.0.0.1:0", middleware={"asked": Asked()})
        self.root = duckdb.connect(path)
        self.lock = threading.RLock()
        self.prepared: dict[bytes, Prepared] = {}
        self.answers: dict[bytes, pa.Table] = {}
        self.transactions: dict[bytes, Any] = {}

    def do_action(self, context: Any, action: Any) -> Iterator[bytes]:
        """Prepared statements and transactions."""
        with self.lock:
            _, told = opened(action.body.to_pybytes())
            handle = secrets.token_bytes(8)
            if action.type == "CreatePreparedStatement":
                link = self.transactions.get(told.get(2, b"")) or self.root.cursor()
                self.prepared[handle] = Prepared(told[1].decode(), link)
                yield wrapped("ActionCreatePreparedStatementResult", message_of(_1=handle))
            elif action.type == "ClosePreparedStatement":
                self.prepared.pop(told[1], None)
            elif action.type == "BeginTransaction":
                self.transactions[handle] = self.root.cursor()
                self.transactions[handle].execute("BEGIN TRANSACTION")
                yield wrapped("ActionBeginTransactionResult", message_of(_1=handle))
            elif action.type == "EndTransaction":
                link = self.transactions.pop(told[1])
                link.execute("COMMIT" if told[2] == 1 else "ROLLBACK")
            else:
                raise flight.FlightServerError(f"there is no {action.type}")

    def do_put(self, context: Any, descriptor: Any, reader: Any, writer: Any) -> None:
        """The parameters of a statement."""
        _, told = opened(descriptor.command)
        rows = reader.read_all().to_pylist()
        self.prepared[told[1]].parameters = list(rows[0].values()) if rows else []

    def get_flight_info(self, context: Any, descriptor: Any) -> Any:
        """Carries a statement out, and says where its answer is: here."""
        kind, told = opened(descriptor.command)
        if kind == "CommandGetSqlInfo":
            answer = _capabilities()
        else:
            answer = self._result(self.prepared[told[1]])
        ticket = secrets.token_bytes(8)
        self.answers[ticket] = answer
        endpoint = flight.FlightEndpoint(flight.Ticket(ticket), [])
        return flight.FlightInfo(answer.schema, descriptor, [endpoint], answer.num_rows, -1)

    def do_get(self, context: Any, ticket: Any) -> Any:
        """An answer."""
        return flight.RecordBatchStream(self.answers.pop(ticket.ticket))

    def _result(self, prepared: Prepared) -> pa.Table:
        with self.lock:
            try:
                return prepared.run()
            except duckdb.Error as error:
                raise flight.FlightServerError(str(error)) from None


def _capabilities() -> pa.Table:
    """Only that there are transactions; the value is a dense union, as the protocol has it."""
    kinds = [
        pa.field("string_value", pa.string()), pa.field("bool_value", pa.bool_()),
        pa.field("bigint_value", pa.int64()), pa.field("int32_bitmask", pa.int32()),
        pa.field("string_list", pa.list_(pa.string())),
        pa.field("int32_to_int32_list_map", pa.map_(pa.int32(), pa.list_(pa.int32()))),
    ]  # fmt: skip
    children = [pa.array([1] if kind.name == "int32_bitmask" else [], kind.type) for kind in kinds]
    value = pa.UnionArray.from_dense(
        pa.array([3], pa.int8()), pa.array([0], pa.int32()), children, [kind.name for kind in kinds]
    )
    name = pa.array([TRANSACTIONS], pa.uint32())
    schema = pa.schema(
        [pa.field("info_name", pa.uint32(), False), pa.field("value", value.type, False)]
    )
    return pa.Table.from_arrays([name, value], schema=schema)


if __name__ == "__main__":
    server = Server(sys.argv[1])
    print(server.port, flush=True)
    server.serve()
