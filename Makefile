# The two commands of the README: 'make demo' and 'make test'. Everything else serves these.

CARGO ?= cargo
CONSOLE := console/dist/index.html
CONSOLE_SOURCES := $(shell find console -path console/node_modules -prune -o -path console/dist -prune -o -type f -print)

.PHONY: demo demo-anew programs test test-machine console types lint build bench screenshots clean

## Builds the programs, makes the sample office the first time, and runs its service.
demo: programs
	target/debug/jetfrost-demo demo/office

## As 'demo', with the office made again up to this hour.
demo-anew: programs
	rm -rf demo/office
	target/debug/jetfrost-demo demo/office

## What the demo needs, with the console built in, and nothing that only the tests use.
programs: console
	$(CARGO) build -p jetfrost-service -p jetfrost-cli -p jetfrost-demo

## Installs what the tests need, then checks format, lints and types, and runs all tests.
test: tools console lint build
	$(CARGO) test --workspace
	cd console && npm run --silent test

## A machine that is rebuilt by a rescue medium and started in an emulator: as root, some twenty minutes the first time.
test-machine: console
	tools/install-machine-test-tools
	tools/static-client dev
	$(CARGO) test -p jetfrost-tests --test machine -- --ignored

## The programs and the tests, with the console built in.
build: console
	$(CARGO) build --workspace --all-targets

console: $(CONSOLE)

$(CONSOLE): console/node_modules/.installed $(CONSOLE_SOURCES)
	cd console && npm run --silent build

console/node_modules/.installed: console/package.json console/package-lock.json
	tools/need-node
	cd console && npm ci --no-audit --no-fund --silent
	touch $@

.PHONY: tools
tools:
	tools/install-test-tools

lint: console
	$(CARGO) fmt --all --check
	$(CARGO) clippy --workspace --all-targets -- -D warnings
	cd console && npm run --silent lint && npm run --silent check
	tools/licences

## The API's document, the console's types and the Rust client's calls, after the API changed.
types: build
	target/debug/jetfrostd openapi > console/openapi.json
	cd console && npm run --silent types
	UPDATE_CALLS=1 $(CARGO) test -p jetfrost-tests --test e2e the_calls_of_the_rust_client

## Ratios against what the machine itself can do; see docs/performance.md.
bench: console
	$(CARGO) build --release -p jetfrost-cli -p jetfrost-service -p jetfrost-benches
	target/release/jetfrost-bench

## The pictures in docs/screenshots, from a fresh sample office.
screenshots: build
	tools/screenshots

clean:
	$(CARGO) clean
	rm -rf console/dist console/node_modules demo/office
