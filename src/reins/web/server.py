"""Starting the server: it answers at once, and gets kernels, database and demo ready behind a page that says so."""

import asyncio
import gc
import ipaddress
import logging
import socket
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import uvicorn
from jinja2 import Environment, FileSystemLoader
from starlette.responses import HTMLResponse, JSONResponse
from starlette.types import ASGIApp, Receive, Scope, Send

from reins.errors import ConflictError, InputError, ReinsError
from reins.services.opening import kept_token, open_folder
from reins.web.guard import Guard

log = logging.getLogger(__name__)
HERE = Path(__file__).parent
LOOPBACK = ("127.0.0.1", "localhost", "::1")
CLOSING_S = 3  # how long connections have to end when the server is stopped


class Gate:
    """Answers “getting ready” until the application is there, then hands everything to it."""

    def __init__(self, close: Callable[[], None]) -> None:
        self.app: ASGIApp | None = None
        self.problem = ""
        self.doing, self.done, self.total = "starting", 0, 1
        self.close = close
        self._page = Environment(loader=FileSystemLoader(HERE / "templates"), autoescape=True).get_template(
            "ready.html"
        )

    def progress(self, doing: str, done: int, total: int) -> None:
        """Note what is being done."""
        self.doing, self.done, self.total = doing, done, total

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        if scope["type"] == "lifespan":
            await self._lifespan(receive, send)
        elif self.app is not None:
            await self.app(scope, receive, send)
        elif scope["type"] == "websocket":
            await send({"type": "websocket.close", "code": 1013})
        else:
            await self._waiting(scope)(scope, receive, send)

    def _waiting(self, scope: Scope) -> HTMLResponse | JSONResponse:
        told: dict[str, Any] = {"doing": self.doing, "done": self.done, "total": self.total, "problem": self.problem}
        if scope["path"].startswith("/api/"):
            return JSONResponse({"error": f"Getting ready: {self.doing}.", **told}, 503)
        return HTMLResponse(self._page.render(**told), 503)

    async def _lifespan(self, receive: Receive, send: Send) -> None:
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                await send({"type": "lifespan.startup.complete"})
            elif message["type"] == "lifespan.shutdown":
                # Here and not after the server has returned: it hands the signal that stopped it on, and that may end
                # the process.
                await asyncio.to_thread(self.close)
                await send({"type": "lifespan.shutdown.complete"})
                return


def _get_ready(gate: Gate, folder: Any, demo: bool) -> None:
    try:
        # Here and not above, so that the server answers while they are loaded.
        from reins.core.dsp import order
        from reins.core.dsp.compiled import compile_here
        from reins.core.dsp.compiling import missing
        from reins.core.dsp.stft import transforms
        from reins.services.bringing_in import ensure_demo
        from reins.services.expiring import forget_old
        from reins.services.house import House
        from reins.services.keeping import fill_checksums
        from reins.services.readying import Readying
        from reins.web.app import AppSettings, create_app

        first = missing(order.first())
        for done, late in enumerate(first):
            gate.progress("compiling what the first sound needs (only once)", done, len(first))
            compile_here(late, told=log.debug)
        readying = Readying()
        gate.progress("opening the shelf", 0, 1)
        house = House(folder.root, folder)
        gate.close = house.close
        forget_old(house)
        if demo:
            ensure_demo(
                house, lambda name, done, total: gate.progress(f"playing the demo session: {name}", done, total)
            )
        app = create_app(AppSettings(), house, readying)
        readying.begin()
        gate.close, gate.app = app.state.close, app
        # While the first page is looked at, so that the first sound and the first spectrum do not wait.
        for late in order.first():
            late.make()
        transforms()
        # All modules and kernels are here to stay: left among what is looked through for garbage, they stop the sound's
        # thread for a tenth of a second now and then.
        gc.collect()
        gc.freeze()
        fill_checksums(house)
    except ReinsError as error:
        gate.problem = str(error)
        log.error("%s", error)
    except Exception:
        gate.problem = "The desk could not start; the server's output says more."
        log.exception("start failed")


def run_server(data_dir: Path, *, host: str, port: int, demo: bool, names: tuple[str, ...] = ()) -> None:
    """Serve until stopped. Raises a ReinsError, before anything is printed, when the port or the data folder is in use,
    or the database cannot be used.

    Beyond this machine (a host that is no loopback address) a token is wanted; the desk answers under `names`, and
    under the host where that is an address of its own.
    """
    local, any_address = _is_loopback(host), host in ("0.0.0.0", "::")
    if any_address and not names:
        raise InputError(f"--host {host} listens everywhere: say under which names the desk answers, with --name NAME.")
    listening = _listen(host, port)
    shown = names[0] if any_address else host
    url = f"http://{f'[{shown}]' if ':' in shown else shown}:{port}/"
    try:
        folder = open_folder(data_dir, serving_at=url)
    except BaseException:
        listening.close()
        raise
    try:
        token, anew = (None, "") if local else kept_token(data_dir)
    except BaseException:
        folder.close()
        listening.close()
        raise
    for sentence in (*folder.said, *([anew] if anew else [])):
        print(sentence, flush=True)
    gate = Gate(folder.close)
    hosts = (*(LOOPBACK if local else ()), *(() if any_address else (host,)), *names)
    threading.Thread(target=_get_ready, args=(gate, folder, demo), daemon=True).start()
    print(f"Reins is at {url}{f'?token={token}' if token else ''} - press Ctrl+C to stop.", flush=True)
    config = uvicorn.Config(
        Guard(gate, hosts, token), log_level="warning", ws_max_size=1 << 20, ws_per_message_deflate=False,
        timeout_graceful_shutdown=CLOSING_S,
    )  # fmt: skip
    try:
        uvicorn.Server(config).run(sockets=[listening])
    finally:
        gate.close()


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _listen(host: str, port: int) -> socket.socket:
    """A bound socket, or ConflictError saying why not."""
    listening = None
    try:
        family, kind, protocol, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        # With its protocol named: only then asyncio sends what is small at once instead of waiting for more.
        listening = socket.socket(family, kind, protocol)
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listening.bind(address)
        listening.listen(1)  # so that a second server is refused from here on
    except OSError as error:
        if listening is not None:
            listening.close()
        why = error.strerror or str(error)
        raise ConflictError(
            f"Port {port} on {host} cannot be listened on ({why}). Stop what uses it, or choose another --port."
        ) from error
    return listening
