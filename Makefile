# Two commands do it all: `make demo` and `make test`. Each can be run again at any time.

PY := .venv/bin/python
# Modules are compiled when they are first imported: most of them never are.
INSTALL := $(PY) -m pip install --quiet --disable-pip-version-check --no-compile --require-hashes
export STEADY_DEMO ?= true
# Tests start many processes: compiled once, each starts in half the time.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo demo-reset test check measures fields docs lint types contracts core-tests shots bench lock clean

demo: .venv/.runtime
	@$(PY) -m web.begin

demo-reset: .venv/.runtime
	@$(PY) -m web.first_start
	@$(PY) manage.py migrate --verbosity 0
	@$(PY) manage.py demo --reset

# One process more than cores: a third of the time they wait for the browser.
test: .venv/.dev chromium lint types contracts
	@$(PY) manage.py test --no-input --parallel $$(($$(nproc) + 1)) --settings tests.settings tests

check: .venv/.dev lint types core-tests measures

measures: .venv/.dev
	@$(PY) -m tools.measures

lint: .venv/.dev
	@.venv/bin/ruff check .
	@.venv/bin/ruff format --check .
	@.venv/bin/djlint web/templates --lint --quiet

types: .venv/.dev
	@.venv/bin/mypy

contracts: .venv/.dev
	@.venv/bin/lint-imports

core-tests: .venv/.dev
	@$(PY) manage.py test --no-input --parallel auto --settings tests.settings tests.core

shots: .venv/.dev chromium
	@$(PY) -m tools.shots

fields: .venv/.runtime
	@$(PY) -m tools.fields

docs: .venv/.dev
	@$(PY) -m tools.api_docs

bench: .venv/.dev
	@$(PY) -m tools.bench
	@$(PY) -m tools.growth

scale: .venv/.harden
	@sh tools/ensure_servers.sh
	@$(PY) -m tools.scale

harden: .venv/.harden chromium
	@$(PY) -m tools.harden

.PHONY: chromium scale harden
chromium:
	@sh tools/ensure_chromium.sh

.venv/bin/python:
	@sh tools/ensure_venv.sh

.venv/.runtime: requirements/runtime.txt | .venv/bin/python
	@echo "Fetching the packages the site runs with, a minute or two…"
	@$(INSTALL) -r requirements/runtime.txt
	@touch $@

.venv/.dev: requirements/dev.txt .venv/.runtime
	@echo "Fetching the packages the tests need, a minute…"
	@$(INSTALL) -r requirements/dev.txt
	@touch $@

.venv/.harden: requirements/scale.txt requirements/harden.txt .venv/.dev
	@echo "Fetching what a load and several processes need, a minute…"
	@$(INSTALL) -r requirements/scale.txt
	@$(INSTALL) -r requirements/harden.txt
	@touch $@

# After changing requirements/*.in; needs pip-tools.
lock:
	pip-compile -q --generate-hashes --strip-extras --no-emit-index-url --no-emit-find-links --no-header -o requirements/runtime.txt requirements/runtime.in
	pip-compile -q --generate-hashes --strip-extras --allow-unsafe --no-emit-index-url --no-emit-find-links --no-header -o requirements/dev.txt requirements/dev.in
	pip-compile -q --generate-hashes --allow-unsafe --no-emit-index-url --no-emit-find-links --no-header -o requirements/scale.txt requirements/scale.in
	pip-compile -q --generate-hashes --allow-unsafe --no-emit-index-url --no-emit-find-links --no-header -o requirements/harden.txt requirements/harden.in

clean:
	rm -rf .venv
