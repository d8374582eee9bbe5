# Two commands: `make demo` and `make test`. Both do all set-up by themselves; a second time is quick.
PYTHON ?= python3
BIN := .venv/bin
CONSOLE := src/phylax/service/console/index.html
TYPES := console/src/lib/api/schema.d.ts

.PHONY: demo demo-fresh test check mutants dates attack lint bench shots wheel setup console contract clean help

help:
	@echo "make demo        the made-up shop, alive, at http://127.0.0.1:8610"
	@echo "make demo-fresh  the same, made anew"
	@echo "make test        everything that must hold"
	@echo "make check       core and store; one test file: make check FILE=tests/core/test_retention.py"
	@echo "make mutants     whether the tests notice decisions that are taken wrongly"
	@echo "make dates       what touches dates, at a dozen chosen days"
	@echo "make attack      hostile homes, as many as SEEDS says, and kills"
	@echo "make lint        style and types"
	@echo "make bench       what is measured, against what"
	@echo "make wheel       what is installed on machines and servers"
	@echo "make shots       the pictures in docs/screenshots, from the demo's data"

demo: setup console
	@$(BIN)/phylax demo

demo-fresh: setup console
	@$(BIN)/phylax demo --fresh

# Two at a time on each processor: half of a test's time is waiting.
WORKERS ?= $(shell $(PYTHON) -c 'import os; print(2 * (os.cpu_count() or 1))')
test: setup console .windows/.ready .debian/.ready
	@sh tools/debian-packages.sh tmux zsh fish chromium chromium-headless-shell gio age mkfs.ext4 mount systemd-analyze prometheus promtool \
		dbus-run-session dconf gdbus /usr/libexec/xdg-permission-store \
		/usr/libexec/power-profiles-daemon /usr/lib/python3/dist-packages/dbusmock \
		mkfs.xfs mkfs.btrfs mkfs.vfat clamd smartctl apt-ftparchive dpkg-scanpackages losetup e4defrag pdfinfo
	$(BIN)/lint-imports
	$(BIN)/pytest -n $(WORKERS)

# Core and store, or what is being worked on: make check FILE=tests/core/test_retention.py
FILE ?= tests/core tests/store
check: .venv/.ready
	$(BIN)/ruff check src tests
	$(BIN)/pytest -q -n $(WORKERS) $(FILE)

# An hour on a small machine: the tests of everything but agents on real files, twelve times.
dates: setup console
	$(BIN)/python tools/dates.py $(DAYS)

SEEDS ?= 1000
attack: setup
	@sh tools/debian-packages.sh mkfs.ext4 mount
	PHYLAX_ATTACK_SEEDS=$(SEEDS) $(BIN)/pytest -n 2 tests/attack/test_hostile_homes.py
	PHYLAX_KILL_SECONDS=180 $(BIN)/pytest tests/service/test_killed.py
	PHYLAX_KILL_ROUNDS=40 $(BIN)/pytest -n 2 tests/agent/test_faults.py -k killed

LINUX_ONLY := agent/(machines/linux|workers|privileged|files/posix|hold/index|tuning/posix)
lint: setup console
	$(BIN)/ruff check src tests bench tools
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/mypy
	$(BIN)/mypy --platform win32 --follow-imports silent --exclude '$(LINUX_ONLY)'
	cd console && npm run --silent check && npm run --silent lint

# Some minutes: each fault in a copy of the tree, with the tests that should fail because of it.
mutants: setup console
	$(BIN)/python -m bench.mutants

bench: setup
	$(BIN)/python -m bench

shots: setup console
	@sh tools/debian-packages.sh chromium-headless-shell xterm Xvfb import
	$(BIN)/python tools/shots.py

setup: .venv/.ready

.venv/.ready: pyproject.toml constraints.txt
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Phylax needs Python 3.11 or newer; say make PYTHON=...")'
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev]'
	touch $@

# a Windows Python with the agent's libraries, run under Wine by tests/windows
.windows/.ready: constraints.txt $(wildcard tools/windows/*) .venv/.ready
	@sh tools/debian-packages.sh wine x86_64-w64-mingw32-gcc
	$(BIN)/python tools/windows/lay_out.py .windows
	touch $@

# a Debian system that tests boot, with the agent's libraries in it
.debian/.ready: constraints.txt $(wildcard tools/debian/*) .venv/.ready
	@sh tools/debian-packages.sh mmdebstrap systemd-nspawn
	$(BIN)/python tools/debian/lay_out.py .debian
	touch $@

console: $(CONSOLE)

console/node_modules/.ready: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

$(TYPES): docs/openapi.json console/node_modules/.ready
	cd console && npm run --silent types >/dev/null

$(CONSOLE): $(TYPES) $(shell find console/src console/static -type f -not -name schema.d.ts -not -path "*/fonts/*") console/fonts.mjs console/svelte.config.js console/vite.config.ts
	cd console && npm run --silent build >build.log 2>&1 || (cat build.log; false)

# After a change of routes or wire types: the contract that tests and the console hold to.
contract: setup
	$(BIN)/python -m phylax.service.serving.contract > docs/openapi.json
	$(BIN)/python -m tools.outputs
	$(BIN)/python -m tools.aio

# What is installed on machines and servers, with the console in it.
wheel: setup console
	$(BIN)/python -m hatchling build -t wheel

clean:
	rm -rf dist .venv .windows .debian console/node_modules console/.svelte-kit console/build.log src/phylax/service/console $(TYPES)
