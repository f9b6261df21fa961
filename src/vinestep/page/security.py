"""Who may ask the page for what."""

from __future__ import annotations

import secrets
from collections.abc import Awaitable, Callable
from urllib.parse import unquote, urlsplit

from starlette.requests import Request
from starlette.responses import PlainTextResponse, RedirectResponse, Response

__all__ = ["HEADER", "Door"]

HEADER = "X-Vinestep-Token"
COOKIE = "vinestep_token"
SAFE = ("GET", "HEAD")
OWN_SITE = ("same-origin", "none")
LONGEST_ADDRESS = 16_000  # characters, of many runs and columns
LARGEST_BODY = 200_000
LOOPBACK = ("127.0.0.1", "localhost", "::1")
HEADERS = {
    "Content-Security-Policy": "default-src 'self'; img-src 'self' data: blob:; style-src 'self' "
    "'unsafe-inline'; frame-ancestors 'none'; "
    "base-uri 'none'; form-action 'self'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
}

Next = Callable[[Request], Awaitable[Response]]


class Door:
    """Lets requests pass, or not.

    A name that somebody else's web page gave this machine is refused, as is a request that comes
    from another page. What changes something needs the token in a header, which only this page
    knows. Beyond this machine everything needs the token.

    Parameters
    ----------
    hosts : sequence of str
        Names by which the page may be called, without ports.
    open_here : bool
        Whether looking needs no token, on a page that only this machine reaches.
    """

    def __init__(self, hosts: tuple[str, ...] = LOOPBACK, *, open_here: bool = True) -> None:
        self.hosts, self.open_here = hosts, open_here
        self.token = secrets.token_urlsafe(24)

    async def __call__(self, request: Request, call_next: Next) -> Response:
        refusal = self.refusal(request)
        if refusal is not None:
            return refusal
        given = request.query_params.get("token")
        if given is not None and request.method == "GET" and request.url.path == "/":
            left = "&".join(
                f"{key}={value}"
                for key, value in request.query_params.multi_items()
                if key != "token"
            )
            response: Response = RedirectResponse(f"/{'?' + left if left else ''}")
            response.set_cookie(_cookie(request), given, httponly=True, samesite="strict")
        else:
            response = await call_next(request)
        for name, value in HEADERS.items():
            response.headers.setdefault(name, value)
        return response

    def refusal(self, request: Request) -> Response | None:
        """Why a request is not answered; None if it is."""
        if _name(request.headers.get("host", "")) not in self.hosts:
            return PlainTextResponse("This page is not served under that name.", 421)
        origin = request.headers.get("origin")
        if origin is not None and urlsplit(origin).netloc != request.headers.get("host"):
            return PlainTextResponse("This page answers no other page.", 403)
        followed = request.method in SAFE and request.headers.get("sec-fetch-mode") == "navigate"
        if request.headers.get("sec-fetch-site", "none") not in OWN_SITE and not followed:
            return PlainTextResponse("This page answers no other page.", 403)
        if (refusal := _unfit(request)) is not None:
            return refusal
        if request.method not in SAFE and not self._known(request.headers.get(HEADER)):
            return PlainTextResponse(
                f"What changes something needs the token of this page in the header {HEADER}.", 403
            )
        if not self.open_here:
            shown = (
                request.headers.get(HEADER),
                request.cookies.get(_cookie(request)),
                request.query_params.get("token"),
            )
            if not any(self._known(token) for token in shown):
                return PlainTextResponse(
                    "This page needs its token: open the address that it printed when it started.",
                    401,
                )
        return None

    def _known(self, token: str | None) -> bool:
        return token is not None and secrets.compare_digest(
            token.encode("utf-8", "surrogatepass"), self.token.encode()
        )


def _cookie(request: Request) -> str:
    """Two pages on one machine, at different ports, do not share it: browsers tell cookies apart by
    host alone.
    """
    return f"{COOKIE}_{request.url.port or 80}"


def _unfit(request: Request) -> Response | None:
    """A refusal of what no request of the page looks like, before anything of it is read."""
    asked = f"{request.url.path}?{unquote(request.url.query)}"
    if len(asked) > LONGEST_ADDRESS:
        return PlainTextResponse("The address is too long.", 414)
    if any(ord(character) < 32 or ord(character) == 127 for character in asked):
        return PlainTextResponse("The address holds characters that can not be printed.", 400)
    if request.method in SAFE:
        return None
    length = request.headers.get("content-length", "")
    if not length.isdecimal():
        return PlainTextResponse("Say how long the body is.", 411)
    if int(length) > LARGEST_BODY:
        return PlainTextResponse(f"A body has at most {LARGEST_BODY} bytes.", 413)
    return None


def _name(host: str) -> str:
    """A host without its port."""
    if host.startswith("["):
        return host[1:].partition("]")[0]
    return host.partition(":")[0]
