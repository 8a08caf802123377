"""A desk's player: a live clock in a thread of its own, fed with commands, giving blocks and messages.

The protocol is described in docs/formats/live.md; who carries it (web.live) hands in what came and sends what is given.
"""

import json
import logging
import queue
import struct
import threading
import time
from typing import Any, Protocol

from reins.core.engine.listening import LISTENS, SIDES, Listening
from reins.core.engine.live import LiveBlock, LiveClock
from reins.core.engine.mixer import BLOCK_FRAMES
from reins.core.engine.watching import Watched
from reins.core.sessionparts import MAX_FRAME
from reins.core.sessions import Document
from reins.core.takes import Take
from reins.core.trials.matching import MOST_GAIN_DB
from reins.errors import InputError, ReinsError
from reins.services.admission import Admission
from reins.services.blinds import Blinds, untold
from reins.services.house import House
from reins.services.readying import going_on
from reins.services.telling import master_told, meters_told
from reins.services.trying import Tried

log = logging.getLogger(__name__)
LITTLE_FRAMES, LATES = 2048, 3  # a listener that has less ahead, so many times in a row, is not being fed
QUIET_S = 0.5  # after the last change, until what the next start works with is made ahead
LOAD_SHARE = 0.1  # of the newest block in what a desk is said to cost
OWN = ("kept", "tried", "refused", "hold", "go_on")  # commands that come from the house, not from a desk
HEADER = struct.Struct("<IId")  # stream, frames, session frame


class Out(Protocol):
    """Where a player's blocks and messages go."""

    @property
    def waiting(self) -> int:
        """How many of them have not been sent yet."""

    def __call__(self, message: str | bytes) -> None:
        """Take a message, from any thread."""


