#!/bin/bash
# Fuzzes every target for SECONDS each (default 60), or those that are named: tools/fuzz.sh [SECONDS [TARGET...]]
# Needs: a nightly Rust toolchain, a C++ compiler, and cargo-fuzz (cargo install cargo-fuzz).
set -euo pipefail
cd "$(dirname "$0")/.."
seconds=${1:-60}
shift || true
cargo run --release --quiet -p schwelle-fuzz --example seeds -- fuzz/corpus
targets=${*:-$(cargo +nightly fuzz list)}
failed=""
for target in $targets; do
    echo "== $target"
    # A slow input (10 s) and a greedy one (1 GiB) count as found.
    cargo +nightly fuzz run --sanitizer none "$target" -- -max_total_time="$seconds" -timeout=10 -rss_limit_mb=1024 -malloc_limit_mb=256 \
        -max_len=65536 -print_final_stats=1 -verbosity=0 || failed="$failed $target"
done
[ -z "$failed" ] || { echo "found something:$failed (the inputs are in fuzz/artifacts)" >&2; exit 1; }
