"""Kernels are compiled once, by whoever comes first, and what is half made is never taken for whole."""

import ast
import importlib.metadata
import os
import re
import signal
import subprocess
import sys
import tomllib
from pathlib import Path
from types import SimpleNamespace

import pytest
from packaging.specifiers import SpecifierSet

import reins
from reins.core.dsp import compiled, compiling, kept, order

ROOT = Path(reins.__file__).parent
SMALL = '''from reins.core.dsp.compiled import compile_here, kernel


@kernel("void(f8[::1])")
def double(samples):
    for i in range(samples.size):
        samples[i] *= 2.0


if __name__ == "__main__":
    import os, sys
    import numpy as np
    from small import double

    if "killed" in sys.argv:
        made = type(double).make
        type(double).make = lambda late: (made(late), os.kill(os.getpid(), 9))
    samples = np.ones(3)
    double(samples)
    print(samples.tolist())
'''  # fmt: skip


@pytest.fixture
def small(tmp_path):
    """Runs a program of one small kernel in a process of its own; what was compiled lies in a folder of the test's."""
    (tmp_path / "small.py").write_text(SMALL)
    environment = os.environ | {"NUMBA_CACHE_DIR": str(tmp_path / "kernels"), "PYTHONPATH": str(tmp_path)}

    def begin(*arguments):
        return subprocess.Popen(
            [sys.executable, str(tmp_path / "small.py"), *arguments],
            env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip

    return begin


def test_two_at_once_compile_a_kernel_once_and_what_a_killed_one_left_behind_is_compiled_again(small):
    killed = small("killed")
    killed.communicate()

    both = [small(), small()]
    answers = [one.communicate() for one in both]

    assert killed.returncode == -signal.SIGKILL
    assert [out for out, _ in answers] == ["[2.0, 2.0, 2.0]\n"] * 2
    assert "".join(said for _, said in answers).count("Compiling small.double for this machine, once.") == 1


@pytest.fixture
def own_place(tmp_path, monkeypatch):
    monkeypatch.setattr(kept, "folder", lambda: tmp_path / "kernels")
    return tmp_path / "kernels"


def test_a_kernel_is_kept_for_the_sources_it_was_compiled_of(own_place, tmp_path):
    source = tmp_path / "one.py"
    source.write_text("as it was")
    with kept.turn("m.one", source) as turn:
        assert not turn.holds()
        turn.keep()
        assert turn.holds()

    assert kept.is_kept("m.one", source)
    source.write_text("as it is now")
    kept.digest.cache_clear()
    assert not kept.is_kept("m.one", source)


def test_what_numba_kept_of_a_kernel_goes_before_it_is_compiled_anew_and_nothing_else(own_place, tmp_path):
    files = [own_place / "dsp_x" / name for name in ("m.one-7.py311.nbi", "m.one-7.py311.1.nbc", "m.one_more-9.nbi")]
    files[0].parent.mkdir(parents=True)
    for file in files:
        file.touch()

    with kept.turn("reins.m.one", Path(__file__)) as turn:
        turn.clear()

    assert [file.exists() for file in files] == [False, False, True]


def test_a_mark_that_was_torn_in_the_writing_says_nothing(own_place):
    with kept.turn("m.one", Path(__file__)) as turn:
        turn.keep()
        os.truncate(own_place / "marks" / "m.one", 10)
        assert not turn.holds()
    assert not kept.is_kept("m.one", Path(__file__))


def test_only_one_has_its_turn(own_place):
    with (
        kept.turn("m.one", Path(__file__)),
        pytest.raises(BlockingIOError),
        kept.turn("m.one", Path(__file__), wait=False),
    ):
        pass


def test_where_the_installation_may_not_be_written_kernels_are_among_the_persons_caches(tmp_path, monkeypatch):
    monkeypatch.delenv("NUMBA_CACHE_DIR", raising=False)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    monkeypatch.setattr(kept, "IN_TREE", Path("/proc/nowhere"))

    assert kept.folder.__wrapped__().parent == tmp_path / "reins"


def fakes(monkeypatch, compile_here, *names):
    monkeypatch.setattr(compiling, "compile_here", compile_here)
    return [SimpleNamespace(name=name) for name in names]


def test_what_is_wanted_comes_first_and_what_another_compiles_is_passed_over(monkeypatch):
    busy = {"b"}

    def compile_here(late, **_):
        if late.name in busy:
            busy.remove(late.name)
            raise BlockingIOError

    told, wanted = [], [[], ["d"], [], [], [], []]
    compiling.compile_ahead(fakes(monkeypatch, compile_here, *"abcd"), told.append, lambda: wanted.pop(0))

    assert told == ["a", "d", "c", "b"]


def test_one_that_cannot_be_compiled_is_said_and_the_others_go_on(monkeypatch, caplog):
    def compile_here(late, **_):
        if late.name == "a":
            raise ValueError("no such instruction")

    told = []
    compiling.compile_ahead(fakes(monkeypatch, compile_here, *"ab"), told.append)

    assert told == ["!a", "b"] and "a could not be compiled" in caplog.text


def test_all_modules_with_kernels_have_a_place_in_the_order_and_the_first_ones_are_there():
    with_kernels = {
        path.relative_to(ROOT / "core").with_suffix("").as_posix().replace("/", ".")
        for path in (ROOT / "core").rglob("*.py")
        if re.search(r"^@(kernel|brief)\(", path.read_text(), re.MULTILINE)
    }

    assert set(order.MODULES) == with_kernels
    assert {late.name.removeprefix("reins.core.") for late in order.first()} == order.FIRST
    assert order.in_order()[: len(order.FIRST)] == order.first()


def test_a_helper_ends_with_whoever_began_it(tmp_path):
    helper = subprocess.Popen(
        [sys.executable, "-m", compiling.MODULE, "help"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
        env=os.environ | {"NUMBA_CACHE_DIR": str(tmp_path)},
    )  # fmt: skip

    helper.stdin.close()

    assert helper.wait(60) == 0


HELPERS, KERNELS = {"inlined", "fused", "roomy"}, {"kernel", "brief"}


def made_by(function):
    """Which of the ways to be compiled a function has, if any."""
    names = [one.func if isinstance(one, ast.Call) else one for one in function.decorator_list]
    return next((name.id for name in names if isinstance(name, ast.Name) and name.id in HELPERS | KERNELS), None)


def helpers_of(tree):
    decorated = {f.name for f in ast.walk(tree) if isinstance(f, ast.FunctionDef) and made_by(f) in HELPERS}
    assigned = {
        target.id
        for node in ast.walk(tree)
        if isinstance(node, ast.Assign) and isinstance(node.value, ast.Call)
        if isinstance(node.value.func, ast.Name) and node.value.func.id in HELPERS
        for target in node.targets
    }
    return decorated | assigned


def called_from_python(node):
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.FunctionDef) and made_by(child):
            continue
        if isinstance(child, ast.Call) and isinstance(child.func, ast.Name):
            yield child.func.id
        yield from called_from_python(child)


def test_no_helper_of_kernels_is_called_from_python_which_would_end_the_process():
    """They are compiled without what Python calls by; that is a tenth or more of all compiling."""
    files = [*(ROOT / "core").rglob("*.py"), *Path(__file__).parents[1].rglob("*.py")]
    texts = {path: path.read_text() for path in files}
    of_kernels = {path: ast.parse(text) for path, text in texts.items() if path.parent.name == "dsp"}
    helpers = {path.stem: helpers_of(tree) for path, tree in of_kernels.items()}
    named = re.compile(
        rf"\b({'|'.join(name for names in helpers.values() for name in names)}|compiled\.\w+)\(|@compiled"
    )
    wrong = []
    for path, text in texts.items():
        if not named.search(text):
            continue
        tree = of_kernels.get(path) or ast.parse(text)
        froms = [node for node in ast.walk(tree) if isinstance(node, ast.ImportFrom) and node.module]
        known = {a.name for f in froms for a in f.names if a.name in helpers.get(f.module.rpartition(".")[2], ())}
        known |= helpers_of(tree)
        wrong += [(path.name, name) for name in called_from_python(tree) if name in known] if known else []

    assert sum(map(len, helpers.values())) > 80
    assert wrong == []


@compiled.inlined
def handing_back(samples):
    return samples[1:], samples.size  # which numba does not look into


@compiled.kernel("void(f8[::1], f8[::1])", makes_room=True)
def takes_it(samples, out):
    part, _ = handing_back(samples)
    for i in range(part.size):
        out[i] = part[i]


def test_who_counts_no_references_may_not_hand_back_an_array(monkeypatch):
    monkeypatch.setattr(handing_back, "_made", None)  # and none afterwards

    with pytest.raises(TypeError, match=r"handing_back hands back an array"):
        compiled.compile_here(takes_it)


def test_numba_is_one_whose_inner_parts_are_as_they_are_used_here():
    """Fails where numba has gone further than core/dsp/lanes.py and compiled.py were tried with: try them (test_lanes,
    core/test_kept_chains, `make kernels`, `reins bench`), then move the bound.
    """
    project = tomllib.loads((ROOT.parents[1] / "pyproject.toml").read_text())["project"]
    (asked,) = (row for row in project["dependencies"] if row.startswith("numba"))
    bound = SpecifierSet(asked.removeprefix("numba"))

    assert any(one.operator == "<" for one in bound)
    assert importlib.metadata.version("numba") in bound
    small = next(late for late in compiled.Late.all if late.name.endswith("levels.peak")).make()
    options = small.targetoptions
    assert options["_nrt"] is False and options["no_cfunc_wrapper"]
