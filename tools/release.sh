#!/bin/bash
# Makes a release in target/release-VERSION: the program as one file, statically linked and stripped, which is shown to work alone
# (alone.sh); its checksum; and the release notes, which are the version's part of the changelog. Needs: the Rust toolchain, a C
# linker with the static C library (Debian: gcc, libc6-dev).
set -euo pipefail
cd "$(dirname "$0")/.."
machine=$(uname -m)
target=$machine-unknown-linux-gnu
# With a target named, the flag is for the program alone, and not for what runs while it is built.
export RUSTFLAGS="-C target-feature=+crt-static -C relocation-model=static -C strip=symbols"
cargo build --release --locked --quiet --target "$target" --bin schwelle
program=${CARGO_TARGET_DIR:-$PWD/target}/$target/release/schwelle
tools/alone.sh "$program"
version=$("$program" --version | cut -d' ' -f2)
out=${CARGO_TARGET_DIR:-$PWD/target}/release-$version
rm -rf "$out"
mkdir -p "$out"
cp "$program" "$out/schwelle-$version-$machine-linux"
# From the version's heading to the next one.
awk -v heading="## [$version]" 'index($0, heading) == 1 { on = 1; next } /^## / { on = 0 } on' CHANGELOG.md \
    | sed -e '1{/^$/d}' >"$out/RELEASE-NOTES.md"
[ -s "$out/RELEASE-NOTES.md" ] || { echo "the changelog has nothing about version $version" >&2; exit 1; }
(cd "$out" && sha256sum "schwelle-$version-$machine-linux" RELEASE-NOTES.md >SHA256SUMS && sha256sum --check --quiet SHA256SUMS)
echo "$out: $(ls "$out" | tr '\n' ' ')"
