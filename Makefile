# Keel. `make` alone lists what there is.
.DEFAULT_GOAL := help
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/ready

.PHONY: help demo test soak lint speed clean

help: ## List these
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 10

demo: $(READY) ## Sail the simulated ferry, record it, and watch
	$(BIN)/keel demo

test: $(READY) tmux ## Run all tests
	@# More at once than there are processors: most of them wait for a screen.
	$(BIN)/pytest -n 4 --dist loadgroup

soak: $(READY) ## Kill recorders at random moments, many times
	$(BIN)/pytest -n 2 -m soak

lint: $(READY) ## Style, types, import directions
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

speed: $(READY) ## Measure, with the limit beside each figure
	$(BIN)/python -m benchmarks

clean: ## Remove what was installed and cached here
	rm -rf .venv .mypy_cache .ruff_cache .pytest_cache .hypothesis .import_linter_cache
	find . -name __pycache__ -type d -prune -exec rm -rf {} +

# Everything pinned, then Keel itself, then its compiled parts once, so that the first use does not wait for them.
$(READY): requirements.lock pyproject.toml
	$(PYTHON) -m venv .venv || (apt-get update -qq && apt-get install -y -qq python3-venv && $(PYTHON) -m venv .venv)
	$(BIN)/pip install -q --disable-pip-version-check -r requirements.lock
	$(BIN)/pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(BIN)/python -m compileall -q src/keel
	$(BIN)/keel prepare
	@touch $(READY)

.PHONY: tmux
tmux:
	@command -v tmux >/dev/null || (apt-get update -qq && apt-get install -y -qq tmux)