class DeskPlayer:
    """Runs a LiveClock in a thread: commands go in through a queue, blocks and messages come out through `out`."""

    def __init__(
        self, house: House, session_id: str, out: Out, admission: Admission, blinds: Blinds, *, within: bool = False
    ) -> None:
        """within: meters come at the end of the block they belong to, which wakes the listener once, not twice."""
        self._house, self._out, self._admission, self._within = house, out, admission, within
        self._waits_at: int | None = None  # the frame to go on from, where others play and it has to wait
        self._lates, self._load, self._begun = 0, 0.0, 0
        self._commands: queue.SimpleQueue[dict[str, Any] | None] = queue.SimpleQueue()
        self._reading = threading.Lock()
        self._tried = Tried(house, session_id, blinds)
        self._told: dict[str, str] = {}  # what has failed and was said
        self._awaited: dict[str, str] = {}  # what the sound goes on without, and that was said
        with going_on():
            self._clock = LiveClock(self._tried.document, self._takes(self._tried.document))
        self._changed_at = time.monotonic()  # or when it started; 0 where the next start is prepared
        self._thread = threading.Thread(target=self._run, name="desk", daemon=True)
        self._thread.start()

    def command(self, message: dict[str, Any]) -> None:
        """Hand in a command; returns at once. What is tried is read here, so that the player need not."""
        with self._reading:
            self._commands.put(self._tried.read(message))

    def close(self) -> None:
        """End the thread."""
        self._commands.put(None)

    def _takes(self, document: Document) -> dict[str, Take]:
        """The takes that are there; of a track whose recording cannot be opened that is said, and the rest plays."""
        found, problems = self._house.takes_there(document)
        self._tell({f"open {track_id}": sentence for track_id, sentence in problems.items()})
        return found

    def _tell(self, failures: dict[str, str]) -> None:
        """Say what has failed, once as long as it stays the same."""
        for what, sentence in failures.items():
            if self._told.get(what) != sentence:
                self._told[what] = sentence
                self._say({"type": "error", "sentence": sentence})

    def _run(self) -> None:
        with going_on():
            self._play()

    def _play(self) -> None:
        while True:
            message = self._next()
            while message is not None:
                self._handle(message)
                self._play_on()
                try:
                    message = self._commands.get_nowait()
                except queue.Empty:
                    break
            if message is None:
                self._admission.end(self)
                return

    def _next(self) -> dict[str, Any] | None:
        """The next command. In the meantime, once nothing has changed for a moment and all that is due is given, the
        next start or seek is prepared.
        """
        while True:
            quiet_s = time.monotonic() - self._changed_at
            try:
                return (
                    self._commands.get(timeout=max(0.0, QUIET_S - quiet_s))
                    if self._changed_at
                    else self._commands.get()
                )
            except queue.Empty:
                self._changed_at = 0.0
                try:
                    self._clock.make_ready()
                except Exception:
                    log.exception("The next start could not be prepared; it prepares itself when it is asked for")

    def hold(self) -> None:
        """Stop giving sound and say so."""
        self._commands.put({"type": "hold"})

    def go_on(self) -> None:
        """Give sound again."""
        self._commands.put({"type": "go_on"})

    def _play_on(self) -> None:
        """Send what is due; whatever goes wrong stops the sound with a sentence, not the thread."""
        try:
            self._send_blocks()
        except Exception as error:
            log.exception("desk player stopped")
            self._clock.stop()
            self._admission.end(self)
            told = str(error) if isinstance(error, ReinsError) else "Something went wrong while playing"
            self._say({"type": "error", "sentence": f"{told}; the sound has stopped, what was kept is untouched."})

    def _send_blocks(self) -> None:
        """Give what is due; new commands come first."""
        while self._commands.empty():
            began = time.thread_time()
            if self._tried.by_itself is not None and self._clock.playing and self._tried.by_itself.due():
                with self._reading:
                    self._tried.go_over(self._tried.by_itself.under, self._tried.by_itself.side)
                    self._change(self._tried.given("tried")["document"])
            block = self._clock.next_block(busy=self._admission.busy, load=self._load)
            if block is None:
                break
            self._keep_count(time.thread_time() - began, block)
            self._give(block)
            if self._tried.by_itself is not None:
                self._tried.by_itself.gave(block.samples.shape[0])
            self._tell(self._clock.failures())
            self._tell_awaited()
        if self._clock.playing and self._clock.ended():
            self._clock.stop()
            self._admission.end(self)
            last = self._clock.last_reading()
            master = {} if last is None or self._tried.under is not None else {"master": master_told(last)}
            self._say({"type": "ended", "stream": self._clock.stream, **master})

    def _tell_awaited(self) -> None:
        awaited = self._clock.awaited()
        if awaited.keys() != self._awaited.keys():
            self._say({"type": "getting_ready", "processors": awaited})
            self._awaited = awaited

    def _give(self, block: LiveBlock) -> None:
        sound = HEADER.pack(block.stream, block.samples.shape[0], block.session_frame) + block.samples.tobytes()
        told = meters_told(block) if self._tried.under is None else untold(block.stream, block.session_frame)
        if self._within:
            self._out(sound + json.dumps(told).encode())
        else:
            self._out(sound)
            self._say(told)

    def _keep_count(self, worked_s: float, block: LiveBlock) -> None:
        """Tell the admission what a block has cost. Not of a stream's first, with which much is done once; and one with
        which a chain settles anew is no more than a whole core.
        """
        if block.stream != self._begun:
            self._begun = block.stream
            return
        load = min(1.0, worked_s * self._tried.document.sample_rate / block.samples.shape[0])
        self._load += (load - self._load) * (LOAD_SHARE if self._load else 1.0)
        self._admission.costs(self, self._load)

    def _say(self, message: dict[str, Any]) -> None:
        self._out(json.dumps(message))

    def _handle(self, message: dict[str, Any]) -> None:
        handler = getattr(self, f"_on_{str(message.get('type'))[:40]}", None)
        try:
            if handler is None:
                raise InputError(
                    f"“{str(message.get('type'))[:40]}” is no command of the live socket; see docs/formats/live.md."
                )
            handler(message)
        except ReinsError as error:
            self._say({"type": "error", "sentence": str(error)})
        except KeyError as error:
            missing = f"“{message['type']}” needs “{error.args[0]}”; see docs/formats/live.md. Nothing was changed."
            self._say({"type": "error", "sentence": missing})
        except (TypeError, ValueError):
            wrong = f"“{message['type']}” has a value of another kind than allowed; see docs/formats/live.md."
            self._say({"type": "error", "sentence": f"{wrong} Nothing was changed."})
        except Exception:
            log.exception("desk player: %s", message.get("type"))
            self._say({"type": "error", "sentence": "Something went wrong while playing; nothing was changed."})

    def _on_refused(self, message: dict[str, Any]) -> None:
        raise message["error"]

    def _on_play(self, message: dict[str, Any]) -> None:
        frame = min(max(int(message["frame"]), 0), MAX_FRAME)
        if self._admission.begin(self):
            self._start(frame)
        else:
            self._wait(frame)

    def _start(self, frame: int) -> None:
        self._waits_at, self._lates, self._load = None, 0, 0.0
        if self._tried.by_itself is not None:
            self._tried.by_itself.begins()
        self._say({"type": "started", "stream": self._clock.play(frame), "frame": frame})
        self._changed_at = time.monotonic()

    def _wait(self, frame: int) -> None:
        self._clock.stop()
        self._waits_at = frame
        others = self._admission.playing
        desks = "1 other desk plays" if others == 1 else f"{others} other desks play"
        sentence = f"This desk waits: {desks}, and this machine cannot feed more. It goes on when one of them stops."
        self._say({"type": "waiting", "sentence": sentence})

    def _on_hold(self, message: dict[str, Any]) -> None:
        if self._clock.playing:
            self._wait(self._clock.position())

    def _on_go_on(self, message: dict[str, Any]) -> None:
        if self._waits_at is not None:
            self._start(self._waits_at)

    _on_seek = _on_play

    def _on_stop(self, message: dict[str, Any]) -> None:
        self._clock.stop()
        self._waits_at = None
        self._admission.end(self)
        self._say({"type": "stopped", "stream": self._clock.stream})

    def _on_played(self, message: dict[str, Any]) -> None:
        self._clock.played(int(message["stream"]), int(message["frames"]))
        waiting = self._out.waiting if self._within else self._out.waiting // 2  # else half are meters
        there = self._clock.ahead_frames - waiting * BLOCK_FRAMES
        nothing_ahead = self._clock.playing and there < LITTLE_FRAMES
        self._lates = self._lates + 1 if nothing_ahead else 0
        if self._lates >= LATES:
            self._lates = 0
            self._admission.late()

    def _on_listen(self, message: dict[str, Any]) -> None:
        """What is heard, of the mix or one strip, and how much louder to match."""
        what, gain_db = message["what"], float(message.get("gain_db", 0.0))
        if what not in LISTENS:
            raise InputError(f"listen is “{what}”; allowed: {', '.join(LISTENS)}.")
        if not abs(gain_db) <= MOST_GAIN_DB:
            raise InputError(f"gain_db is {gain_db}; allowed: −{MOST_GAIN_DB:g} to {MOST_GAIN_DB:g} dB.")
        source_pct, sides = float(message.get("source_pct", 0.0)), message.get("sides", "both")
        if not 0.0 <= source_pct <= 100.0:
            raise InputError(f"source_pct is {source_pct}; allowed: 0 to 100.")
        if sides not in SIDES:
            raise InputError(f"sides is “{sides}”; allowed: {', '.join(SIDES)}.")
        of, processor_id, band = message.get("of"), message.get("processor_id"), str(message.get("band") or "")
        if processor_id is not None and of is None:
            raise InputError("A processor is heard of one strip: say whose it is.")
        band = band if what in ("key", "band") else ""
        self._clock.listen(Listening(what, of, processor_id, gain_db, band, source_pct, sides))

    def _on_mark(self, message: dict[str, Any]) -> None:
        """The listener has heard it go over, when so many frames of the stream had been played."""
        if self._tried.by_itself is None:
            raise InputError("Nothing goes over by itself now: there is nothing to mark.")
        self._tried.by_itself.marked(int(message["frames"]))

    def _on_watch(self, message: dict[str, Any]) -> None:
        """What is looked at: where its processors stand and spectra of now are told with the meters."""
        strip_id, processor_id, beside, band = (
            str(message.get(name) or "") for name in ("strip_id", "processor_id", "beside", "band")
        )
        self._clock.watch(Watched(strip_id, processor_id, bool(message.get("spectra")), beside, band))

    def _on_tried(self, message: dict[str, Any]) -> None:
        """Settings of a processor, or fader, pan or trim, while they are dragged: heard, not kept."""
        self._change(message["document"], message.get("retuned"))

    def _on_kept(self, message: dict[str, Any]) -> None:
        """The session has changed, here or in another tab."""
        self._clock.add_takes(self._takes(message["document"]))
        self._change(message["document"])
        self._say({"type": "kept", "step": message["step"]})

    def _change(self, document: Document, retuned: frozenset[str] | None = None) -> None:
        self._told = {what: said for what, said in self._told.items() if what.startswith("open ")}
        self._changed_at = time.monotonic()
        if self._clock.change(document, retuned):
            self._say({"type": "started", "stream": self._clock.stream, "frame": self._clock.position()})
