# What one can do here; plain `make` lists it.
.DEFAULT_GOAL := help
.PHONY: help setup setup-test demo test lint format bench accuracy shots film soak fuzz

help: ## this list
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

setup: ## install what running needs (ffmpeg)
	@sh scripts/setup.sh run

setup-test: ## install what the tests need (ffmpeg, Chromium, Node packages)
	@sh scripts/setup.sh test

demo: setup ## build and serve the demo project on 127.0.0.1
	cargo run --release --locked -p fennik -- demo

test: setup-test ## run all tests, the browser's included
	cargo test --workspace --locked

# What the page's scripts, styles and tests are written by.
SCRIPTS = "crates/app/static/js/**/*.js" "crates/app/static/css/*.css" "e2e/**/*.mjs" "e2e/*.ts"

lint: setup-test ## rustfmt, clippy, the scripts' types and prettier; warnings are errors
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --locked -- -D warnings
	e2e/node_modules/.bin/tsc -p e2e/tsconfig.json
	e2e/node_modules/.bin/prettier --check --log-level warn --ignore-path .prettierignore $(SCRIPTS)

format: setup-test ## write everything as lint wants it
	cargo fmt --all
	e2e/node_modules/.bin/prettier --write --log-level warn --ignore-path .prettierignore $(SCRIPTS)

bench: setup ## time tracking, solving and rendering: on the demo clip, then small workloads by themselves (criterion)
	cargo run --release --locked -p fennik -- bench
	cargo bench --locked -p fennik-core --bench camera -p fennik-render --bench frame

accuracy: setup ## solve clips with known cameras, print the table and put it into docs/numerics.md (CLIPS=DIR adds more)
	cargo run --release --locked -p fennik -- accuracy --write docs/numerics.md $(if $(CLIPS),--clips $(CLIPS))

soak: setup ## random edits, jobs, looks, kills and full disks for a while (MINUTES=10), and nothing may be lost
	FENNIK_SOAK_MINUTES=$(or $(MINUTES),10) cargo test --release --locked -p fennik --test soak -- --nocapture

fuzz: ## coverage-guided fuzzing of what reads from outside (MINUTES=10 for each, TARGETS="recipe upload" for some)
	@sh scripts/setup.sh fuzz
	@MINUTES=$(or $(MINUTES),10) TARGETS="$(TARGETS)" sh scripts/fuzz.sh

film: setup ## make the demo's clips, their truth and their analyses again (an hour or more)
	cargo run --release --locked -p fennik-demo --bin film -- crates/demo/assets
	cargo run --release --locked -p fennik -- demo --make-analyses crates/demo/assets

shots: setup-test ## make docs/screenshots again
	cargo build --release --locked -p fennik
	node e2e/screenshots.mjs
	node e2e/screenshots-belonging.mjs
