"""The house's arrows: who may import whom, and what a package says it offers."""

import ast
import importlib
import re
import subprocess
import sys
from pathlib import Path

import pytest

import reins
from reins.core.chaindocs import write_tables

ROOT = Path(reins.__file__).parent
MAY_IMPORT = {
    "core": {"core", "errors"},
    "store": {"store", "core", "errors"},
    "demo": {"demo"},
    "services": {"services", "core", "store", "demo", "errors"},
    "web": {"web", "services", "core", "errors"},
}


def imports_of(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def wrong_imports(room, depth, wrong):
    """Imports in a room of what is ours and, at so deep a place of its name, wrong."""
    return [
        f"{path.relative_to(ROOT)}: {name}"
        for path in (ROOT / room).rglob("*.py")
        for name in imports_of(path)
        if name.startswith("reins.") and name.count(".") >= depth and wrong(name.split(".")[depth])
    ]


@pytest.mark.parametrize("room", MAY_IMPORT)
def test_no_import_goes_against_the_arrows(room):
    assert wrong_imports(room, 1, lambda other: other not in MAY_IMPORT[room]) == []


#: Within the core: what is below knows nothing of what is above.
MAY_NOT_IMPORT = {
    "core/dsp": ("processors", "engine", "measure", "trials", "sessions"),
    "core/measure": ("processors", "engine", "trials"),
    "core/processors": ("engine", "measure", "trials", "sessions"),
    "core/engine": ("trials",),
}


@pytest.mark.parametrize("room", MAY_NOT_IMPORT)
def test_within_the_core_what_is_below_knows_nothing_of_what_is_above(room):
    assert wrong_imports(room, 2, lambda other: other in MAY_NOT_IMPORT[room]) == []


def test_what_the_processors_package_offers_is_what_it_lists():
    package = importlib.import_module("reins.core.processors")

    listed = ast.parse(Path(package.__file__).read_text()).body
    imported = {alias.name for node in listed if isinstance(node, ast.ImportFrom) for alias in node.names}
    assert set(package.__all__) == imported | {"PROCESSORS"}
    assert all(hasattr(package, name) for name in package.__all__)
    assert all(kind.type_name == name for name, kind in package.PROCESSORS.items())


def test_the_core_and_the_server_start_without_scipys_slow_parts():
    code = (
        "import sys, reins.web.app, reins.cli; print([m for m in ('scipy.signal', 'scipy.linalg') if m in sys.modules])"
    )

    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)

    assert out.stdout.strip() == "[]"


def test_the_documented_settings_are_those_of_the_code():
    page = (ROOT.parents[1] / "docs" / "formats" / "chain.md").read_text()

    assert write_tables(page) == page, "run `make docs`"


STATES = {path.stem: path for path in (ROOT / "web/static/js/state").glob("*.js") if path.stem != "states"}


def test_the_page_asks_the_states_of_the_desk_for_what_they_have():
    """What the scripts ask each other for, the type checker sees; not what templates ask."""
    has = {
        name: set(re.findall(r"^  (?:async )?(?:get )?(\w+)(?=\(|:|,$)", path.read_text(), re.MULTILINE))
        for name, path in STATES.items()
    }
    asked = re.compile(rf"(?<![\w.])({'|'.join(STATES)})\.(\w+)")
    asks = {found for page in (ROOT / "web/templates").glob("_*.html") for found in asked.findall(page.read_text())}

    assert len(asks) > 100
    assert {(state, name) for state, name in asks if name not in has[state]} == set()


def test_no_script_or_page_puts_text_from_outside_as_html():
    """What is written as HTML is written in the source: the picture of a button, and text made by our own writers."""
    allowed = {"control.js": 1, "recall.html": 1, "guide.html": 1}
    found = {}
    for place in [*(ROOT / "web/static/js").rglob("*.js"), *(ROOT / "web/templates").rglob("*.html")]:
        count = len(re.findall(r"innerHTML|outerHTML|insertAdjacentHTML|x-html|\|\s*safe", place.read_text()))
        if count:
            found[place.name] = count
    assert found == allowed
