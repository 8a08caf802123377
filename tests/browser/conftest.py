"""One real server with the demo session and one Chromium for all browser tests; each begins with the demo untouched."""

import json
import shutil
import urllib.request
from pathlib import Path

import pytest
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

from tests.browser.driving import DEMO, Server, find, make_driver, settled, wait_for, wait_until

REFUSED, LOST = "the server responded with a status of 4", ["net::ERR_", "WebSocket connection"]
# A number for all pixels of a picture (FNV-1a): to pack and send them costs more than to draw them.
PIXELS = """const c = document.querySelector(arguments[0]);
let sum = 2166136261;
for (const pixel of new Uint32Array(c.getContext("2d").getImageData(0, 0, c.width, c.height).data.buffer)) sum = Math.imul(sum ^ pixel, 16777619);
return String(sum)"""
LIVING = Path(__file__).with_name("living.js").read_text()
BACK = """const [name, done] = arguments;
const late = new Promise((_, reject) => setTimeout(() => reject(new Error("what the page asked for has not come")), 30000));
Promise.race([living.back(name), late]).then(() => done(""), (error) => done(String(error.stack)))"""


@pytest.fixture(scope="session")
def server(tmp_path_factory, demo_data):
    server = Server(shutil.copytree(demo_data, tmp_path_factory.mktemp("server") / "data"))
    server.first_step = json.load(urllib.request.urlopen(f"{server.url}/api{DEMO}"))["step"]
    yield server
    server.kill()


@pytest.fixture(scope="session")
def downloads(tmp_path_factory):
    return tmp_path_factory.mktemp("downloads")


@pytest.fixture(scope="session")
def driver(downloads):
    driver = make_driver(downloads=downloads)
    driver.execute_cdp_cmd("Page.addScriptToEvaluateOnNewDocument", {"source": LIVING})
    driver.failed = False
    yield driver
    driver.quit()


def post(server, path, body):
    """What the server answers to JSON sent to it."""
    sent = json.dumps(body).encode(), {"content-type": "application/json"}
    with urllib.request.urlopen(urllib.request.Request(f"{server.url}/api{path}", *sent)) as answer:
        return json.load(answer)


