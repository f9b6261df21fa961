# make demo        environment, install, and the main job on the demo data
# make test        environment, install, and all tests
# make check       lint, types and the tests of what changed, in under a minute
# make bank        what is said of sound set-ups and of planted faults
# make docs        the documentation as a site, in docs/_build/html
# make test-slow   kills at random moments; make fuzz: fuzzers, which take an hour or more
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/.ready
READY_DEV := .venv/.ready-dev
# test processes. WORKERS=3 is quicker on two processors; a slow machine may then miss a time-out
WORKERS ?= auto
# modules are compiled once, not by each of the hundreds of processes that tests start
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo bank test check lint docs test-slow test-definitions test-numba test-oldest test-pythons \
  test-wheel fuzz mutants bench clean

$(READY): pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet -e .
	touch $(READY)

$(READY_DEV): $(READY)
	$(BIN)/python -m pip install --quiet -e '.[dev]'
	touch $(READY_DEV)

demo: $(READY)
	$(BIN)/vinestep demo

test: $(READY_DEV)
	$(BIN)/python -m pytest -n $(WORKERS) --dist loadfile -m "not slow"

lint: $(READY_DEV)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

# types are checked by a second process while the tests run
check: $(READY_DEV)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy & types=$$!; \
	$(BIN)/python tools/changed.py; tests=$$?; wait $$types && exit $$tests

docs: $(READY_DEV)
	$(BIN)/python -m pip install --quiet -e '.[docs]'
	$(BIN)/python -m sphinx -W --keep-going -q -b html docs docs/_build/html
	@echo "docs/_build/html/index.html"

# ONLY=kill leaves out what is slow for other reasons
ONLY ?= test
test-slow: $(READY_DEV)
	$(BIN)/python -m pytest -n auto -m slow -k "$(ONLY)"

# tests of all that kernels compute, with definitions in their place
test-definitions: $(READY_DEV)
	VINESTEP_KERNELS=off $(BIN)/python -m pytest -n auto -m "not slow" \
	  --ignore=tests/autodiff/rules \
	  --ignore=tests/training/step/test_every_way.py tests/autodiff tests/layers \
	  tests/optimisers tests/test_losses_and_metrics.py tests/training/step tests/generation

# the tests of compiled loops on the oldest and the newest version of Numba that pyproject.toml
# allows; `kernels.machinery.availability.TESTED` says the same
NUMBA_OLDEST := 0.63.0
NUMBA_NEWEST := 0.68.*
test-numba:
	for version in "$(NUMBA_OLDEST)" "$(NUMBA_NEWEST)"; do \
	  $(PYTHON) -m venv .venv-other && \
	  .venv-other/bin/python -m pip install --quiet -e '.[dev]' "numba==$$version" && \
	  .venv-other/bin/python -m pip list | grep -E '^(numba|llvmlite|numpy) ' && \
	  .venv-other/bin/python -m pytest -n auto -m "not slow" tests/kernels \
	    tests/autodiff/test_fused.py tests/layers tests/optimisers tests/benchmarks || exit 1; \
	  rm -rf .venv-other; \
	done

# the oldest versions that pyproject.toml allows, on the oldest Python
test-oldest:
	rm -rf .venv-other && $(PYTHON) -m venv .venv-other
	.venv-other/bin/python -m pip install --quiet --upgrade pip packaging
	.venv-other/bin/python tools/oldest.py > .venv-other/constraints.txt
	.venv-other/bin/python -m pip install --quiet -e '.[dev]' -c .venv-other/constraints.txt
	.venv-other/bin/python -m pytest -n auto -m "not slow" $(TESTS)
	rm -rf .venv-other

# other Pythons, as far as they are installed
PYTHONS ?= python3.12 python3.13 python3.14
test-pythons:
	for python in $(PYTHONS); do \
	  command -v $$python > /dev/null || { echo "$$python is not installed"; continue; }; \
	  rm -rf .venv-other && $$python -m venv .venv-other && \
	  .venv-other/bin/python -m pip install --quiet -e '.[dev]' && \
	  .venv-other/bin/python -m pytest -n auto -m "not slow" $(TESTS) || exit 1; \
	done; rm -rf .venv-other

# wheel and source distribution, one after the other in a clean environment
test-wheel: $(READY_DEV)
	rm -rf dist .venv-wheel && $(BIN)/python -m build --outdir dist > /dev/null
	$(PYTHON) -m venv .venv-wheel
	.venv-wheel/bin/python -m pip install --quiet dist/*.whl
	cd dist && ../.venv-wheel/bin/python ../tools/installed.py
	.venv-wheel/bin/python -m pip install --quiet --force-reinstall --no-deps dist/*.tar.gz
	cd dist && ../.venv-wheel/bin/python ../tools/installed.py
	rm -rf .venv-wheel

fuzz: $(READY_DEV)
	$(BIN)/python tests/fuzz programs 100000
	$(BIN)/python tests/fuzz kernels 20000
	$(BIN)/python tests/fuzz files 10000
	$(BIN)/python tests/fuzz tables 10000
	$(BIN)/python tests/fuzz commands 10000

# breaks one line in each of 60 places of the source, and sees whether a test notices
mutants: $(READY_DEV)
	$(BIN)/python tools/mutants.py

bank: $(READY_DEV)
	$(BIN)/python tools/bank.py

bench: $(READY_DEV)
	$(BIN)/python -m benchmarks

clean:
	rm -rf .venv .venv-other .venv-wheel build dist docs/_build .pytest_cache .mypy_cache .ruff_cache
