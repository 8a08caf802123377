"""Who may speak to the server, and what every answer carries. Plain ASGI, so that the socket passes through it too."""

import hashlib
import hmac
import html
from collections.abc import Iterable
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.requests import cookie_parser
from starlette.responses import HTMLResponse, JSONResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

STATIC = Path(__file__).parent / "static"
HEADERS = {
    "content-security-policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data:; "
        "media-src 'self'; connect-src 'self'; worker-src 'self'; form-action 'self'; base-uri 'none'; "
        "frame-ancestors 'none'"
    ),
    "x-content-type-options": "nosniff",
    "referrer-policy": "same-origin",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
    "permissions-policy": "camera=(), display-capture=(), geolocation=(), microphone=(), midi=(), payment=(), usb=()",
}
SAFE_METHODS = {"GET", "HEAD", "OPTIONS"}
COOKIE = "reins"


def static_version() -> str:
    """A short name of what the static folder holds now; part of its path, so that browsers may keep it for ever."""
    digest = hashlib.sha256()
    for path in sorted(STATIC.rglob("*")):
        if path.is_file():
            digest.update(f"{path.relative_to(STATIC)} {path.stat().st_size} {path.stat().st_mtime_ns}".encode())
    return digest.hexdigest()[:12]


def page_modules() -> list[str]:
    """What a page's script imports, directly or not, to be asked for at once instead of one import after another."""
    alone = {"main.js", "theme.js", "liveworker.js", "worklet.js"}  # the page or a thread of its own begins with these
    scripts = sorted((STATIC / "js").rglob("*.js"))
    return [path.relative_to(STATIC).as_posix() for path in scripts if path.name not in alone]


class Guard:
    """Refuses foreign Host and Origin headers, and, with a token, whoever has not shown it; adds the security headers.

    The token comes once with the link that was printed (?token=...) and stays as a cookie that scripts cannot read and
    other sites cannot send.
    """

    def __init__(self, app: ASGIApp, hosts: Iterable[str], token: str | None = None) -> None:
        self._app, self._hosts, self._token = app, set(hosts), token

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request or socket."""
        if scope["type"] not in ("http", "websocket"):
            await self._app(scope, receive, send)
            return
        refused = self._refusal(scope)
        if refused is None:
            await self._app(scope, receive, _with_headers(scope, send))
        elif scope["type"] == "http":
            await refused(scope, receive, _with_headers(scope, send))
        elif "websocket.http.response" in scope.get("extensions", {}):
            await send({"type": "websocket.http.response.start", "status": refused.status_code, "headers": []})
            await send({"type": "websocket.http.response.body", "body": bytes(refused.body)})
        else:
            await send({"type": "websocket.close", "code": 1008})

    def _refusal(self, scope: Scope) -> Response | None:
        """What to answer instead of the application; None lets the request pass."""
        headers = Headers(scope=scope)
        host = headers.get("host", "")
        if _hostname(host) not in self._hosts:
            return _said(scope, 403, "This desk answers only under the address it was started with.")
        if self._token is not None and (shown := self._show_token(scope, headers)) is not None:
            return shown
        if scope["type"] == "http" and scope["method"] in SAFE_METHODS:
            return None
        origin = headers.get("origin")
        elsewhere = headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none")
        if elsewhere if origin is None else _netloc(origin) != host:
            return _said(scope, 403, "Another site may not work this desk.")
        return None

    def _show_token(self, scope: Scope, headers: Headers) -> Response | None:
        """Whoever has the cookie passes (None); whoever brings the token gets it; all others are told."""
        assert self._token is not None
        if _same(cookie_parser(headers.get("cookie", "")).get(COOKIE, ""), self._token):
            return None
        given = parse_qs(scope["query_string"].decode("latin-1")).get("token", [""])[0]
        if scope["type"] == "http" and scope["method"] == "GET" and _same(given, self._token):
            # A page, not a redirect: the first request may come from another site, and then the cookie, being strict,
            # would not be sent along with a redirect.
            # Two slashes in front would lead to another site.
            path = html.escape("/" + scope["path"].lstrip("/\\"), quote=True)
            page = HTMLResponse(
                f'<!doctype html><meta http-equiv="refresh" content="0;url={path}"><title>Reins</title>'
            )
            page.set_cookie(COOKIE, self._token, httponly=True, samesite="strict")
            return page
        return _said(scope, 401, "This desk opens with the link that the server printed when it was started.")


def _same(given: str, token: str) -> bool:
    """Whether a secret is given; one that is empty is none."""
    return bool(token) and hmac.compare_digest(given.encode("utf-8", "replace"), token.encode())


def _hostname(host: str) -> str:
    if "@" in host:  # of a person at a host a header knows nothing
        return ""
    try:
        return urlsplit(f"//{host}").hostname or ""
    except ValueError:
        return ""


def _netloc(origin: str) -> str:
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return ""


def _said(scope: Scope, status: int, sentence: str) -> Response:
    if scope["path"].startswith("/api/"):
        return JSONResponse({"error": sentence}, status)
    return HTMLResponse(f'<!doctype html><html lang="en"><title>Reins</title><p>{html.escape(sentence)}', status)


def _with_headers(scope: Scope, send: Send) -> Send:
    async def sending(message: Message) -> None:
        if message["type"] == "http.response.start":
            headers = MutableHeaders(scope=message)
            for name, value in HEADERS.items():
                headers[name] = value
            kept = scope["path"].startswith("/static/") and message["status"] == 200
            headers["cache-control"] = "public, max-age=31536000, immutable" if kept else "no-store"
        await send(message)

    return sending
