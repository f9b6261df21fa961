# make demo   environment, install, and the main job on the demo data
# make test   environment, install, and all tests
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready

.PHONY: demo test lint bench clean

$(READY): pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet -e '.[dev]'
	touch $(READY)

demo: $(READY)
	$(BIN)/vinestep demo

test: $(READY)
	$(BIN)/python -m pytest -n auto

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

bench: $(READY)
	$(BIN)/python -m benchmarks

clean:
	rm -rf .venv build dist .pytest_cache .mypy_cache .ruff_cache
