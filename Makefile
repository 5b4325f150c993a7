# Door Stone. `make demo` and `make test` are all it takes on a machine with Python 3.11, Node 20, make and apt.
.DEFAULT_GOAL := help
.PHONY: help demo test tests-python tests-console check lint lint-python lint-console biome types reference browser fuzz oracle soak torture tamper rights years rehearse bench shots build console clean
PYTHON ?= python3
PORT ?= 8640
DATA ?= demo-data$(if $(AS_OF),-$(AS_OF))
# One more than two cores, as a test waits now and then.
WORKERS ?= 3
unexport PYTHONDONTWRITEBYTECODE  # whatever is started again and again is to find its modules compiled
VENV := .venv
BIN := $(VENV)/bin
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts
PAGES := src/doorstone/service/pages/index.html

help: ## Say what can be made
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## (.*)/  \1\t\2/' | expand -t 14

$(VENV)/installed.stamp: pyproject.toml constraints.txt
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Python 3.11 or later is needed; name one with PYTHON=..."; exit 1; }
	[ -x $(BIN)/pip ] || $(PYTHON) -m venv $(VENV) || { $(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq python3-venv >/dev/null && $(PYTHON) -m venv --clear $(VENV); }
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test]'
	@touch $@

console/node_modules/installed.stamp: console/package.json console/package-lock.json
	cd console && npm install --no-save --silent --no-audit --no-fund
	@touch $@

$(PAGES): console/node_modules/installed.stamp $(CONSOLE_SOURCES)
	cd console && npm run --silent build

console: $(PAGES) ## Build the console

browser:
	@command -v chromium-headless-shell >/dev/null || { $(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq --no-install-recommends chromium-headless-shell fonts-dejavu-core >/dev/null; } || command -v chromium >/dev/null

demo: $(VENV)/installed.stamp $(PAGES) ## Build, seed and start the service with the demo data; AS_OF=2027-09-05 starts it on that day
	@$(BIN)/python -m doorstone.demo.start --data $(DATA) --port $(PORT) $(if $(AS_OF),--as-of $(AS_OF))

types: $(VENV)/installed.stamp console/node_modules/installed.stamp ## Regenerate the console's API types
	$(BIN)/doorstone openapi > openapi.tmp.json
	cd console && npm run --silent types && rm ../openapi.tmp.json

reference: $(VENV)/installed.stamp ## Rewrite the reference pages that the code knows best
	$(BIN)/python tools/reference.py

lint: lint-python lint-console ## Format check, lint and types, Python and console

lint-python: $(VENV)/installed.stamp
	@$(BIN)/ruff format --check --quiet .
	@$(BIN)/ruff check --quiet .
	@$(BIN)/mypy --no-error-summary
	@$(BIN)/mypy --no-error-summary docs/examples
	@$(BIN)/vulture

lint-console: biome
	@cd console && npm run --silent check-types

biome: console/node_modules/installed.stamp
	@cd console && npm run --silent lint

# Everything; with FAST=1 what needs neither a browser nor a process of its own and plays no years. Lint and types run beside the tests.
test: $(VENV)/installed.stamp console/node_modules/installed.stamp $(if $(FAST),,$(PAGES) browser) ## Lint, types, and every test; FAST=1 for the quick ones
	@$(MAKE) --no-print-directory -j4 tests-python tests-console lint-python $(if $(FAST),biome,lint-console)

tests-python:
	@$(BIN)/python -m pytest -n $(WORKERS) --dist worksteal $(if $(FAST),-m "not browser and not process and not long")

tests-console: console/node_modules/installed.stamp
	@cd console && npm run --silent test

check: $(VENV)/installed.stamp console/node_modules/installed.stamp ## Check what concerns one file: make check FILE=src/doorstone/core/facts.py
	@$(BIN)/python tools/check.py $(FILE)

fuzz: $(VENV)/installed.stamp ## Ask the service whatever its OpenAPI document allows, for an hour: SECONDS=3600
	@$(BIN)/python -m tests.fuzzing $(or $(SECONDS),3600) $(SEED)

oracle: $(VENV)/installed.stamp ## Compare states, choices and forecasts with slow answers of their own, for an hour: SECONDS=3600
	@$(BIN)/python -m tests.oracle.compare $(or $(SECONDS),3600) $(SEED)

soak: $(VENV)/installed.stamp ## Ninety days of daily readings of 20,000 devices that all differ: DAYS=90 DEVICES=20000
	@$(BIN)/python -m tests.soak $(or $(DAYS),90) $(or $(DEVICES),20000) $(or $(SEED),1)

torture: $(VENV)/installed.stamp ## Kill the service 300 times while it is written to: KILLS=300
	@$(BIN)/python -m tests.torture $(or $(KILLS),300) $(SEED)

tamper: $(VENV)/installed.stamp ## Change the records by hand 2,000 times, and look whether each change is named: COUNT=2000
	@$(BIN)/python -m tests.tampering $(or $(COUNT),2000) $(SEED)

years: $(VENV)/installed.stamp ## Step a service through two years beside a plain model: DAYS=730
	@$(BIN)/python -m tests.two_years $(or $(DAYS),730) $(SEED)

rights: $(VENV)/installed.stamp ## Call every operation in every way that could reach beyond a caller's rights
	@$(BIN)/python -m tests.rights $(SEED)

rehearse: $(VENV)/installed.stamp ## Take the demo fleet through the years with stand-ins; SURPRISES=1 plays what nobody foresaw
	$(BIN)/python -m rehearsal.run $(if $(SURPRISES),--surprises)

$(VENV)/bench.stamp: $(VENV)/installed.stamp
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[test,bench]'
	@touch $@

bench: $(VENV)/bench.stamp $(PAGES) browser ## Measure speed, as ratios within one run; FULL=1 with a million devices
	$(BIN)/python -m benchmarks.run

shots: $(VENV)/installed.stamp $(PAGES) browser ## Remake docs/screenshots from the demo data
	PATH="$(CURDIR)/$(BIN):$$PATH" $(BIN)/python tools/shots.py

build: $(VENV)/installed.stamp $(PAGES) ## Build the wheel, with the console inside
	$(BIN)/python -m build --wheel --no-isolation --outdir dist .

clean: ## Remove what was built and the demo data
	rm -rf $(VENV) console/node_modules src/doorstone/service/pages dist demo-data*
