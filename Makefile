# Neogenesis: make setup | demo | demo-offscreen | test | test-long | test-mutants | lint | package | bench | fuzz | screenshots
VENV   := .venv
PYTHON := $(VENV)/bin/python
STAMP  := $(VENV)/.ready

.PHONY: setup demo demo-offscreen test test-long test-mutants lint package bench fuzz screenshots clean

setup: $(STAMP)

$(STAMP): requirements/runtime.txt requirements/development.txt packaging/debian-packages.txt pyproject.toml
	sh packaging/setup-system
	test -x $(PYTHON) || python3 -m venv $(VENV)
	$(PYTHON) -m pip install --quiet --disable-pip-version-check -r requirements/development.txt setuptools==80.9.0
	$(PYTHON) -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(PYTHON) -m compileall -q src
	touch $(STAMP)

demo: $(STAMP)
	$(VENV)/bin/neogenesis demo

demo-offscreen: $(STAMP)
	$(PYTHON) -m neogenesis.app.pictures build/pictures

lint: $(STAMP)
	$(VENV)/bin/ruff check src tests packaging
	$(VENV)/bin/ruff format --check src tests packaging
	$(VENV)/bin/mypy
	$(VENV)/bin/lint-imports
	$(PYTHON) packaging/languages.py --check

test: lint
	$(VENV)/bin/pytest

# Long random journeys: state machines, random drives, faulty drives.
test-long: $(STAMP)
	NEOGENESIS_LONG=1 NEOGENESIS_RANDOM_DRIVES=40 $(VENV)/bin/pytest --timeout 3000 \
		tests/test_states.py tests/test_states_trust.py tests/test_states_device.py tests/test_states_window.py tests/test_random_drives.py tests/test_faulty.py tests/test_dying.py \
		tests/test_boot.py tests/test_reinstall.py tests/test_window_job.py tests/test_window_looks.py tests/test_package.py tests/test_media.py
	NEOGENESIS_LONG=1 $(VENV)/bin/pytest --timeout 3000 -m long

# Breaks the source in a copy, one thing after the other; each must be caught by a test.
test-mutants: $(STAMP)
	$(PYTHON) -m tests.mutants

# A Debian package with everything in it, in build/.
package: $(STAMP)
	$(PYTHON) packaging/make_deb.py build

bench: $(STAMP)
	$(PYTHON) -m compileall -q src
	$(PYTHON) -m tests.bench

fuzz: $(STAMP)
	$(PYTHON) -m pip install --quiet --disable-pip-version-check -r requirements/fuzz.txt
	$(PYTHON) -m tests.fuzz

screenshots: $(STAMP)
	$(PYTHON) -m neogenesis.app.pictures docs/screenshots

clean:
	rm -rf build $(VENV)
