# make demo   environment, install, and the main job on the demo data
# make test   environment, install, and all tests
# make test-slow   kills at random moments, which take minutes; make fuzz   fuzzers, which take an hour or more
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready

.PHONY: demo test test-slow test-definitions test-numba fuzz lint bench clean

$(READY): pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet -e '.[dev]'
	touch $(READY)

demo: $(READY)
	$(BIN)/vinestep demo

test: $(READY)
	$(BIN)/python -m pytest -n auto -m "not slow"

test-slow: $(READY)
	$(BIN)/python -m pytest -n auto -m slow

# tests of all that kernels compute, with definitions in their place
test-definitions: $(READY)
	VINESTEP_KERNELS=off $(BIN)/python -m pytest -n auto -m "not slow" tests/autodiff tests/layers tests/optimisers tests/test_losses_and_metrics.py \
	  tests/training/test_training.py tests/training/test_as_asked.py tests/training/test_descents.py \
	  tests/training/test_half.py tests/generation

# the tests of compiled loops on the oldest and the newest version of Numba that pyproject.toml allows; `soundness.TESTED` says the same
NUMBA_OLDEST := 0.63.0
NUMBA_NEWEST := 0.68.*
test-numba:
	for version in "$(NUMBA_OLDEST)" "$(NUMBA_NEWEST)"; do \
	  $(PYTHON) -m venv ".venv-numba" && \
	  .venv-numba/bin/python -m pip install --quiet -e '.[dev]' "numba==$$version" && \
	  .venv-numba/bin/python -m pip list | grep -E '^(numba|llvmlite|numpy) ' && \
	  .venv-numba/bin/python -m pytest -n auto -m "not slow" tests/kernels tests/autodiff/test_fused.py tests/layers tests/optimisers tests/benchmarks || exit 1; \
	  rm -rf .venv-numba; \
	done

fuzz: $(READY)
	$(BIN)/python tests/fuzz programs 100000
	$(BIN)/python tests/fuzz kernels 20000
	$(BIN)/python tests/fuzz files 10000
	$(BIN)/python tests/fuzz tables 10000

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

bench: $(READY)
	$(BIN)/python -m benchmarks

clean:
	rm -rf .venv .venv-numba build dist .pytest_cache .mypy_cache .ruff_cache
