"""Installed as a package it is whole: what the wheel ships is what the project holds, and all pages open from it."""

import os
import re
import shutil
import signal
import subprocess
import sys
import urllib.error
import urllib.request
import zipfile
from pathlib import Path
from urllib.parse import urljoin

import pytest

from tests.browser.driving import free_port, wait_until

PROJECT = Path(__file__).parents[1]
SOURCE = PROJECT / "src" / "reins"


def shipped():
    """What the package is to hold, by its path: all that is kept in it but what is made at run time."""
    return {
        f"reins/{path.relative_to(SOURCE).as_posix()}"
        for path in SOURCE.rglob("*")
        if path.is_file() and "__pycache__" not in path.parts and not path.name.startswith(".")
    }


def links(url, path, page):
    """The paths a page leads to and loads, on its own server."""
    found = {urljoin(url + path, link).split("#")[0] for link in re.findall(r'\s(?:href|src)="([^"#]+)"', page)}
    return {link.removeprefix(url) for link in found if link.startswith(f"{url}/")}


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """The wheel, built from a copy, so that nothing built before is taken along."""
    folder = tmp_path_factory.mktemp("build")
    ignored = shutil.ignore_patterns("__pycache__", "*.egg-info")
    shutil.copytree(PROJECT / "src", folder / "src", ignore=ignored)
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy2(PROJECT / name, folder / name)
    build = [sys.executable, "-m", "pip", "wheel", ".", "--no-deps", "--no-build-isolation", "-q", "-w", str(folder)]
    subprocess.run(build, cwd=folder, check=True, capture_output=True)
    return next(folder.glob("*.whl"))


@pytest.fixture(scope="module")
def installed(wheel, tmp_path_factory):
    """A folder with the package alone, apart from this checkout. Kernels compiled before are laid beside their files,
    which numba takes as they are when a file is as old and as long as the one it compiled.
    """
    folder = tmp_path_factory.mktemp("site")
    install = [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--no-compile", "--target", str(folder)]
    subprocess.run([*install, str(wheel)], check=True, capture_output=True)
    for path in SOURCE.rglob("*"):
        there = folder / "reins" / path.relative_to(SOURCE)
        if path.suffix in (".nbi", ".nbc") or (path.parent.name == "marks" and path.is_file()):
            there.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(path, there)
        elif there.is_file():
            shutil.copystat(path, there)
    return folder


def test_the_wheel_holds_all_of_it_and_nothing_else(wheel):
    with zipfile.ZipFile(wheel) as packed:
        names = {name for name in packed.namelist() if not name.split("/")[0].endswith(".dist-info")}
    assert names == shipped()
    assert {"reins/guide/compressor.md", "reins/web/static/js/desk.js"} <= names
    assert any(name.startswith("reins/guide/pictures/") for name in names)


def test_the_demo_starts_from_it_and_every_page_opens(installed, demo_data, tmp_path):
    data, port = tmp_path / "data", free_port()
    shutil.copytree(demo_data, data)
    start = "import reins.cli, sys; print(reins.cli.__file__, flush=True); reins.cli.main()"
    command = [sys.executable, "-c", start, "demo", "--data", str(data), "--port", str(port)]
    clean = {"PATH": os.environ["PATH"], "PYTHONPATH": str(installed)}
    server = subprocess.Popen(command, cwd=tmp_path, env=clean, stdout=subprocess.PIPE, text=True)
    try:
        assert server.stdout.readline().startswith(str(installed))
        url = f"http://127.0.0.1:{port}"

        def fetched(path):
            try:
                with urllib.request.urlopen(url + path, timeout=10) as answer:
                    return answer.read().decode("utf-8", "replace")
            except urllib.error.URLError:
                return ""

        shelf = wait_until(lambda: "Last Boat Home" in fetched("/") and fetched("/"), 100)
        seen, waiting = {"/"}, links(url, "/", shelf)
        waiting |= {f"/guide/{path.stem}" for path in (SOURCE / "guide").glob("*.md")}
        while waiting:
            path = waiting.pop()
            seen.add(path)
            page = fetched(path)
            assert page, path
            waiting |= links(url, path, page) - seen
        assert any(path.startswith("/sessions/") for path in seen)
        pictures = {path for path in seen if path.startswith("/guide/pictures/")}
        assert len(pictures) == len(list((SOURCE / "guide" / "pictures").iterdir()))
    finally:
        server.send_signal(signal.SIGTERM)
        server.wait(20)
        server.stdout.close()
    assert server.returncode in (0, -signal.SIGTERM)
    assert not list(data.glob("reins.db-*"))  # closed, one whole file
