# Mic Lane. `make demo` and `make test` need nothing but Python 3.11; everything else is set up here.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
BIN := .venv/bin
ARGS ?=
export OPENBLAS_NUM_THREADS = 1
COMPILE = CUSTOM_COMPILE_COMMAND="make lock" $(BIN)/pip-compile -q --generate-hashes --no-emit-index-url --no-emit-find-links \
	--no-emit-trusted-host --no-emit-options --strip-extras --allow-unsafe

# All of it at once on all cores, whatever the environment says: a start that compiles for itself takes twice as long.
COMPILED = env -u PYTHONDONTWRITEBYTECODE $(BIN)/python -m compileall -q -j 0 .venv/lib src > .compiled.log 2>&1 || true

.PHONY: demo test browser-test other-test bench check check-python check-pages warm lock style song shots curves

.venv/run.stamp: requirements/run.lock pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11) and "Mic Lane needs Python 3.11; set PYTHON=/path/to/python3.11")'
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@echo "Setting up .venv (once, about a minute) ..."
	@$(BIN)/pip install -q --no-compile --disable-pip-version-check --require-hashes -r requirements/run.lock
	@$(BIN)/pip install -q --no-compile --disable-pip-version-check --no-build-isolation --no-deps -e .
	@$(COMPILED)
	@touch $@

.venv/dev.stamp: requirements/dev.lock .venv/run.stamp
	@$(BIN)/pip install -q --no-compile --disable-pip-version-check --require-hashes -r requirements/dev.lock
	@$(COMPILED)
	@touch $@

demo: .venv/run.stamp  ## start with the demo song; ARGS="--data DIR --port N"
	@$(BIN)/miclane demo $(ARGS)

test: warm  ## all tests, browser tests included
	@tools/need-chromium
	@$(if $(ARGS),$(BIN)/python -m pytest $(ARGS),$(MAKE) -s -j2 --output-sync=target browser-test other-test)

browser-test:
	@$(BIN)/python -m pytest -m browser

other-test:  # beside the browser's, which play in real time and so go first
	@MICLANE_MEASURE=at-once $(shell command -v chrt >/dev/null && echo chrt --idle 0) $(BIN)/python -m pytest -m "not browser" -n 2 --dist worksteal

bench: .venv/dev.stamp  ## speed as ratios taken in one run
	@$(BIN)/python -m bench $(ARGS)

check: check-python check-pages  ## ruff, mypy, import-linter, deptry, djlint, eslint, tsc; `make -j2 check` is quicker
	@echo "make check: all is well"

check-python: .venv/dev.stamp
	@$(BIN)/ruff check src tests bench tools
	@$(BIN)/ruff format -q --check src tests bench
	@$(BIN)/mypy

check-pages: .venv/dev.stamp node_modules/.package-lock.json
	@$(BIN)/lint-imports --no-logo > .lint-imports.log 2>&1 || (cat .lint-imports.log; exit 1)
	@$(BIN)/deptry src > .deptry.log 2>&1 || (cat .deptry.log; exit 1)
	@$(BIN)/djlint --quiet --lint src/miclane/web/templates
	@node_modules/.bin/eslint src/miclane/web/static/js
	@node_modules/.bin/tsc -p .

warm: .venv/dev.stamp  ## compile the sound engine, once
	@$(BIN)/miclane warm

node_modules/.package-lock.json: package.json package-lock.json
	@tools/need-node
	@npm ci --silent --no-audit --no-fund > .npm.log 2>&1 || (cat .npm.log; exit 1)

lock: .venv/dev.stamp  ## pin every dependency anew
	@$(BIN)/pip install -q pip-tools
	$(COMPILE) --extra dev -o requirements/dev.lock pyproject.toml
	$(COMPILE) -c requirements/dev.lock -o requirements/run.lock pyproject.toml requirements/build.in

style:  ## compile the Tailwind sheet (needs Node; the result is committed)
	@tools/style

song: .venv/dev.stamp  ## make the demo song again (needs Festival; the result is committed)
	@$(BIN)/pip install -q 'pyworld==0.3.5'
	@$(BIN)/python tools/song/make.py src/miclane/demo/song

curves: .venv/run.stamp  ## draw docs/responses.svg again
	@$(BIN)/python tools/responses.py docs/responses.svg

shots: .venv/dev.stamp  ## take docs/screenshots again from the demo song
	@$(BIN)/python -m tools.shots docs/screenshots