class Desk:
    """What a person does at the desk, and what is kept of it."""

    def __init__(self, driver, server, session=DEMO, at="", *, goes_on=None):
        """goes_on: name of the strip to go to in the desk that is open."""
        self.driver, self.server, self.session = driver, server, session
        self._noted, self._expected = [], []
        if goes_on is None:
            self.open(at)
        else:
            problem = driver.execute_async_script(BACK, goes_on)
            assert not problem, problem

    def open(self, at=""):
        self.driver.get(self.server.url + self.session + at)
        wait_for(self.driver, ".take-canvas")
        settled(self.driver)
        self.driver.execute_script("living.remember()")

    def leave(self):
        """Say that this page cannot be turned back to how it began."""
        self.driver.execute_script("living.can = () => false; living.quiet = async () => {}")

    def state(self):
        with urllib.request.urlopen(f"{self.server.url}/api{self.session}") as answer:
            return json.load(answer)

    def ask(self, path, body):
        """What the server answers to a question about the session."""
        return post(self.server, f"{self.session}{path}", body)

    def id_of(self, name):
        return next(key for key, track in self.state()["document"]["tracks"].items() if track["name"] == name)

    def track(self, name):
        return next(t for t in self.state()["document"]["tracks"].values() if t["name"] == name)

    def settings(self, name, index=0):
        return self.track(name)["chain"][index]["settings"]

    def choose(self, name):
        self.click(f'.strip[aria-label="{name}"] .strip-name')
        settled(self.driver)

    def row(self, name, selector):
        return find(self.driver, f'.strip[aria-label="{name}"] {selector}')

    def add(self, name, kind):
        self.choose(name)
        before = len(self.track(name)["chain"])
        self.click('[data-do="add"]')
        self.click(f'[data-add="{kind}"]')
        wait_until(lambda: len(self.track(name)["chain"]) == before + 1)
        wait_until(lambda: len(self.driver.find_elements("css selector", ".station")) == before + 1)
        wait_for(self.driver, f'.station.is-selected[data-type="{kind}"]')
        settled(self.driver)

    def add_compressor(self, name):
        self.add(name, "compressor")
        wait_for(self.driver, '[data-setting="ratio"]')

    def click(self, selector):
        def clicked():
            wait_for(self.driver, selector).click()
            return True

        wait_until(clicked)

    def drag(self, element, dx, dy, shift=False):
        hand = ActionChains(self.driver, duration=40)
        if shift:
            hand = hand.key_down("\ue008")
        hand = hand.click_and_hold(element).move_by_offset(dx // 2, dy // 2).move_by_offset(dx - dx // 2, dy - dy // 2)
        hand = hand.release()
        (hand.key_up("\ue008") if shift else hand).perform()

    def type(self, setting, text, scope=""):
        self.click(f'{scope}[data-setting="{setting}"] .control-number')
        wait_for(self.driver, f'{scope}[data-setting="{setting}"] .control-entry').send_keys(text + "\n")

    def shown(self, setting):
        parts = [
            find(self.driver, f'.bench [data-setting="{setting}"] .control-{part}').text for part in ("figure", "unit")
        ]
        return " ".join(parts).strip()

    def fact(self, name):
        # Read in one go: the facts are put anew with every picture.
        script = "return document.querySelector(`[data-fact='${arguments[0]}'] dd`)?.innerText ?? ''"
        return self.driver.execute_script(script, name)

    def picture(self, selector=".take-canvas"):
        settled(self.driver)
        return self.driver.execute_script(PIXELS, selector)

    def redrawn(self, *before, selector=".take-canvas"):
        """Wait until a picture is none of those it was before; a change is kept before its picture is drawn."""
        return wait_until(lambda: (now := self.picture(selector)) not in before and now)

    def red_share(self, selector=".take-canvas"):
        """Share of a picture's pixels drawn in the colour of what is held."""
        settled(self.driver)
        return self.driver.execute_script(
            """const c = document.querySelector(arguments[0]);
            const d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
            let n = 0;
            for (let i = 0; i < d.length; i += 4) if (d[i + 3] > 200 && d[i] > 150 && d[i + 1] < 90) n++;
            return n / (d.length / 4);""",
            selector,
        )

    def keys(self, *keys):
        ActionChains(self.driver).send_keys(*keys).perform()

    def undo(self, *, again=False):
        """Ctrl+Z, or with shift the way back."""
        hand = ActionChains(self.driver).key_down(Keys.CONTROL)
        hand = hand.key_down(Keys.SHIFT) if again else hand
        hand.send_keys("z").key_up(Keys.SHIFT).key_up(Keys.CONTROL).perform()

    def _notes(self):
        """What the browser has noted as wrong since the page was opened."""
        self._noted += [row["message"] for row in self.driver.get_log("browser") if row["level"] == "SEVERE"]
        return self._noted

    def refused(self):
        """The server refuses something, which the browser notes, at once or a little later, and more than once where a
        picture was asked for, too. Waits for the first note.
        """
        self._expected.append(REFUSED)
        wait_until(lambda: any(REFUSED in note for note in self._notes()))

    def loses_server(self):
        """From here on the browser may note that the server is not there."""
        self._expected += LOST

    def console(self):
        """What the browser has noted and nobody expected."""
        self.driver.execute_async_script("window.living ? living.quiet().then(arguments[0]) : arguments[0]()")
        # A browser asks for a site's picture by itself, where a page names none: the first of ours it is shown does not.
        expected = [*self._expected, "/favicon.ico"]
        return [note for note in self._notes() if not any(part in note for part in expected)]


def untouched(server):
    """Go back to the demo session as it was made, so that it does not matter which tests came before."""
    post(server, f"{DEMO}/history", {"number": server.first_step})


def lay(server, name, kind, laid=True):
    """Have a strip get a processor as the desk adds one, without a desk that draws what comes before it. laid: by the
    take, which is tried a good deal for that.
    """
    with urllib.request.urlopen(f"{server.url}/api{DEMO}") as answer:
        document = json.load(answer)["document"]
    strips = {**document["tracks"], **document["buses"], "master": document["master"]}
    strip_id = next(key for key, strip in strips.items() if strip["name"] == name)
    processor_id = f"{len(strips[strip_id]['chain']):012x}"
    change = {"kind": "add_processor", "strip_id": strip_id, "type": kind, "processor_id": processor_id, "lay": laid}
    post(server, f"{DEMO}/changes", change)


def living(driver, server):
    """Whether the page shown is this server's desk of the demo, from which all can be turned back to how it began."""
    return driver.current_url.split("#")[0] == f"{server.url}{DEMO}" and driver.execute_script("return living.can()")


@pytest.fixture
def desk(driver, server, request):
    """The desk at the untouched demo; with a mark `at` where a strip is chosen, and a processor on it, if it names one. A
    desk that is open goes on, as if it had just been opened, unless a test is marked `fresh` or the one before failed.
    """
    mark = request.node.get_closest_marker("at")
    name, *kinds = mark.args if mark else ("",)
    goes_on = not request.node.get_closest_marker("fresh") and not driver.failed and living(driver, server)
    driver.failed = True
    if not goes_on:
        # So that no open page asks for what is taken away now; a page of ours, for which no new process is started.
        driver.get(f"{server.url}/api/points")
    else:
        settled(driver)
        driver.execute_async_script("living.rest().finally(arguments[0])")
    untouched(server)
    driver.get_log("browser")
    for kind in kinds:
        lay(server, name, kind, **mark.kwargs)
    desk = Desk(driver, server, at=f"#strip={name}" if mark else "", goes_on=name if goes_on else None)
    if kinds and len(desk.track(name)["chain"]) > 1:
        desk.click(f'.station[data-type="{kinds[-1]}"]')
        settled(driver)
    yield desk
    assert desk.console() == []
    driver.failed = request.node.failed


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """Tell fixtures whether their test failed."""
    report = yield
    item.failed = getattr(item, "failed", False) or report.failed
    return report
