"""Kernels are made once; where they have to be compiled, from both ends at the same time."""

import sys

import pytest

from reins.core.dsp import compiled


class Kernel:
    _signatures = ("void()",)
    _function = compiled.load  # of a module that can be imported

    def __init__(self, name, made):
        self.name, self._made = name, made

    def made(self):
        self._made.append(self.name)


class Helper:
    begun, ended = [], []

    def __init__(self, command, **how):
        self.begun.append(command)

    def kill(self):
        self.ended.append("killed")

    def wait(self):
        self.ended.append("waited for")


@pytest.fixture
def made(monkeypatch, tmp_path):
    made = []
    monkeypatch.setattr(compiled.Late, "all", [Kernel(name, made) for name in "abc"])
    monkeypatch.setattr(compiled, "MARKS", tmp_path)
    monkeypatch.setattr(compiled, "_all_files", lambda: "as they are")
    return made


def test_a_second_process_begins_at_the_end_and_is_not_left_behind(made, monkeypatch):
    monkeypatch.setattr(compiled.os, "cpu_count", lambda: 2)
    monkeypatch.setattr(compiled.subprocess, "Popen", Helper)

    told = []
    compiled.load(lambda done, total: told.append((done, total)))
    compiled.load()  # nothing to compile now, nobody to help

    assert made == [*"abc", *"abc"] and told == [(0, 3), (1, 3), (2, 3)]
    ((python, _, code),) = Helper.begun
    assert python == sys.executable and "load_from_the_end(['reins.core.dsp.compiled'])" in code
    assert Helper.ended == ["killed", "waited for"]


def test_the_helper_makes_the_last_first(made):
    compiled.load_from_the_end(["reins.core.dsp.compiled"])

    assert made == ["c", "b", "a"]
