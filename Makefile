# `make demo` starts the desk; `make test` runs lint, types and all tests. Both install what they need.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
export PIP_DISABLE_PIP_VERSION_CHECK := 1

.PHONY: demo test soak lint browser bench bench-desk bench-desks bench-big screenshots guide docs clean

# Byte code is left to the import that compiles the kernels: most of what is installed is never imported.
INSTALL := $(BIN)/pip install --quiet --no-compile --constraint constraints.txt --editable
COMPILE_KERNELS := env -u PYTHONDONTWRITEBYTECODE $(BIN)/python -c "import reins.web.app; from reins.core.dsp.compiled import load; load()"

$(VENV)/made: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	touch $@

$(VENV)/installed: $(VENV)/made
	$(INSTALL) .
	$(COMPILE_KERNELS)
	touch $@

$(VENV)/installed-test: $(VENV)/made
	$(INSTALL) ".[test]"
	$(COMPILE_KERNELS)
	touch $@ $(VENV)/installed

demo: $(VENV)/installed
	$(BIN)/reins demo

browser:
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || \
	  { apt-get update -qq && apt-get install -y -qq chromium chromium-driver; } >/dev/null 2>&1 || \
	  { echo "make test needs chromium and chromium-driver; install them with your system's packages."; exit 1; }

lint: $(VENV)/installed-test
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

test: lint browser
	$(BIN)/pytest -n 2 --dist loadfile

soak: $(VENV)/installed-test
	$(BIN)/python -m benchmarks.soak

bench: $(VENV)/installed
	$(BIN)/reins bench

bench-desk: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.desk

bench-desks: $(VENV)/installed-test
	$(BIN)/python -m benchmarks.desks

bench-big: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.big_session

screenshots: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.screenshots

guide: $(VENV)/installed
	$(BIN)/python -m benchmarks.guide

docs: $(VENV)/installed
	$(BIN)/python -c "from pathlib import Path; from reins.core.chaindocs import write_tables; \
	  p = Path('docs/formats/chain.md'); p.write_text(write_tables(p.read_text()))"

clean:
	rm -rf $(VENV)
