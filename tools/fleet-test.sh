#!/bin/bash
# The plays in fleet/ with the real engine, against five SSH servers on the loopback address, each with an image of its own: two
# are ready, one is blocked, one is converted already, one fails half-way by a write error. And the engine's own linter.
# Needs root (for the servers), and what tools/install-test-tools.sh installs.
set -euo pipefail
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
if [ -z "${SCHWELLE:-}" ]; then
    cargo build --quiet --locked -p schwelle
    export SCHWELLE=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/debug/schwelle
fi
if [ -z "${FIRST_START:-}" ]; then
    cargo build --quiet --locked -p schwelle-demo --example first_start
    export FIRST_START=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/debug/examples/first_start
fi
exec /usr/bin/python3 tools/fleet_test.py
