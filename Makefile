# make demo    set up and run a whole example       make test    set up and run the tests
# make bench   the ratios claimed in benchmarks/    make check   ruff and mypy
# make test-whole    the tests, all combinations of what is tried on everything
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test test-whole check bench docs clean

.venv/installed: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --editable ".[dev]"
	$(BIN)/python -m compileall -q src
	touch $@

demo: .venv/installed
	@n=; while [ -e rising-main$$n ]; do n=$$((n - 1)); done; $(BIN)/ilvren demo --into rising-main$$n

test: .venv/installed
	$(BIN)/python -m tests

test-whole: .venv/installed
	ILVREN_TESTS=whole $(BIN)/python -m tests

check: .venv/installed
	$(BIN)/ruff check src tests benchmarks docs
	$(BIN)/mypy

bench: .venv/installed
	$(BIN)/python -m benchmarks

docs: .venv/installed
	$(BIN)/python docs/generate.py

clean:
	rm -rf .venv build src/*.egg-info
