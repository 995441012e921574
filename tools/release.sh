#!/bin/bash
# Makes the program for a rescue stick: one file, statically linked, stripped. It needs nothing at run time but a kernel: no library, no
# interpreter, no data file. Prints its place and its size. Needs: the Rust toolchain, a C linker with the static C library (Debian: gcc, libc6-dev).
set -euo pipefail
cd "$(dirname "$0")/.."
target=$(uname -m)-unknown-linux-gnu
# With a target named, the flag is for the program alone, and not for what runs while it is built.
export RUSTFLAGS="-C target-feature=+crt-static -C relocation-model=static -C strip=symbols"
cargo build --release --locked --quiet --target "$target" --bin schwelle
program=${CARGO_TARGET_DIR:-$PWD/target}/$target/release/schwelle
# "interpreter" would be the loader of shared libraries.
if readelf --program-headers --dynamic "$program" | grep -E 'INTERP|NEEDED'; then
    echo "$program needs something at run time" >&2
    exit 1
fi
# And it does the whole job where there is nothing else.
empty=$(mktemp -d)
trap 'rm -rf "$empty"' EXIT
cp "$program" "$empty/schwelle"
unshare --map-root-user chroot "$empty" /schwelle demo /demo --quiet
echo "$program: $(stat -c %s "$program") bytes, statically linked, stripped"
