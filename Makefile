# make demo: the application with the demo data. make test: everything that must hold.
SHELL := /bin/bash
.DEFAULT_GOAL := help
VENV ?= .venv
PY := $(VENV)/bin/python
PORT ?= 8420
SEED ?= 1
SEEDS ?= 1 2
WORLDS ?= 100
ASKS ?= 300
COMPANIES ?= 3000
PLANS ?= 150
APP := src/ecumen_web/app/index.html
API := src/ecumen_web/api/openapi.yaml
FRONT_SOURCES := $(shell find frontend/src frontend/public -type f 2>/dev/null) \
  frontend/index.html frontend/vite.config.ts frontend/package.json

.PHONY: help setup system demo test quick check front types rules fix api app bench agreement plans company corpus enforcing hostile pictures

help:
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 12

# --- setting up: each target installs what it needs ---

system:
	@bin/install-system demo

$(VENV)/.installed: pyproject.toml requirements-dev.lock build_frontend.py
	@bin/install-system demo
	test -x $(PY) || $$(bin/which-python) -m venv $(VENV)
	$(PY) -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements-dev.lock
	$(PY) -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@# What counts large logs is compiled once, and kept beside its source.
	$(PY) -c "from ecumen.logs.forms import form_of; from ecumen.logs.tally import Counting; \
	  Counting([form_of('combined')], compiled=True).warm()"
	touch $@

frontend/node_modules/.installed: frontend/package-lock.json
	@bin/install-system demo
	@# Not `npm ci`: it refuses a lock made where some platforms' optional packages are not served.
	cd frontend && npm install --no-save --ignore-scripts --loglevel=error
	touch $@

$(APP): frontend/node_modules/.installed $(FRONT_SOURCES)
	cd frontend && npm run --silent build -- --logLevel warn
	touch $@

setup: $(VENV)/.installed frontend/node_modules/.installed ## everything that is needed to work here

app: $(APP) ## builds the screen

# Nothing of it is real: where it is tried as root, it may stay that.
demo: $(VENV)/.installed $(APP) ## the application with the demo data, on http://127.0.0.1:8420
	@ECUMEN_HOME=$${ECUMEN_HOME:-$(CURDIR)/.cache/demo} $(VENV)/bin/ecumen demo --port $(PORT) \
	  $$(test $$(id -u) -ne 0 || echo --as-root)

# --- what must hold ---

test: ## everything, from a fresh machine
	@bin/install-system test
	@$(MAKE) --no-print-directory -j 2 setup
	@$(MAKE) --no-print-directory -j 2 --output-sync app check front
	@# Of three, one starts servers and one has the browser; both wait more than they work.
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -rs --durations=20 -m "not alone" -n 3
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -rs -m alone
	@bin/install-system missing

quick: setup front ## the tests that take under a minute
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -m "not server and not browser"

front: setup
	cd frontend && npm run --silent test

check: types rules ## formatter, linters, types, contracts

types: setup
	$(VENV)/bin/mypy

rules: setup
	$(VENV)/bin/ruff format --check .
	$(VENV)/bin/ruff check .
	$(VENV)/bin/lint-imports
	cd frontend && npm run --silent lint && npm run --silent types
	@bin/check-api

fix: setup ## formats, and mends what can be mended
	$(VENV)/bin/ruff format .
	$(VENV)/bin/ruff check --fix .
	cd frontend && npm run --silent fix

api: setup ## the API's description and the client's types
	bin/make-api $(API) frontend/src/api/schema.gen.ts

bench: setup app ## the benchmarks, each beside its baseline
	@bin/install-system test
	ECUMEN_HOME=$(CURDIR)/.cache/bench $(PY) -m tests.bench

agreement: setup ## generated worlds against the real servers; SEED, WORLDS, ASKS
	@bin/install-system test
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -s tests/agreement_test.py \
	  --seed $(SEED) --worlds $(WORLDS) --asks $(ASKS) --table docs/agreement.md

plans: setup ## random plans on generated worlds, done and taken back beside the real servers; SEED, PLANS
	@bin/install-system test
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -s tests/plans_on_worlds_test.py \
	  --seed $(SEED) --plans $(PLANS)

company: setup ## random lines in company beside the real servers; SEED, COMPANIES
	@bin/install-system test
	@printf '# Directives in company\n\nRandom lines of all directives that the servers have, beside the real\nservers: what was drawn where, and how it went. Written by `make company`, from seed $(SEED).\n' > docs/directives.md
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -s tests/company_test.py \
	  --seed $(SEED) --companies $(COMPANIES) --coverage docs/directives.md
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -s tests/every_directive_test.py --directives 1000
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -s --whole tests/seals_test.py

corpus: setup ## the configurations of Debian's packages beside the real servers; SEED
	@bin/install-system test
	bin/make-corpus .cache/corpus
	$(PY) -m tests.corpus.run .cache/corpus $(SEED)

enforcing: setup ## both servers confined on a small machine that enforces its policy; SEEDS
	bin/make-guest .cache/guest
	$(PY) -m tests.guest.run .cache/guest $(SEEDS)

hostile: setup app ## ten minutes of attacks and fuzzing, with a new seed each time
	@bin/install-system test
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -rs -m alone
	ECUMEN_HOME=$(CURDIR)/.cache/test $(PY) -m pytest -rA -n 2 -m "not alone" tests/hostile_*_test.py \
	  --seed $${SEED_OF_TODAY:-$$(date +%s)} --attacks --minutes 10 --tries 100000 --patterns 10000 --kills 100 --faults 30 --cases 10000

pictures: setup app ## the pictures in docs/screenshots, from the demo data
	@bin/install-system test
	$(PY) -m tests.pictures
