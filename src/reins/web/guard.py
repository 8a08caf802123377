"""Who may speak to the server, and what every answer carries. Plain ASGI, so that the socket passes through it too."""

import hashlib
from collections.abc import Iterable
from pathlib import Path
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

STATIC = Path(__file__).parent / "static"
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; "
    "connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
SAFE_METHODS = {"GET", "HEAD", "OPTIONS"}


def static_version() -> str:
    """A short name of what the static folder holds now; part of its path, so that browsers may keep it for ever."""
    digest = hashlib.sha256()
    for path in sorted(STATIC.rglob("*")):
        if path.is_file():
            digest.update(f"{path.relative_to(STATIC)} {path.stat().st_size} {path.stat().st_mtime_ns}".encode())
    return digest.hexdigest()[:12]


class Guard:
    """Refuses foreign Host and Origin headers; adds the security headers."""

    def __init__(self, app: ASGIApp, hosts: Iterable[str]) -> None:
        self._app, self._hosts = app, set(hosts)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request or socket."""
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        problem = self._problem(scope)
        if problem and scope["type"] == "websocket":
            await send({"type": "websocket.close", "code": 1008, "reason": problem})
        elif problem:
            await JSONResponse({"error": problem}, 403)(scope, receive, send)
        else:
            await self._app(scope, receive, self._with_headers(scope, send))

    def _problem(self, scope: Scope) -> str | None:
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        if (urlsplit(f"//{host}").hostname or "") not in self._hosts:
            return "This desk answers only under the address it was started with."
        origin = headers.get("origin")
        checked = scope["type"] == "websocket" or scope["method"] not in SAFE_METHODS
        if checked and origin is not None and urlsplit(origin).netloc != host:
            return "Another site may not work this desk."
        return None

    @staticmethod
    def _with_headers(scope: Scope, send: Send) -> Send:
        async def sending(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                headers["content-security-policy"] = POLICY
                headers["x-content-type-options"] = "nosniff"
                headers["referrer-policy"] = "same-origin"
                kept = scope["path"].startswith("/static/")
                headers["cache-control"] = "public, max-age=31536000, immutable" if kept else "no-store"
            await send(message)

        return sending
