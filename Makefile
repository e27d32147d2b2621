# Two commands do everything, set-up included: make demo, make test.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
READY_TEST := $(VENV)/.ready-test

# Many containers set it. Without bytecode each of hundreds of processes would compile the same files again.
unexport PYTHONDONTWRITEBYTECODE

MINUTES ?= 10
SECONDS ?= 600
RUNS ?= 10000
SEED ?= 0

CLUSTER_WORDS := KEEP RUN CUT MEND SLOW LOSE HALF STOP REBOOT CLOCK BY FULL PS DOWN

.PHONY: demo cluster test long torture model fuzz bench docs site shots lint format wheel clean

demo: $(READY)
	@$(BIN)/lazy-quarry demo

# What is typed after "make cluster" is in the environment of what runs: only its names are handed over.
cluster: $(READY)
	@sh tools/hosts-need
	@$(BIN)/python -m cluster $(foreach word,$(CLUSTER_WORDS),$(if $(filter command%,$(origin $(word))),$(word)))

test: $(READY_TEST)
	@sh tools/hosts-need || true
	@sh tools/need tmux tmux 'the tests in a real terminal are skipped' || true
	@sh tools/need mpicc libopenmpi-dev 'the test with MPI is skipped' || true
	@sh tools/need mpirun openmpi-bin 'the test with MPI is skipped' || true
	@$(BIN)/python -m pytest -n 4 --dist loadfile --no-loadscope-reorder

torture: $(READY_TEST)
	@$(BIN)/python -m torture --minutes $(MINUTES)

long: $(READY_TEST)
	@LQ_SEEDS=12 LQ_LONG_KEYS_S=120 $(BIN)/python -m pytest -n 2 -q tests/app/test_dialogs.py tests/run/test_faults.py tests/terminal/test_whole_path.py tests/core/engine/test_invariants.py tests/run/test_carried.py -k "whatever or kills or terminal_has or four_gib"

model: $(READY_TEST)
	@MODEL_RUNS=$(RUNS) $(BIN)/python -m pytest -n 2 -q tests/run/test_node_model.py

fuzz: $(READY_TEST)
	@$(BIN)/python -m fuzz --seconds $(SECONDS) --seed $(SEED)

# "make bench hosts" measures that alone: the words behind it are no targets of their own.
BENCHED := $(if $(filter bench,$(MAKECMDGOALS)),$(filter $(filter-out __%,$(basename $(notdir $(wildcard bench/*.py)))),$(MAKECMDGOALS)))
$(filter-out bench docs,$(BENCHED)):
	@:

bench: $(READY_TEST)
	@if [ -z "$(QUICK)$(BENCHED)" ]; then $(BIN)/python -m bench.advising docs/advice.md; fi
	@QUICK=$(QUICK) $(BIN)/python -m bench $(BENCHED)

docs: $(READY_TEST)
	@$(BIN)/lazy-quarry check --codes > docs/checks.md
	@$(BIN)/lazy-quarry manual > docs/lq.1
	@$(BIN)/python tools/draw_imports.py docs/imports.svg
	@$(BIN)/python tools/draw_figures.py docs
	@PYTHONPATH=. $(BIN)/python tools/draw_cluster.py docs/cluster.svg

site: $(READY_TEST)
	@$(BIN)/python -c "import material" 2>/dev/null || $(BIN)/pip install --quiet -e '.[site]'
	@NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet
	@echo "build/site/README.html or index.html opens it"

shots: $(READY_TEST)
	@sh tools/shots

lint: $(READY_TEST)
	@$(BIN)/ruff check src tests bench torture fuzz cluster tools
	@$(BIN)/ruff format --check src tests bench torture fuzz cluster tools
	@$(BIN)/mypy
	@$(BIN)/lint-imports

format: $(READY_TEST)
	@$(BIN)/ruff check --fix --quiet src tests bench torture fuzz cluster tools
	@$(BIN)/ruff format src tests bench torture fuzz cluster tools

wheel: $(READY_TEST)
	@sh tools/need tmux tmux 'the demo cannot be tried from the wheel'
	@sh tools/try-wheel

$(VENV)/bin/python:
	@$(PYTHON) -c 'import sys; sys.exit("Lazy Quarry needs Python 3.11 or newer; this is " + sys.version.split()[0] + ". Name another: make PYTHON=python3.12 demo") if sys.version_info < (3, 11) else None'
	@echo "making $(VENV) (once)"
	@$(PYTHON) -c 'import ensurepip' 2>/dev/null || sh tools/need ensurepip python3-venv 'the virtual environment cannot be made'
	@$(PYTHON) -m venv $(VENV) || { rm -rf $(VENV); echo "the virtual environment could not be made; on Debian: apt-get install python3-venv"; exit 1; }

$(READY): pyproject.toml | $(VENV)/bin/python
	@echo "installing what it needs (once; a minute or two)"
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check -e . || { echo "installing failed: is a package registry reachable?"; exit 1; }
	@touch $(READY)

$(READY_TEST): pyproject.toml | $(VENV)/bin/python
	@echo "installing what it and its tests need (once; a minute or two)"
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[test]' || { echo "installing failed: is a package registry reachable?"; exit 1; }
	@touch $(READY) $(READY_TEST)

clean:
	rm -rf $(VENV) build src/*.egg-info
