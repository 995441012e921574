#!/bin/sh
# Runs all tests: formatting, lints, and every test, those judged by foreign programs included (installed where missing).
set -eu
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
cargo fmt --all --check
cargo clippy --workspace --all-targets --locked -- -D warnings
# The command line and the fuzz targets have no public face.
RUSTDOCFLAGS="-D warnings" cargo doc --workspace --exclude schwelle --exclude schwelle-fuzz --no-deps --locked --quiet
cargo test --workspace --locked
# A virtual PC: the rescue stick on real firmware and buses, with faults and power cuts. More cuts are in the longer forms.
tools/pc-test.sh
