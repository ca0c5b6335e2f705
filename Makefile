# The project's commands. Each stamp makes a second run skip work that is already done.
# the newest Python that is there, from 3.11 on; up to the last one that numba supports
PYTHON ?= $(firstword $(foreach one,python3.13 python3.12 python3.11 python3 python,$(shell \
	$(one) -c 'import sys; print("$(one)" if (3, 11) <= sys.version_info[:2] <= (3, 13) else "")' 2>/dev/null)))
VENV := .venv
BIN := $(VENV)/bin
DEPS := $(VENV)/.deps-installed
KERNELS := $(VENV)/.kernels-compiled
MODULES := web/node_modules/.installed
UI := src/brae/ui/index.html
CHROMIUM ?= /usr/bin/chromium
# reference tools of the tests
DISC_TOOLS := /usr/bin/genisoimage /usr/bin/xorriso
# What speaks sentences of which it knows the times, for tests.
VOICE := /usr/bin/espeak-ng
WEB_SOURCES := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts

.PHONY: setup tools demo test trial lint art bench screenshots wheel openapi format clean

setup: tools
	$(MAKE) --no-print-directory $(DEPS) $(UI) $(KERNELS)

# What has to be on the machine, in words rather than as an error of something else.
tools:
	@test -x $(BIN)/python || test -n "$(PYTHON)" || { \
		echo "Brae needs Python 3.11 to 3.13; none was found. Install one, or name it: make PYTHON=/path/to/python"; exit 1; }
	@test -x $(BIN)/python || $(PYTHON) -c 'import venv, ensurepip' 2>/dev/null || { \
		echo "$(PYTHON) cannot make virtual environments. On Debian: apt install $(PYTHON)-venv"; exit 1; }
	@node -e 'process.exit(Number(process.versions.node.split(".")[0]) >= 20 ? 0 : 1)' 2>/dev/null || { \
		echo "Brae's page is built with Node.js 20 or newer; it is $$(node --version 2>/dev/null || echo missing)."; exit 1; }
	@npm --version >/dev/null 2>&1 || { echo "npm, which comes with Node.js, is missing."; exit 1; }

$(DEPS): requirements.lock pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	touch $@

$(MODULES): web/package-lock.json
	cd web && npm ci --silent
	touch $@

$(UI): $(MODULES) $(WEB_SOURCES)
	cd web && npm run --silent build

# Compiled now, so that the first picture does not wait for the compiler. A kernel in the cache does not notice that
# a step within it has changed, so all of them are made anew.
$(KERNELS): $(DEPS) src/brae/core/compiled.py src/brae/core/find/recoloured.py $(wildcard src/brae/core/*/kernels.py src/brae/core/assets/*/kernels.py src/brae/core/assets/texture/kernels/*.py)
	find src -name '*.nb[ci]' -delete
	$(BIN)/python -m brae.core.warm
	touch $@

demo: setup
	$(BIN)/brae demo

test: setup $(CHROMIUM) $(DISC_TOOLS) $(VOICE)
	$(MAKE) --no-print-directory lint
	cd web && npm run --silent test
	$(BIN)/python -m pytest -n auto --maxprocesses 6 --dist loadgroup --durations 40

# Killed before each call that changes something, and every two things at once; half an hour.
trial: setup
	$(BIN)/python -m tests.work.trial

$(CHROMIUM):
	apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium

$(DISC_TOOLS) $(VOICE):
	apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(notdir $@)

lint: $(DEPS) $(MODULES)
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/mypy --platform win32
	$(BIN)/mypy --platform darwin
	$(BIN)/lint-imports --no-cache
	$(BIN)/python -m brae.api.document --check docs/openapi.json docs/layout.schema.json docs/game.schema.json
	cd web && npm run --silent lint && npm run --silent types
	cd web && npx --no-install openapi-typescript ../docs/openapi.json -o node_modules/.generated.ts >/dev/null \
	  && cmp node_modules/.generated.ts src/api/generated.ts

openapi: $(DEPS) $(MODULES)
	$(BIN)/python -m brae.api.document docs/openapi.json docs/layout.schema.json docs/game.schema.json
	cd web && npm run --silent api

format: $(DEPS) $(MODULES)
	$(BIN)/ruff check --fix-only -q src tests benchmarks; $(BIN)/ruff format -q src tests benchmarks
	cd web && npm run --silent format

# Pictures that other packages ship, for the bench alone: see benchmarks/art.py.
art: setup
	$(BIN)/python -m pip install -q --no-deps --target .art arcade==3.3.3 pygame==2.6.1 ursina==7.0.0 kivy==2.3.1

bench: setup $(VOICE)
	$(BIN)/python -m benchmarks

screenshots: setup $(CHROMIUM)
	$(BIN)/python -m tests.e2e.tour docs/screenshots

wheel: setup
	$(BIN)/python -m hatchling build -t wheel -d dist

clean:
	rm -rf $(VENV) web/node_modules src/brae/ui dist
