"""Starts the real server and a headless Chromium; shared by tests, screenshots and benchmarks."""

import contextlib
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from selenium import webdriver
from selenium.common.exceptions import NoSuchElementException, StaleElementReferenceException, WebDriverException
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By

FLAGS = [
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
    "--hide-scrollbars",
    "--kiosk",  # no frame of tabs and addresses, which would be drawn with every page
]
DEMO = "/sessions/last-boat-home"


def free_port():
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        return listener.getsockname()[1]


class Server:
    """`reins demo` on a data folder; may be killed and started again."""

    def __init__(self, data_dir, port=None):
        self.data_dir, self.port = Path(data_dir), port or free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.start()

    def start(self):
        command = [sys.executable, "-m", "reins.cli", "demo", "--data", str(self.data_dir), "--port", str(self.port)]
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        wait_until(self.ready, 120)

    def ready(self):
        with contextlib.suppress(OSError):
            return urllib.request.urlopen(self.url, timeout=5).status == 200
        return False

    def kill(self, how=signal.SIGKILL):
        os.kill(self.process.pid, how)
        self.process.wait()


NOT_YET = (LookupError, ValueError, StopIteration, NoSuchElementException, StaleElementReferenceException)
# In one command, for all of a selector's elements: most of what a test waits for is that commands go to and fro.
FIRST_SHOWN = """const shown = element => element.getClientRects().length && element.checkVisibility({visibilityProperty: true});
return [...document.querySelectorAll(arguments[0])].find(element => shown(element.closest("select") ?? element))"""
SETTLED = """const done = arguments[0];
const look = () => window.reins ? reins.previews.settled().then(done) : setTimeout(look, 10);
look()"""
GONE = "does not belong to the document"  # how chromedriver calls an element that is put anew while it is read


# Looking costs the browser, the server and this process more than what is waited for: ever less often.
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.02, 0.15


def wait_until(condition, seconds=90):
    """Poll a condition; returns its first true value. What it looks for may not be there yet, or be put anew."""
    end, pause = time.monotonic() + seconds, FIRST_PAUSE_S
    while True:
        why = None
        try:
            value = condition()
            if value:
                return value
        except NOT_YET as error:
            why = error
        except WebDriverException as error:
            if GONE not in str(error.msg):
                raise
            why = error
        if time.monotonic() > end:
            raise TimeoutError(f"not within {seconds} s: {condition}") from why
        time.sleep(pause)
        pause = min(1.4 * pause, LONGEST_PAUSE_S)


def make_driver(width=1280, height=800, downloads=None):
    options = Options()
    options.binary_location = "/usr/bin/chromium"
    profile = tempfile.mkdtemp(prefix="reins-browser-")
    for flag in [*FLAGS, f"--user-data-dir={profile}", f"--window-size={width},{height}"]:
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    if downloads:
        options.add_experimental_option("prefs", {"download.default_directory": str(downloads)})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    driver.set_script_timeout(90)  # a machine that others use, too, may be slow
    # The window's frame takes part of the size asked for: make the page itself this large.
    driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
    )
    return driver


def find(driver, selector):
    return driver.find_element(By.CSS_SELECTOR, selector)


def wait_for(driver, selector, seconds=90):
    """The first element that matches and is shown."""
    return wait_until(lambda: driver.execute_script(FIRST_SHOWN, selector), seconds)


def choose_option(driver, selector, fits):
    """Choose the option whose text fits, as soon as the list holds it."""

    def chosen():
        next(o for o in driver.find_elements(By.CSS_SELECTOR, selector) if fits(o.text)).click()
        return True

    wait_until(chosen)


def settled(driver):
    """Wait until every picture asked for has been drawn."""
    driver.execute_async_script(SETTLED)
