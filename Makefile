# make demo    start the platform with the Larkfield Lockers demo
# make test    every test, the console's in headless Chromium included
# make build   target/debug/mainyard, or with PROFILE=release target/release/mainyard
# make bench   measure, and print tables; docs/benchmarks.md keeps them; FUZZ (seconds) says how long requests and tables
#              are mutated
# make attack  every attack that we know, in its long form: all spellings of all paths, floods, and programs from Debian's
#              packages that try to get out
# make fuzz     every parser that a stranger reaches, FUZZ_SECONDS each (600); needs cargo-fuzz: cargo install cargo-fuzz
# make torture  changes of less usual kinds at random, under visitors who count; CHANGES says how many (60)
# make openapi-test  an independent tester makes requests from the API's OpenAPI document, SECONDS long (300), and holds
#              each answer against it; needs python3 with venv and the Python package index
# make soak    every process killed again and again under load, ten minutes without control and record, half an hour of
#              scales and deploys with a look at what could grow, 10,000 simulated runs, and 10,000 declarations while the
#              leader is killed; FAULTS, OUTAGE (seconds), MINUTES, SEEDS and WRITES (by each of 200) say how much of each
# make real    images of unmodified Debian packages run as workloads, under load; prints a table; REAL names some of them (web,store),
#              REQUESTS says under how many requests each web server is rolled out (at least three times);
#              needs mmdebstrap, musl-tools and Debian's packages from the network
# make real-code  code trees with packages of the registries are built, sent, changed and sent again; prints a table; REAL names
#              some of them (python,nodejs,pages,rust); needs python3-pip, and the registries from the network
# make check   the quick look before a commit: formatting, lints of the core, its tests; `make hook` runs it before each commit
# make advisories  asks the registries for known weaknesses in packages and crates; needs the network
# make lint    formatting, lints and documentation, warnings refused; licences, sources and versions of what it is built from

PROFILE ?= debug
FAULTS ?= 20
SEEDS ?= 10000
OUTAGE ?= 600
MINUTES ?= 30
FUZZ ?= 60
FUZZ_SECONDS ?= 600
CHANGES ?= 60
WRITES ?= 50
SECONDS ?= 300
CARGO_PROFILE = $(if $(filter release,$(PROFILE)),--release,)
# The console's types of the API are made when it is built, from the OpenAPI document.
CONSOLE_SOURCES = docs/openapi.json $(shell find console -path console/node_modules -prune -o -path console/dist -prune -o \
	-name schema.d.ts -prune -o -type f -print)

# What make builds is built once, and sooner without the notes that make a second build of the same crate quicker. Cargo by
# itself keeps them, for those who change the code; both may be used in turn.
export CARGO_INCREMENTAL ?= 0

REAL ?=
REQUESTS ?= 0
.PHONY: demo test build bench attack real real-code fuzz torture openapi-test soak check hook advisories lint setup setup-test

demo: build
	@echo "== starting the platform with the demo; Ctrl-C ends it"
	target/$(PROFILE)/mainyard start --demo --database --code

build: setup console/dist/index.html
	@echo "== building the platform ($(PROFILE)); the first time takes a few minutes"
	cargo build $(CARGO_PROFILE) --bin mainyard

test: setup-test console/dist/index.html
	@echo "== building the tests"
	cargo test --workspace --no-run
	@echo "== tests"
	scripts/test.sh

# Of all crates at once: asked for one by one, cargo would build what they share again for each.
BENCHES = platform sizes rollouts large_image sources forward overload secure table large_record
bench: setup console/dist/index.html
	cargo bench --workspace --no-run $(BENCHES:%=--bench %)
	set -e; for bench in $(BENCHES); do MAINYARD_FUZZ=$(FUZZ) cargo bench --workspace --bench $$bench; done

attack: setup-test console/dist/index.html
	MAINYARD_ATTACK=long cargo test --package mainyard --test attacks -- --nocapture
	cargo test --package mainyard-images --test attacks -- --nocapture
	cargo test --package mainyard-git --test attacks -- --nocapture
	cargo test --package mainyard-gateway --test gateway -- --nocapture
	cargo test --package mainyard-runtime --test isolation -- --nocapture

fuzz:
	set -e; for target in $$(cd fuzz && cargo fuzz list); do \
		mkdir -p fuzz/corpus/$$target; \
		RUSTC_BOOTSTRAP=1 cargo fuzz run $$target $(CURDIR)/fuzz/corpus/$$target $(CURDIR)/fuzz/seeds/$$target -- -max_total_time=$(FUZZ_SECONDS) -rss_limit_mb=4096; \
	done

torture: setup-test console/dist/index.html
	MAINYARD_TORTURE=$(CHANGES) cargo test --package mainyard --test platform odd_changes -- --nocapture --test-threads=1

openapi-test: build
	scripts/openapi-test.sh target/$(PROFILE)/mainyard $(SECONDS)

soak: setup-test console/dist/index.html
	MAINYARD_FAULTS=$(FAULTS) cargo test --package mainyard --test platform faults -- --nocapture --test-threads=2
	MAINYARD_OUTAGE=$(OUTAGE) cargo test --package mainyard --test platform outages -- --nocapture
	MAINYARD_SOAK=$(MINUTES) cargo test --package mainyard --test platform soak -- --nocapture
	MAINYARD_SEEDS=$(SEEDS) cargo test --package mainyard-sim -- --nocapture
	MAINYARD_WRITES=$(WRITES) cargo test --package mainyard-control --test two_controls -- --nocapture

real: setup-test console/dist/index.html
	@sh scripts/install-missing.sh for-real
	MAINYARD_REAL=$(REAL) MAINYARD_REQUESTS=$(REQUESTS) cargo test --package mainyard --test real real_software -- --ignored --nocapture

real-code: setup-test console/dist/index.html
	@sh scripts/install-missing.sh for-real
	MAINYARD_REAL=$(REAL) cargo test --package mainyard --test real code:: -- --ignored --nocapture

check:
	cargo fmt --all --check
	cargo clippy --package mainyard-core --all-targets -- --deny warnings
	cargo test --quiet --package mainyard-core
	cargo test --quiet --package testing --test house

hook:
	printf '#!/bin/sh\nexec make check\n' > .git/hooks/pre-commit
	chmod +x .git/hooks/pre-commit

lint: setup console/dist/index.html
	cargo fmt --all --check
	cargo clippy --workspace --all-targets -- --deny warnings
	RUSTDOCFLAGS="--deny warnings" cargo doc --quiet --workspace --no-deps --document-private-items
	cargo test --quiet --workspace --test dependencies
	cd console && npm run --silent lint

advisories: console/node_modules
	scripts/advisories.sh

setup:
	@sh scripts/install-missing.sh

setup-test:
	@sh scripts/install-missing.sh for-tests

console/node_modules: console/package.json console/package-lock.json
	@echo "== fetching the console's packages"
	cd console && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules $(CONSOLE_SOURCES)
	@echo "== building the console"
	cd console && npm run --silent build
