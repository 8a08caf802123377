"""The live socket: a desk's player in a thread of its own. The protocol is described in docs/formats/live.md."""

import asyncio
import contextlib
import json
import logging
import queue
import struct
import threading
from collections.abc import Callable
from typing import Any

from fastapi import APIRouter, WebSocket, WebSocketDisconnect

from reins.core.changes import SetProcessor, SetTrack
from reins.core.engine.live import LiveBlock, LiveClock
from reins.core.engine.mixer import LISTENS
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.errors import InputError, ReinsError
from reins.services.editing import document_of
from reins.services.house import House

log = logging.getLogger(__name__)
router = APIRouter()
HEADER = struct.Struct("<IId")  # stream, frames, session frame
Out = Callable[[str | bytes], None]


class DeskPlayer:
    """Runs a LiveClock in a thread: commands go in through a queue, blocks and messages come out through `out`."""

    def __init__(self, house: House, session_id: str, out: Out) -> None:
        self._house, self._out = house, out
        self._commands: queue.SimpleQueue[dict[str, Any] | None] = queue.SimpleQueue()
        self._trial = document_of(house, session_id)  # what is kept, with what is only tried laid over it
        self._clock = LiveClock(self._trial, self._takes(self._trial))
        self._thread = threading.Thread(target=self._run, name="desk", daemon=True)
        self._thread.start()

    def command(self, message: dict[str, Any]) -> None:
        """Hand in a command; returns at once."""
        self._commands.put(message)

    def close(self) -> None:
        """End the thread."""
        self._commands.put(None)

    def _takes(self, document: Document) -> dict[str, Take]:
        return {track.take_id: self._house.take(track.take_id) for track in document.tracks.values()}

    def _run(self) -> None:
        while True:
            message = self._commands.get()
            while message is not None:
                self._handle(message)
                self._play_on()
                try:
                    message = self._commands.get_nowait()
                except queue.Empty:
                    break
            if message is None:
                return

    def _play_on(self) -> None:
        """Send what is due; whatever goes wrong stops the sound with a sentence, not the thread."""
        try:
            self._send_blocks()
        except Exception as error:
            log.exception("desk player stopped")
            self._clock.stop()
            told = str(error) if isinstance(error, ReinsError) else "Something went wrong while playing"
            self._say({"type": "error", "sentence": f"{told}; the sound has stopped, what was kept is untouched."})

    def _send_blocks(self) -> None:
        """Give what is due; new commands come first."""
        while self._commands.empty():
            block = self._clock.next_block()
            if block is None:
                break
            self._out(HEADER.pack(block.stream, block.samples.shape[0], block.session_frame) + block.samples.tobytes())
            self._say(_meters(block))
        if self._clock.playing and self._clock.ended():
            self._clock.stop()
            self._say({"type": "ended", "stream": self._clock.stream})

    def _say(self, message: dict[str, Any]) -> None:
        self._out(json.dumps(message))

    def _handle(self, message: dict[str, Any]) -> None:
        handler = getattr(self, f"_on_{message.get('type')}", None)
        try:
            if handler is None:
                raise InputError(f"“{message.get('type')}” is not a command of the live socket.")
            handler(message)
        except ReinsError as error:
            self._say({"type": "error", "sentence": str(error)})
        except (KeyError, TypeError, ValueError) as error:
            self._say({"type": "error", "sentence": f"A command could not be read ({error!r}); nothing was changed."})
        except Exception:
            log.exception("desk player: %s", message.get("type"))
            self._say({"type": "error", "sentence": "Something went wrong while playing; nothing was changed."})

    def _on_play(self, message: dict[str, Any]) -> None:
        frame = int(message["frame"])
        stream = self._clock.play(frame)
        self._say({"type": "started", "stream": stream, "frame": frame})

    _on_seek = _on_play

    def _on_stop(self, message: dict[str, Any]) -> None:
        self._clock.stop()
        self._say({"type": "stopped", "stream": self._clock.stream})

    def _on_played(self, message: dict[str, Any]) -> None:
        self._clock.played(int(message["stream"]), int(message["frames"]))

    def _on_listen(self, message: dict[str, Any]) -> None:
        what = message["what"]
        if what not in LISTENS:
            raise InputError(f"listen is “{what}”; allowed: {', '.join(LISTENS)}.")
        self._clock.listen(what)

    def _on_try(self, message: dict[str, Any]) -> None:
        """Settings of a processor while they are dragged: heard, not kept."""
        fields = {k: message[k] for k in ("track_id", "processor_id", "settings")}
        self._change(SetProcessor(kind="set_processor", **fields).apply(self._trial)[0])

    def _on_try_track(self, message: dict[str, Any]) -> None:
        """Fader or pan while it is dragged: heard, not kept."""
        fields = {k: float(message[k]) for k in ("fader_db", "pan_pct") if k in message}
        try:
            trial = SetTrack(kind="set_track", track_id=message["track_id"], **fields)
        except ValueError as error:
            raise InputError("fader −90 to 12 dB and pan −100 to 100 % are allowed.") from error
        self._change(trial.apply(self._trial)[0])

    def _on_kept(self, message: dict[str, Any]) -> None:
        """The session has changed, here or in another tab."""
        self._change(message["document"])
        self._say({"type": "kept"})

    def _change(self, document: Document) -> None:
        self._trial = document
        self._clock.add_takes(self._takes(document))
        if self._clock.change(document):
            self._say({"type": "started", "stream": self._clock.stream, "frame": self._clock.position()})


def _meters(block: LiveBlock) -> dict[str, Any]:
    tracks = {k: [round(p, 1), round(r, 1)] for k, (p, r) in block.tracks.items()}
    return {
        "type": "meters", "stream": block.stream, "frame": block.session_frame, "tracks": tracks,
        "gains": {k: [round(v, 2) for v in stage] for k, stage in block.gains.items()},
        "master": [round(v, 1) for v in block.master],
    }  # fmt: skip


@router.websocket("/api/sessions/{session_id}/live")
async def live(socket: WebSocket, session_id: str) -> None:
    """One desk's socket."""
    house: House = socket.app.state.house
    await socket.accept()
    loop = asyncio.get_running_loop()
    outbox: asyncio.Queue[str | bytes] = asyncio.Queue()

    def out(message: str | bytes) -> None:
        with contextlib.suppress(RuntimeError):  # the loop is closed when the server stops
            loop.call_soon_threadsafe(outbox.put_nowait, message)

    try:
        player = await asyncio.to_thread(DeskPlayer, house, session_id, out)
    except ReinsError as error:
        await socket.send_text(json.dumps({"type": "error", "sentence": str(error)}))
        await socket.close(4404)
        return

    def kept(changed: str, document: Document) -> None:
        if changed == session_id:
            player.command({"type": "kept", "document": document})

    forget = house.listen(kept)
    sender = asyncio.create_task(_send_all(socket, outbox))
    try:
        while True:
            message = json.loads(await socket.receive_text())
            if isinstance(message, dict) and message.get("type") != "kept":
                player.command(message)
    except (WebSocketDisconnect, RuntimeError):
        pass
    except ValueError:
        await socket.close(1003)
    finally:
        forget()
        player.close()
        sender.cancel()


async def _send_all(socket: WebSocket, outbox: "asyncio.Queue[str | bytes]") -> None:
    with contextlib.suppress(WebSocketDisconnect, RuntimeError):
        while True:
            message = await outbox.get()
            await (socket.send_bytes(message) if isinstance(message, bytes) else socket.send_text(message))
