# Keel. `make` alone lists what there is.
.DEFAULT_GOAL := help
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/ready
TOOLS := .venv/ready-tools
LOWEST := .venv-lowest

.PHONY: help demo test test-lowest soak lint speed clean

help: ## List these
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14

demo: $(READY) ## Sail the simulated ferry, record it, and watch
	$(BIN)/keel demo

test: $(TOOLS) tmux ## Run all tests
	@# More at once than there are processors: most of them wait for a screen.
	$(BIN)/pytest -n 4 --dist loadgroup

test-lowest: tmux ## Run all tests with the oldest libraries that are allowed
	$(PYTHON) -m venv $(LOWEST)
	$(PYTHON) tests/lowest.py > $(LOWEST)/lowest.txt
	$(LOWEST)/bin/pip install -q --disable-pip-version-check -c $(LOWEST)/lowest.txt -e . $$(grep -oE '^pytest[a-z-]*|^hypothesis|^import-linter' requirements-test.lock)
	NUMBA_CACHE_DIR=$(CURDIR)/$(LOWEST)/compiled $(LOWEST)/bin/keel prepare
	NUMBA_CACHE_DIR=$(CURDIR)/$(LOWEST)/compiled $(LOWEST)/bin/pytest -n 4 --dist loadgroup

soak: $(TOOLS) simulators ## Kill recorders at random moments, many times; read simulated circuits
	$(BIN)/pytest -n 2 -m soak

lint: $(TOOLS) ## Style, types, import directions
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

speed: $(READY) ## Measure, with the limit beside each figure
	$(BIN)/python -m benchmarks

clean: ## Remove what was installed and cached here
	rm -rf .venv $(LOWEST) .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache
	find . -name __pycache__ -type d -prune -exec rm -rf {} +

# Everything pinned, then Keel itself, then its compiled parts once, so that the first use does not wait for them.
$(READY): requirements.lock pyproject.toml
	$(PYTHON) -m venv .venv || (apt-get update -qq && apt-get install -y -qq python3-venv && $(PYTHON) -m venv .venv)
	$(BIN)/pip install -q --disable-pip-version-check -r requirements.lock
	$(BIN)/pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(BIN)/python -m compileall -q src/keel
	$(BIN)/keel prepare
	@touch $(READY)

$(TOOLS): $(READY) requirements-test.lock
	$(BIN)/pip install -q --disable-pip-version-check -r requirements-test.lock
	@touch $(TOOLS)

.PHONY: tmux
tmux:
	@command -v tmux >/dev/null || (apt-get update -qq && apt-get install -y -qq tmux)

# Simulators of circuits, for senders that share nothing with what reads them.
.PHONY: simulators
simulators:
	@command -v iverilog >/dev/null && command -v ghdl >/dev/null || (apt-get update -qq && apt-get install -y -qq iverilog ghdl)
