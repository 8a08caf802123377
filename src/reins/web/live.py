"""The live socket: carries a desk's commands to its player and back what that gives (docs/formats/live.md)."""

import asyncio
import json
from typing import Any, Literal

from fastapi import APIRouter, WebSocket, WebSocketDisconnect

from reins.core.plain import read_json
from reins.core.sessions import Document
from reins.errors import InputError, ReinsError
from reins.services.house import House
from reins.services.playing import OWN, DeskPlayer
from reins.web.outbox import Outbox

router = APIRouter()


@router.websocket("/api/sessions/{session_id}/live")
async def live(socket: WebSocket, session_id: str, meters: Literal["after", "within"] = "after") -> None:
    """One desk's socket; meters: of a block, as a message after it or at its end."""
    house: House = socket.app.state.house
    await socket.accept()
    outbox = Outbox()
    try:
        state = socket.app.state
        player = await asyncio.to_thread(
            DeskPlayer, house, session_id, outbox, state.admission, state.blinds, within=meters == "within"
        )
    except ReinsError as error:
        await socket.send_text(json.dumps({"type": "error", "sentence": str(error)}))
        await socket.close(4404)
        return

    def kept(changed: str, document: Document, step: int) -> None:
        if changed == session_id:
            player.command({"type": "kept", "document": document, "step": step})

    forget = house.listen(kept)
    sender = asyncio.create_task(outbox.send_all(socket))
    try:
        while (frame := await socket.receive())["type"] == "websocket.receive":
            # Beside the loop: what is tried may have to be worked out first.
            await asyncio.to_thread(player.command, _command(frame.get("text") or frame.get("bytes") or ""))
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        forget()
        player.close()
        sender.cancel()


def _command(text: str | bytes) -> dict[str, Any]:
    """A command from what has come over the socket; what is none is said by the player, in its turn."""
    try:
        message = read_json(text, "A command")
    except InputError as error:
        return {"type": "refused", "error": InputError(f"{error} Nothing was changed.")}
    if not isinstance(message, dict) or message.get("type") in OWN:
        sentence = "A command must be an object with a type. Nothing was changed."
        return {"type": "refused", "error": InputError(sentence)}
    return message
