"""The page on a port."""

from __future__ import annotations

import socket
from collections.abc import Callable

from ..errors import RunError
from ..runs._query import Runs
from .app import make_app
from .security import LOOPBACK, Door

__all__ = ["serve"]

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
        )
    )
    close = server.handle_exit

    def closing(*arguments: object) -> None:
        app.state.watch.closing = True
        close(*arguments)  # type: ignore[arg-type]

    server.handle_exit = closing  # type: ignore[method-assign,assignment]
    server.run(sockets=[listening])


def _addresses() -> list[str]:
    """Names and addresses of this machine."""
    name = socket.gethostname()
    try:
        return [name, socket.getfqdn(), *socket.gethostbyname_ex(name)[2]]
    except OSError:
        return [name]
