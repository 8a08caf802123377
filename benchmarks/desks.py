"""How many desks play at once without a gap: the demo with ten compressors, each desk a listener in real time.

Run by `make bench-desks`; takes two minutes. Listeners share the machine with the server.
"""

import json
import os
import signal
import struct
import tempfile
import threading
import time
from pathlib import Path

from tests.browser.driving import DEMO, Server
from websockets.sync.client import connect

from benchmarks.desk import call

RATE = 48000
SECONDS, SETTLED_S = 10.0, 5.0  # gaps are counted once those that wait have been told to
REPORT_FRAMES = 1024  # as often as the page tells what it has played


class Desk(threading.Thread):
    """Plays for a while and counts the moments at which nothing was there to play."""

    def __init__(self, server):
        super().__init__(daemon=True)
        self.url = server.url.replace("http", "ws") + f"/api{DEMO}/live"
        self.gaps, self.waited, self.end = 0, False, time.monotonic() + SECONDS

    def run(self):
        with connect(self.url, max_size=None) as socket:
            socket.send(json.dumps({"type": "play", "frame": 0}))
            began, stream, sent, reported, starved = None, 0, 0, 0, False
            while time.monotonic() < self.end:
                try:
                    message = socket.recv(timeout=0.01)
                except TimeoutError:
                    message = b""
                if isinstance(message, str):
                    told = json.loads(message) if '"meters"' not in message[:20] else {"type": "meters"}
                    self.waited = self.waited or told["type"] == "waiting"
                    if told["type"] == "waiting":
                        began = None
                    continue
                if message:
                    stream, frames = struct.unpack_from("<II", message)
                    began, sent = began or time.monotonic() + 0.1, sent + frames
                if began is None:
                    continue
                wanted = int((time.monotonic() - began) * RATE)
                now_starved = wanted > sent
                if now_starved and not starved and self.end - time.monotonic() < SECONDS - SETTLED_S:
                    self.gaps += 1
                if now_starved:  # the clock of the listener stands still meanwhile
                    began += (wanted - sent) / RATE
                starved = now_starved
                played = max(0, min(wanted, sent))
                if played - reported >= REPORT_FRAMES or now_starved:
                    reported = played
                    socket.send(json.dumps({"type": "played", "stream": stream, "frames": played}))


def main():
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        document = call(server, f"/api{DEMO}")["document"]
        for number, track_id in enumerate(document["order"]):
            change = {"kind": "add_processor", "strip_id": track_id, "type": "compressor", "processor_id": f"b{number}"}
            call(server, f"/api{DEMO}/changes", change)
        print(f"{os.cpu_count()} cores, {len(document['order'])} compressors a desk, {SECONDS:g} s each")
        for count in (1, 4, 8, 10, 12, 14, 16):
            used = _server_cpu_s(server)
            desks = [Desk(server) for _ in range(count)]
            for desk in desks:
                desk.start()
                time.sleep(0.05)
            for desk in desks:
                desk.join()
            load = (_server_cpu_s(server) - used) / SECONDS
            playing = [desk for desk in desks if not desk.waited]
            gaps = [desk.gaps for desk in playing]
            print(
                f"{count} desks: {len(playing)} play, {sum(gaps)} gaps, {count - len(playing)} wait, {load:.2f} cores"
            )
        server.kill(signal.SIGTERM)


def _server_cpu_s(server):
    fields = Path(f"/proc/{server.process.pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


if __name__ == "__main__":
    main()
