"""How much a request may bring: bodies are bounded, and JSON looked at, before anything is made of them. Plain ASGI."""

import asyncio
import tempfile
from pathlib import Path

from starlette.datastructures import Headers
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from reins.core.limits import MAX_JSON_BODY_BYTES, MAX_UPLOAD_BYTES, check_room
from reins.core.plain import read_json
from reins.errors import SettingsError, StorageError

FORM_BYTES = 1 << 20  # what a form has around its file
LONG_BODY_BYTES = 1 << 16  # from here on a body is looked at beside the event loop


class Bounds:
    """Answers 413 for what is too large, 422 for JSON that cannot be used, 507 where the disk has no room for it."""

    def __init__(self, app: ASGIApp, max_upload_bytes: int = MAX_UPLOAD_BYTES) -> None:
        self._app, self._max_upload_bytes = app, max_upload_bytes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request; sockets pass through."""
        if scope["type"] != "http" or scope["method"] in ("GET", "HEAD", "OPTIONS"):
            await self._app(scope, receive, send)
            return
        headers = Headers(scope=scope)
        is_form = headers.get("content-type", "").startswith("multipart/")
        limit = self._max_upload_bytes if is_form else MAX_JSON_BODY_BYTES
        said = headers.get("content-length", "0")
        announced = int(said) if said.isdecimal() and len(said) < 20 else limit + 1
        if announced > limit + FORM_BYTES * is_form:
            await _refuse(413, _too_large(announced, limit))(scope, receive, send)
        elif is_form:
            await self._form(scope, receive, send, announced, limit)
        else:
            await self._json(scope, receive, send, limit)

    async def _form(self, scope: Scope, receive: Receive, send: Send, announced: int, limit: int) -> None:
        """Count what comes in; an upload without end is answered as soon as it is too large."""
        try:
            check_room(Path(tempfile.gettempdir()), announced, "This file")
        except StorageError as error:
            await _refuse(507, str(error))(scope, receive, send)
            return
        counted = 0

        async def counting() -> Message:
            nonlocal counted
            message = await receive()
            counted += len(message.get("body", b""))
            return {"type": "http.disconnect"} if counted > limit + FORM_BYTES else message

        async def sending(message: Message) -> None:
            if counted <= limit + FORM_BYTES:
                await send(message)
            elif message["type"] == "http.response.start":  # whatever the application makes of half a form
                await _refuse(413, _too_large(counted, limit))(scope, receive, send)

        await self._app(scope, counting, sending)

    async def _json(self, scope: Scope, receive: Receive, send: Send, limit: int) -> None:
        body = bytearray()
        while True:
            message = await receive()
            if message["type"] != "http.request":
                return
            body += message.get("body", b"")
            if len(body) > limit:
                await _refuse(413, _too_large(len(body), limit))(scope, receive, send)
                return
            if not message.get("more_body"):
                break
        if body:
            try:
                if len(body) > LONG_BODY_BYTES:
                    await asyncio.to_thread(read_json, bytes(body), "the request")
                else:
                    read_json(bytes(body), "the request")
            except SettingsError as error:
                await _refuse(422, f"{error} Nothing was changed.")(scope, receive, send)
                return
        given = False

        async def replay() -> Message:
            nonlocal given
            if given:
                return await receive()
            given = True
            return {"type": "http.request", "body": bytes(body), "more_body": False}

        await self._app(scope, replay, send)


def _refuse(status: int, sentence: str) -> JSONResponse:
    return JSONResponse({"error": sentence}, status)


def _too_large(size_bytes: int, limit: int) -> str:
    return f"The request has {size_bytes >> 20} MiB; up to {limit >> 20} MiB are allowed. Nothing was changed."
