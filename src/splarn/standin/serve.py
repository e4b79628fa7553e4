"""Serving a stand-in on loopback, for as long as it is wanted."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec
from typing import Any

from splarn.core.errors import OutsideError, RequestError

LOOPBACK = "127.0.0.1"


def need_packages() -> None:
    """Raises RequestError where what stand-ins need is not installed."""
    missing = [name for name in ("uvicorn", "starlette", "httpx") if find_spec(name) is None]
    if missing:
        raise RequestError(
            f"Stand-ins need {' and '.join(missing)}, which {'is' if len(missing) == 1 else 'are'} "
            "not installed: pip install 'splarn[standin]'."
        )


def server_for(application: Any, port: int, host: str = LOOPBACK) -> tuple[Any, socket.socket]:
    """A server of an ASGI application and the socket it will listen on; port 0 is any free one.

    Raises RequestError without the packages, OutsideError when the port is taken.
    """
    need_packages()
    import uvicorn

    # With its protocol named, asyncio sends answers at once rather than waiting for more.
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
    except OSError as error:
        listening.close()
        raise OutsideError(
            f"The port {port} cannot be listened on ({error.strerror}): choose another one."
        ) from None
    config = uvicorn.Config(application, log_level="critical", lifespan="off", access_log=False)
    return uvicorn.Server(config), listening


@contextmanager
def served(application: Any, port: int = 0, host: str = LOOPBACK) -> Iterator[str]:
    """The address of an application that another thread serves meanwhile."""
    server, listening = server_for(application, port, host)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listening]}, daemon=True)
    thread.start()
    try:
        while not server.started and thread.is_alive():
            thread.join(0.01)
        yield f"http://{host}:{listening.getsockname()[1]}"
    finally:
        server.should_exit = True
        thread.join(10)
        listening.close()
