# Two commands: `make demo` starts Pine Cart with sample data, `make test` runs everything. Both do all set-up first.
# Each step hangs on a stamp, so a second time costs nothing.
PYTHON ?= python3
BIN := .venv/bin
STAMPS := .stamps
DEMO_DATA ?= .pinecart/demo
PORT ?= 8750
PY_SOURCES := $(shell find src -name '*.py')
CONSOLE_SOURCES := $(shell find console/src console/public -type f -not -name schema.d.ts) console/index.html console/vite.config.ts console/package.json
BUILT := src/pinecart/service/console_built/index.html
RUN_STAMP := $(STAMPS)/run-$(shell cat requirements/run.txt pyproject.toml | cksum | cut -d' ' -f1)
TEST_STAMP := $(STAMPS)/test-$(shell cat requirements/test.txt pyproject.toml | cksum | cut -d' ' -f1)
NODE_STAMP := $(STAMPS)/node-$(shell cat console/package-lock.json console/package.json | cksum | cut -d' ' -f1)
APT_STAMP := $(STAMPS)/apt-packages
DEBIAN := openssh-server apache2-bin apache2-utils samba chromium fonts-dejavu-core memcached libeatmydata1 exfat-fuse exfatprogs ntfs-3g

.PHONY: setup demo test test-all check pytest console-test wheel schema lock bench soak clean console screenshots

setup: $(RUN_STAMP) $(BUILT)

console: $(BUILT)

demo: setup
	@if [ "$(FRESH)" = 1 ]; then rm -rf "$(DEMO_DATA)" "$(DEMO_DATA)-files"; fi
	@mkdir -p $(dir $(DEMO_DATA))
	@exec $(BIN)/pinecart demo --data "$(DEMO_DATA)" --port $(PORT)

$(STAMPS):
	@mkdir -p $@

.venv/bin/uv:
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info[:2] < (3, 11))' || { echo "Pine Cart needs Python 3.11 or newer."; exit 1; }
	@$(PYTHON) -m venv .venv
	@$(BIN)/python -m pip install -q --disable-pip-version-check uv

$(RUN_STAMP): .venv/bin/uv | $(STAMPS)
	@echo "Installing what Pine Cart needs to run…"
	@$(BIN)/uv pip install -q --compile-bytecode --require-hashes -r requirements/run.txt
	@$(BIN)/uv pip install -q --no-deps -e .
	@$(BIN)/python -m compileall -q src
	@touch $@

$(TEST_STAMP): $(RUN_STAMP)
	@echo "Installing what its tests need…"
	@$(BIN)/uv pip install -q --compile-bytecode --require-hashes -r requirements/test.txt
	@touch $@

$(NODE_STAMP): | $(STAMPS)
	@echo "Installing what the console needs…"
	@cd console && npm ci --silent --no-fund --no-audit
	@touch $@

console/src/api/schema.d.ts: docs/api.yml $(NODE_STAMP)
	@cd console && npm run -s gen >/dev/null

$(BUILT): $(NODE_STAMP) $(RUN_STAMP) $(CONSOLE_SOURCES) console/src/api/schema.d.ts
	@echo "Building the console…"
	@cd console && npm run -s build -- --logLevel error
	@$(BIN)/python -m whitenoise.compress -q src/pinecart/service/console_built >/dev/null
	@touch $@

$(APT_STAMP): | $(STAMPS)
	@if ! dpkg -s $(DEBIAN) >/dev/null 2>&1; then \
	  if [ "$$(id -u)" = 0 ]; then \
	    echo "Installing $(DEBIAN)…"; apt-get update -q >/dev/null && DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $(DEBIAN) >/dev/null; \
	  else \
	    echo "The browser tests need: sudo apt-get install --no-install-recommends $(DEBIAN)"; exit 1; \
	  fi; \
	fi
	@touch $@

test: setup $(TEST_STAMP) $(APT_STAMP) check console-test pytest

check: $(TEST_STAMP) $(BUILT)
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports
	@! grep -q '"resolved"' console/package-lock.json || { echo "package-lock.json records download addresses"; exit 1; }

console-test: $(BUILT)
	cd console && npm run -s typecheck && npm run -s lint && npm run -s test

pytest: $(TEST_STAMP) $(APT_STAMP) $(BUILT)
	$(BIN)/pytest -n 2 --dist loadgroup

test-all: export PINECART_ALL = 1
test-all: test

schema: $(TEST_STAMP)
	PINECART_DATA=/nonexistent DJANGO_SETTINGS_MODULE=pinecart.service.config.settings $(BIN)/python -m django spectacular --validate --fail-on-warn --file docs/api.yml

soak: $(TEST_STAMP) $(APT_STAMP)
	PINECART_SOAK=$(or $(SEEDS),100) $(BIN)/pytest -n 2 --dist loadgroup tests/runner/test_whatever_happens.py tests/runner/test_flipped_bits.py tests/servers/test_swift_faults.py tests/whole/test_kills.py tests/whole/test_fuzz.py tests/whole/test_audits.py

wheel: $(TEST_STAMP) $(BUILT)
	@rm -rf dist build
	@$(BIN)/python -m build --wheel --no-isolation -o dist . >/dev/null
	@ls dist/*.whl

lock: .venv/bin/uv
	$(BIN)/uv pip compile -q --generate-hashes --no-emit-index-url --no-header --no-annotate --extra demo pyproject.toml -o requirements/run.txt
	$(BIN)/uv pip compile -q --generate-hashes --no-emit-index-url --no-header --no-annotate --extra test -c requirements/run.txt pyproject.toml -o requirements/test.txt

bench: setup $(TEST_STAMP)
	$(BIN)/python -m bench

screenshots: $(TEST_STAMP) $(APT_STAMP)
	$(BIN)/python docs/screenshots/take.py http://127.0.0.1:$(PORT) "$$(cat $(DEMO_DATA)-files/password)"

clean:
	rm -rf $(STAMPS) .venv console/node_modules src/pinecart/service/console_built dist build
