"""Prints the tests of the core that what was changed since the last commit can hang on: files of tests that were
changed themselves, and those that import a changed module, or one that imports it, by name. For `make quick`.
"""

import ast
import subprocess
from pathlib import Path

ROOT = Path(__file__).parents[1]
STEPS = 1  # of imports between what was changed and a test that is run; everything hangs on everything by some way


def changed():
    """The paths of what differs from the last commit."""
    said = subprocess.run(
        ["git", "status", "--porcelain", "-uall"], cwd=ROOT, capture_output=True, text=True, check=True
    )
    return {ROOT / row[3:].split(" -> ")[-1] for row in said.stdout.splitlines()}


def module_of(path):
    """The name a file is imported by."""
    inside = path.relative_to(ROOT).with_suffix("")
    return ".".join(part for part in inside.parts if part not in ("src", "__init__"))


def imports_of(path):
    """The modules a file imports, with the names it takes from packages."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{alias.name}" for alias in node.names)


def tests_of(paths):
    """The files of tests that hang on these."""
    sources = {module_of(path): set(imports_of(path)) for path in (ROOT / "src").rglob("*.py")}
    reached = {module_of(path) for path in paths if path.suffix == ".py" and path.exists()}
    for _ in range(STEPS - 1):
        reached |= {name for name, imported in sources.items() if imported & reached}
    files = [ROOT / "tests" / "test_structure.py", *sorted((ROOT / "tests" / "core").glob("test_*.py"))]
    return [file for file in files if file in paths or set(imports_of(file)) & reached]


if __name__ == "__main__":
    print(*(file.relative_to(ROOT) for file in tests_of(changed())))
