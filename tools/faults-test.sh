#!/bin/sh
# faults-test.sh [EVERY]: the built program with input and output that fails: each operation on the disk and in the job folder, or
# one in EVERY of them, in convert, resume, undo, confirm and the reading commands. A tracer returns the errors.
set -eu
cd "$(dirname "$0")/.."
program=${SCHWELLE:-${CARGO_TARGET_DIR:-$PWD/target}/debug/schwelle}
[ -n "${SCHWELLE:-}" ] || cargo build --quiet --bin schwelle
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cc -O1 -o "$work/faults" tools/faults/faults.c
exec python3 tools/faults_test.py "$program" "$work" "${1:-1}"
