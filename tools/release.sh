#!/bin/bash
# Makes the program for a rescue stick: one file, statically linked, stripped; shows that it works alone (alone.sh). Needs: the Rust
# toolchain, a C linker with the static C library (Debian: gcc, libc6-dev).
set -euo pipefail
cd "$(dirname "$0")/.."
target=$(uname -m)-unknown-linux-gnu
# With a target named, the flag is for the program alone, and not for what runs while it is built.
export RUSTFLAGS="-C target-feature=+crt-static -C relocation-model=static -C strip=symbols"
cargo build --release --locked --quiet --target "$target" --bin schwelle
tools/alone.sh "${CARGO_TARGET_DIR:-$PWD/target}/$target/release/schwelle"
