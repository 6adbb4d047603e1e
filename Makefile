# Everything goes through these; see README.md.
.DEFAULT_GOAL := help
PY := .venv/bin/python
export PATH := $(CURDIR)/.venv/bin:$(PATH)

.PHONY: help demo start reset test soak mutants bench fmt shots types lock

help:
	@echo 'make demo   start everything with the demo estate'
	@echo 'make start  start everything empty, for real use'
	@echo 'make reset  remove the database and the simulated drives'
	@echo 'make test   set up and run all checks'
	@echo 'make soak   random histories and requests, ROUNDS=100 REQUESTS=300 (seconds) SEED=1'
	@echo 'make mutants small deliberate faults, and how many a test notices, NUMBER=60 ROOM=core/changes SEED=1'
	@echo 'make bench  print the benchmark figures, AGAINST=../other beside those of another clone, PART=building ROUNDS=3'
	@echo 'make fmt    format the code'
	@echo 'make shots  take docs/screenshots anew from the demo'
	@echo 'make types  write the OpenAPI description and the types of the web part anew'
	@echo 'make lock   resolve the Python and web packages anew'

demo:
	@scripts/setup run
	@exec $(PY) -m pairshelf.launch.start demo

start:
	@scripts/setup run
	@exec $(PY) -m pairshelf.launch.start start

reset:
	@[ -x $(PY) ] || { echo 'Nothing has been set up yet.'; exit 0; }; exec $(PY) -m pairshelf.launch.start reset

test:
	@scripts/setup dev
	@scripts/check

soak:
	@scripts/setup dev
	@$(PY) -m tests.soak
	@SECONDS_OF_REQUESTS=$${REQUESTS:-300} $(PY) -m pytest tests/api/test_description.py -k made_from

mutants:
	@scripts/setup dev
	@$(PY) scripts/mutants.py

bench:
	@scripts/setup dev
	@exec $(PY) -m $(if $(AGAINST),bench.against $(AGAINST) --part $(or $(PART),run) --rounds $(or $(ROUNDS),3),bench.run)

fmt:
	@scripts/setup dev
	@ruff check --fix --quiet . || true
	@ruff format --quiet .
	@cd web && npm run --silent format

shots:
	@scripts/setup dev
	@exec $(PY) -m scripts.shots

types:
	@pairshelf openapi > web/openapi.json
	@cd web && npm run --silent types

lock:
	@scripts/lock
