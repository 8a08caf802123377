"""Starting the server: it answers at once, and gets kernels, database and demo ready behind a page that says so."""

import importlib
import logging
import threading
from pathlib import Path
from typing import Any

import uvicorn
from jinja2 import Environment, FileSystemLoader
from starlette.responses import HTMLResponse, JSONResponse
from starlette.types import ASGIApp, Receive, Scope, Send

from reins.errors import ReinsError

log = logging.getLogger(__name__)
HERE = Path(__file__).parent
# Importing these compiles their kernels, or loads them from the cache on disk.
KERNELS = (
    "core.dsp.dynamics",
    "core.dsp.gating",
    "core.dsp.filters",
    "core.dsp.variable",
    "core.dsp.loudness",
    "core.dsp.limiting",
    "core.dsp.levels",
    "core.takes",
    "core.measure.folding",
)


class Gate:
    """Answers “getting ready” until the application is there, then hands everything to it."""

    def __init__(self) -> None:
        self.app: ASGIApp | None = None
        self.problem = ""
        self.doing, self.done, self.total = "starting", 0, 1
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
                await send({"type": "lifespan.shutdown.complete"})
                return


def _get_ready(gate: Gate, data_dir: Path, host: str, demo: bool) -> None:
    try:
        for index, name in enumerate(KERNELS):
            gate.progress("compiling the sound kernels (only once)", index, len(KERNELS))
            importlib.import_module(f"reins.{name}")
        gate.progress("opening the shelf", 0, 1)
        from reins.core.measure.spectra import transform
        from reins.services.bringing_in import ensure_demo
        from reins.services.house import House
        from reins.web.app import LOOPBACK, AppSettings, create_app

        house = House(data_dir)
        if demo:
            ensure_demo(
                house, lambda name, done, total: gate.progress(f"playing the demo session: {name}", done, total)
            )
        gate.app = create_app(AppSettings(data_dir, hosts=(*LOOPBACK, host)), house)
        transform()  # in the meantime, so that the first spectrum does not wait for it
    except ReinsError as error:
        gate.problem = str(error)
        log.error("%s", error)
    except Exception:
        gate.problem = "The desk could not start; the server's output says more."
        log.exception("start failed")


def run_server(data_dir: Path, *, host: str, port: int, demo: bool) -> None:
    """Serve until stopped."""
    gate = Gate()
    threading.Thread(target=_get_ready, args=(gate, data_dir, host, demo), daemon=True).start()
    print(f"Reins is at http://{host}:{port}/ - press Ctrl+C to stop.", flush=True)
    uvicorn.run(gate, host=host, port=port, log_level="warning", ws_max_size=1 << 20, ws_per_message_deflate=False)
