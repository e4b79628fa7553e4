"""A loopback proxy that cuts, stalls, half-closes and loses replies at chosen moments."""

from __future__ import annotations

import socket
import threading
import time
from contextlib import suppress
from dataclasses import dataclass


@dataclass(frozen=True)
class Trouble:
    """What happens to one connection.

    `what` is cut, stall (then cut), half-close, or lose-reply. It happens after `after` bytes from
    the client, or at the `nth` time that the client sends `word`; then the server still gets what
    was sent, and with lose-reply the client hears nothing of it.
    """

    what: str
    after: int | None = None
    word: bytes = b""
    nth: int = 1


class Proxy:
    """Hands connections on to a port; the first few of them meet trouble, later ones do not."""

    def __init__(self, port: int, troubles: list[Trouble]) -> None:
        self.target = port
        self._troubles = list(troubles)
        self._lock = threading.Lock()
        self.struck = 0
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._open = True
        self._sockets: list[socket.socket] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        """Takes no further connections, and ends those that there are."""
        self._open = False
        with suppress(OSError):
            self._server.close()
        for one in self._sockets:
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            with suppress(OSError):
                one.close()

    def _accept(self) -> None:
        while self._open:
            try:
                client, _ = self._server.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=(client,), daemon=True).start()

    def _serve(self, client: socket.socket) -> None:
        with self._lock:
            trouble = self._troubles[0] if self._troubles else None
        try:
            server = socket.create_connection(("127.0.0.1", self.target))
        except OSError:
            client.close()
            return
        self._sockets += [client, server]
        muted = threading.Event()
        back = threading.Thread(target=_pass, args=(server, client, muted), daemon=True)
        back.start()
        sent = seen = 0
        while True:
            try:
                data = client.recv(65536)
            except OSError:
                break
            if not data:
                break
            sent += len(data)
            seen += data.count(trouble.word) if trouble is not None and trouble.word else 0
            if trouble is not None and self._strikes(trouble, sent, seen):
                self._strike(trouble, client, server, muted, data)
                return
            try:
                server.sendall(data)
            except OSError:
                break
        _end(client, server)

    def _strikes(self, trouble: Trouble, sent: int, seen: int) -> bool:
        due = sent >= trouble.after if trouble.after is not None else seen >= trouble.nth
        if not due:
            return False
        with self._lock:
            if trouble not in self._troubles:
                return False
            self._troubles.remove(trouble)
            self.struck += 1
        return True

    def _strike(
        self,
        trouble: Trouble,
        client: socket.socket,
        server: socket.socket,
        muted: threading.Event,
        data: bytes,
    ) -> None:
        if trouble.what == "lose-reply":
            muted.set()
            with suppress(OSError):
                server.sendall(data)
            # Long enough for the server to have done it.
            time.sleep(0.15)
        elif trouble.what == "stall":
            time.sleep(0.6)
        elif trouble.what == "half-close":
            with suppress(OSError):
                client.shutdown(socket.SHUT_WR)
            time.sleep(0.2)
        _end(client, server)


def _end(*both: socket.socket) -> None:
    """Ends connections; shut down first, since another thread that waits on one keeps it open."""
    for one in both:
        with suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)
        with suppress(OSError):
            one.close()


def _pass(server: socket.socket, client: socket.socket, muted: threading.Event) -> None:
    while True:
        try:
            data = server.recv(65536)
            if not data:
                break
            if not muted.is_set():
                client.sendall(data)
        except OSError:
            break
    with suppress(OSError):
        client.shutdown(socket.SHUT_WR)
