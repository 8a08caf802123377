"""The way from a player's thread to its socket."""

import asyncio
import contextlib

from fastapi import WebSocket, WebSocketDisconnect


class Outbox:
    """What a player has given and its socket has not sent yet."""

    def __init__(self) -> None:
        self._loop = asyncio.get_running_loop()
        self._queue: asyncio.Queue[str | bytes] = asyncio.Queue()
        self._given = self._sent = 0

    def __call__(self, message: str | bytes) -> None:
        """Give a message, from any thread."""
        self._given += 1
        with contextlib.suppress(RuntimeError):  # the loop is closed when the server stops
            self._loop.call_soon_threadsafe(self._queue.put_nowait, message)

    @property
    def waiting(self) -> int:
        """How many messages are on their way to the socket."""
        return self._given - self._sent

    async def send_all(self, socket: WebSocket) -> None:
        """Send what is given until the socket is closed."""
        with contextlib.suppress(WebSocketDisconnect, RuntimeError):
            while True:
                message = await self._queue.get()
                await (socket.send_bytes(message) if isinstance(message, bytes) else socket.send_text(message))
                self._sent += 1
