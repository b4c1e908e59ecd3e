# Two commands: make demo (start with demo data), make test (everything). make check is the static part.
SHELL := /bin/bash
PYTHON ?= python3
BIN := .venv/bin
UV := $(BIN)/uv

.PHONY: demo test check setup ui warm bench clean api screenshots backup restore

demo: setup ui
	@exec $(BIN)/python -m fenrik.bootstrap demo

# all jobs in one file (FILE=... names it), also while Fenrik runs; and back again, while it does not
backup: setup
	@$(BIN)/python -m fenrik.bootstrap backup $(FILE)

restore: setup
	@$(BIN)/python -m fenrik.bootstrap restore $(FILE)

test: setup ui
	@scripts/need chromium chromium
	cd ui && npm test --silent
	$(BIN)/pytest

check: setup .data/npm
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports
	cd ui && npm run --silent tsc && npm run --silent lint && npm run --silent format
	@$(BIN)/python -m fenrik.bootstrap openapi --check

bench: setup
	$(BIN)/python -m bench $(ONLY)

api: setup .data/npm
	$(BIN)/python -m fenrik.bootstrap openapi
	cd ui && npm run --silent types && npx --no -- prettier --write src/api/schema.ts

setup: .data/python .data/warm
	@scripts/need postgres postgresql

.data/python: requirements.lock pyproject.toml
	@mkdir -p .data
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@test -x $(UV) || $(BIN)/pip install --quiet --disable-pip-version-check uv
	@# compiled to bytecode: every start of a server, worker or reader would else do it again where Python may not write it
	$(UV) pip sync --quiet --require-hashes --compile-bytecode requirements.lock
	$(UV) pip install --quiet --no-deps -e .
	$(BIN)/python -m compileall -q src
	@touch $@

# Numba kernels are compiled once, so that the first toolpath does not wait for a compiler.
KERNELS := $(shell find src/fenrik/core -name '*_kernels.py' -o -name _tuples.py) \
	$(addprefix src/fenrik/core/,machines/time.py machines/inverse.py machines/choosing.py machines/arm.py motion/arcs.py)
.data/warm: .data/python $(KERNELS)
	@find src/fenrik/core -name '*.nb[ic]' -delete  # a kernel's cache does not see a change in one that it calls
	$(BIN)/python -m fenrik.warm
	@touch $@

.data/npm: ui/package-lock.json
	@mkdir -p .data
	cd ui && npm ci --silent --no-audit --no-fund
	@touch $@

ui: ui/dist/index.html

ui/dist/index.html: .data/npm $(shell find ui/src ui/public ui/index.html -type f 2>/dev/null)
	cd ui && npm run --silent build > ../.data/ui-build.log || (cat ../.data/ui-build.log; exit 1)
	@touch $@

screenshots: setup ui
	@scripts/need chromium chromium
	$(BIN)/python scripts/screenshots.py

clean:
	rm -rf ui/dist .data/warm .data/python .data/npm
