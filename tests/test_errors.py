"""What the program says when something cannot be: what, what is allowed or helps, and what is kept."""

import ast
import re
from pathlib import Path

import pytest

import reins
from reins.errors import ConflictError, saying
from reins.services.jobs import Jobs

SOURCE = Path(reins.__file__).parent
SAID = {"InputError", "SettingsError", "AudioError", "ConflictError", "StorageError"}
#: A sentence goes on behind what is wrong: with what is allowed, with what helps, or with what is kept.
GOES_ON = re.compile(r"allowed|[;:] |\. [A-Z`]|Nothing was|must be|end the test|recordings beside")


def words(node):
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(part.value if isinstance(part, ast.Constant) else "{}" for part in node.values)
    if isinstance(node, ast.BinOp):
        return (words(node.left) or "") + (words(node.right) or "")
    return None  # made elsewhere


def sentences():
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) and node.exc.args:
                name = getattr(node.exc.func, "id", "")
                said = words(node.exc.args[0]) if name in SAID else None
                if said is not None:
                    yield f"{path.relative_to(SOURCE)}:{node.lineno}", said


def test_every_sentence_says_more_than_what_is_wrong():
    found = list(sentences())
    assert len(found) > 150
    for where, said in found:
        about = re.sub(r"^(\{\}[^:{}]{0,30}: ?)+", "", said)  # whose it is
        if re.fullmatch(r"(\{\}[ .,:;]*)+(Nothing was changed\.)?", about):
            continue  # another's sentence, passed on
        assert GOES_ON.search(about) or "allowed: {}" in said, f"{where}: {said}"
        assert said.endswith((".", "}")), f"{where}: {said}"


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ("It is full; 3 are allowed.", "It is full; 3 are allowed. Nothing was changed."),
        ("It is full. Nothing was changed.", "It is full. Nothing was changed."),
        ("Nothing is soloed: solo some first.", "Nothing is soloed: solo some first. Nothing was changed."),
        ("“untouched stays”: it is full.", "“untouched stays”: it is full. Nothing was changed."),
        ("The disk refused; no file was left there.", "The disk refused; no file was left there."),
    ],
)
def test_what_is_kept_is_said_once(said, told):
    assert saying(ConflictError(said), "Nothing was changed.") == told
    assert saying(ConflictError(said), "") == said


def test_work_that_fails_says_what_is_kept():
    def work(job):
        raise ConflictError("It is full; empty it first.")

    jobs = Jobs()
    job = jobs.start("Bringing in", work, kept="Nothing was added.")
    jobs._pool.shutdown(wait=True)
    assert job.as_dict()["message"] == "It is full; empty it first. Nothing was added."
