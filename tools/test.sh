#!/bin/sh
# Runs all tests: formatting, lints, and every test, those judged by foreign programs included (installed where missing).
set -eu
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
cargo fmt --all --check
cargo clippy --workspace --all-targets --locked -- -D warnings
RUSTDOCFLAGS="-D warnings" cargo doc --workspace --no-deps --locked --quiet
cargo test --workspace --locked
