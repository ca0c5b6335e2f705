"""Who may use the server: pages of its own, opened by the person who started it. Everybody else is refused.

Other sites are kept out by Host and Origin, other users of the computer by a secret that is new at each start: it
stands in the address that is printed and opened, and becomes a cookie (as notebook servers do it; common practice).
"""

from __future__ import annotations

import asyncio
import secrets
from http.cookies import CookieError, SimpleCookie
from typing import Any
from urllib.parse import parse_qsl, urlencode

from fastapi.responses import JSONResponse, RedirectResponse
from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

#: pages of other origins may neither read nor write here; scripts come from here alone
HEADERS = {
    "Content-Security-Policy": "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; "
    "media-src 'self' blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
}
_LOCAL = ("127.0.0.1", "localhost", "[::1]")
#: what the secret is called in an address
KEY = "key"
#: seconds between two pieces of a request's body
PATIENCE = 60.0


def new_secret() -> str:
    """A secret for one start of the server: 256 random bits."""
    return secrets.token_urlsafe(32)


def problem(status: int, title: str, detail: str, **more: Any) -> JSONResponse:
    """problem+json (RFC 9457)."""
    content = {"type": "about:blank", "title": title, "status": status, "detail": detail, **more}
    return JSONResponse(content, status, media_type="application/problem+json")


def _host_name(host: str) -> str:
    return host.rpartition(":")[0] if ":" in host.rpartition("]")[2] else host


class Guard:
    """Lets requests through to the application, or refuses them; adds its headers to every answer."""

    def __init__(self, app: ASGIApp, secret: str, patience: float = PATIENCE) -> None:
        self._app, self._secret, self._patience = app, secret, patience

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
            await send(message)

        answer = self._refusal(scope) or self._introduced(scope)
        if answer is not None:
            await answer(scope, receive, guarded)
            return
        await self._app(scope, self._timed(receive), guarded)

    def _refusal(self, scope: Scope) -> Response | None:
        headers, path = Headers(scope=scope), scope["path"]
        host = headers.get("host", "")
        if _host_name(host) not in _LOCAL:
            return problem(403, "Forbidden", f"Brae answers only on this computer, not as '{host}'.", code="host")
        origin = headers.get("origin")
        if origin is not None and origin != f"http://{host}":
            return problem(403, "Forbidden", f"Pages of {origin} may not use Brae.", code="origin")
        if scope["method"] not in ("GET", "HEAD") and headers.get("sec-fetch-site") in ("cross-site", "same-site"):
            return problem(403, "Forbidden", "Other pages may not use Brae.", code="origin")
        if "\0" in path or b"%00" in scope["query_string"]:
            return problem(422, "Invalid request", "An address holds a NUL character.", code="request")
        if path.startswith("/api") and not self._knows(scope, headers):
            return problem(
                401,
                "Unauthorized",
                "This page does not know the secret of the Brae that runs now.",
                code="secret",
                remedy="Open the address that Brae printed when it was started, or start it again.",
            )
        return None

    def _knows(self, scope: Scope, headers: Headers) -> bool:
        given = headers.get("authorization", "").removeprefix("Bearer ")
        if not given:
            try:
                cookies = SimpleCookie(headers.get("cookie", ""))
            except CookieError:
                return False
            morsel = cookies.get(_cookie(scope))
            given = morsel.value if morsel is not None else ""
        return self._is_secret(given)

    def _is_secret(self, given: str) -> bool:
        return secrets.compare_digest(given.encode("utf-8", "replace"), self._secret.encode())

    def _introduced(self, scope: Scope) -> Response | None:
        """A page's address with the secret in it: the secret becomes a cookie and leaves the address."""
        if scope["path"].startswith("/api") or KEY.encode() not in scope["query_string"]:
            return None
        parts = parse_qsl(scope["query_string"].decode("latin-1"), keep_blank_values=True)
        given = dict(parts).get(KEY)
        if given is None:
            return None
        left = urlencode([part for part in parts if part[0] != KEY])
        # A path of its own: never to another site (a path may begin with two slashes).
        answer = RedirectResponse(f"/{scope['path'].lstrip('/')}{f'?{left}' if left else ''}", 303)
        if self._is_secret(given):
            answer.set_cookie(_cookie(scope), given, httponly=True, samesite="strict")
        return answer

    def _timed(self, receive: Receive) -> Receive:
        whole = False

        async def timed() -> Message:
            nonlocal whole
            if whole:  # only the end of the connection is left to wait for
                return await receive()
            try:
                message = await asyncio.wait_for(receive(), self._patience)
            except TimeoutError:
                return {"type": "http.disconnect"}
            whole = not message.get("more_body", False)
            return message

        return timed


def _cookie(scope: Scope) -> str:
    """Cookies do not know ports, so each server has its own name for one."""
    server = scope.get("server") or ("", 0)
    return f"brae-{server[1]}"
