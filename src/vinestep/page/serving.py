"""The page on a port."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from typing import Any

from ..errors import RunError
from ..runs._query import Runs
from .app import make_app
from .security import LOOPBACK, Door

__all__ = ["serve"]

REQUEST_TIMEOUT = 20.0  # seconds in which a request has to be there as a whole
MOST_AT_ONCE = 200  # connections, so that a flood leaves room for none but itself


def serve(
    runs: Runs,
    *,
    host: str = "127.0.0.1",
    port: int = 8765,
    names: tuple[str, ...] = (),
    told: Callable[[str], object] = print,
) -> None:
    """Serve the page until it is interrupted.

    Parameters
    ----------
    runs : Runs
    host : str
        The address to listen at; beyond this machine everything needs a token, which is told once.
    port : int
        0 for a free one.
    names : sequence of str
        Further names by which the page may be called.
    told : callable
        Gets the page's address.

    Raises
    ------
    RunError
        If the port is taken.
    """
    import uvicorn

    here = host in LOOPBACK
    own = (
        (*LOOPBACK, host, *names)
        if here or host not in ("0.0.0.0", "::")
        else (*LOOPBACK, *_addresses(), *names)
    )
    door = Door(tuple(own), open_here=here)
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    listening = socket.socket(family, socket.SOCK_STREAM)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind((host, port))
    except OSError as error:
        raise RunError(
            f"{host}:{port}: the page cannot listen there: {error.strerror}. Give another --port, "
            "or 0 for a free one."
        ) from error
    app = make_app(runs, door)
    shown = f"[{host}]" if ":" in host else socket.gethostname() if host == "0.0.0.0" else host
    told(f"http://{shown}:{listening.getsockname()[1]}/{'' if here else f'?token={door.token}'}")
    server = uvicorn.Server(
        uvicorn.Config(
            app,
            log_level="warning",
            timeout_graceful_shutdown=2,
            access_log=False,
            limit_concurrency=MOST_AT_ONCE,
            http=request_timeout_protocol(),
        )
    )
    close = server.handle_exit

    def closing(*arguments: object) -> None:
        app.state.watch.closing = True
        close(*arguments)  # type: ignore[arg-type]

    server.handle_exit = closing  # type: ignore[method-assign,assignment]
    server.run(sockets=[listening])


def request_timeout_protocol() -> type[asyncio.Protocol]:
    """The protocol of a connection that is closed if its request is not whole after a time.

    Uvicorn waits for the rest of a request for ever, so that clients that send a byte now and then
    could hold all connections.
    """
    import h11
    from uvicorn.protocols.http.h11_impl import H11Protocol

    class TimeoutProtocol(H11Protocol):
        _deadline: asyncio.TimerHandle | None = None

        def connection_made(self, transport: Any) -> None:
            super().connection_made(transport)
            self._deadline = self.loop.call_later(REQUEST_TIMEOUT, transport.close)

        def data_received(self, data: bytes) -> None:
            super().data_received(data)
            whole = self.conn.their_state not in (h11.IDLE, h11.SEND_BODY)
            if whole:
                self._cancel_deadline()
            elif self._deadline is None:
                self._deadline = self.loop.call_later(REQUEST_TIMEOUT, self.transport.close)

        def connection_lost(self, exc: Exception | None) -> None:
            self._cancel_deadline()
            super().connection_lost(exc)

        def _cancel_deadline(self) -> None:
            if self._deadline is not None:
                self._deadline.cancel()
                self._deadline = None

    return TimeoutProtocol


def _addresses() -> list[str]:
    """Names and addresses of this machine."""
    name = socket.gethostname()
    try:
        return [name, socket.getfqdn(), *socket.gethostbyname_ex(name)[2]]
    except OSError:
        return [name]
