# Each target sets up what it needs: only Python 3.11+, make and git are taken for granted.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin

# Modules are compiled once, also where a machine is set not to: each command that a test starts would compile all of them again.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test check format bench site screenshots clean

$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --upgrade "pip>=25.1"
	$(BIN)/python -m pip install --quiet --editable ".[workbook,database,lake,editor]"
	touch $@

$(VENV)/.developing: $(VENV)/.installed
	$(BIN)/python -m pip install --quiet --group dev
	touch $@

$(VENV)/.measuring: $(VENV)/.developing
	$(BIN)/python -m pip install --quiet --group bench
	touch $@

demo: $(VENV)/.installed
	rm -rf build/river-survey
	$(BIN)/kivvet demo build/river-survey

test: $(VENV)/.developing
	$(BIN)/python -m pytest

check: $(VENV)/.developing
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

format: $(VENV)/.developing
	$(BIN)/ruff format .
	$(BIN)/ruff check --fix .

bench: $(VENV)/.measuring
	$(BIN)/python -m benchmarks

site: $(VENV)/.developing
	$(BIN)/python -m sphinx -q -W --keep-going -c docs/site -d build/site-trees docs build/site
	@echo "build/site/site/index.html"

screenshots: $(VENV)/.installed
	PATH="$(abspath $(BIN)):$$PATH" docs/screenshots/take

clean:
	rm -rf $(VENV) build *.egg-info src/*.egg-info
