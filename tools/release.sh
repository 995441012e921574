#!/bin/bash
# Makes a release in target/release-VERSION: the program as one file, statically linked and stripped, which is shown to work alone
# (alone.sh) and to be the same when it is built elsewhere (reproducible.sh); the archive and the Debian package of it (package.sh); the
# program for Windows, zipped (windows.sh); what it is made of (sbom.py); the release notes, which are the version's part of the
# changelog; and the checksums of all. The dependencies must pass deny.sh. Needs
# Debian, as root: the Rust toolchain, Python, strace, dpkg-deb, a C linker with the static C library (gcc, libc6-dev).
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/flags.sh
tools/deny.sh
machine=$(uname -m)
target=$machine-unknown-linux-gnu
into=${CARGO_TARGET_DIR:-$PWD/target}
export MORE_RUSTFLAGS="-C relocation-model=static -C strip=symbols"
# With a target named, the flags are for the program alone, and not for what runs while it is built.
RUSTFLAGS="$(flags "$PWD" "$into") $MORE_RUSTFLAGS" \
    cargo build --profile dist --locked --quiet --target "$target" --target-dir "$into" --bin schwelle
program=$into/$target/dist/schwelle
tools/alone.sh "$program"
tools/reproducible.sh "$program" --profile dist
version=$("$program" --version | cut -d' ' -f2)
out=$into/release-$version
rm -rf "$out"
mkdir -p "$out"
cp "$program" "$out/schwelle-$version-$machine-linux"
tools/sbom.py "$program" >"$out/schwelle-$version-$machine-linux.spdx.json"
tools/package.sh "$program" "$out"
tools/windows.sh
touch -d "@$(git log -1 --format=%ct)" "$into/windows/schwelle.exe"
(cd "$into/windows" && TZ=UTC python3 -m zipfile -c "$out/schwelle-$version-$machine-windows.zip" schwelle.exe)
# From the version's heading to the next one.
awk -v heading="## [$version]" 'index($0, heading) == 1 { on = 1; next } /^## / { on = 0 } on' CHANGELOG.md \
    | sed -e '1{/^$/d}' >"$out/RELEASE-NOTES.md"
[ -s "$out/RELEASE-NOTES.md" ] || { echo "the changelog has nothing about version $version" >&2; exit 1; }
echo "Built with $(rustc --version)." >>"$out/RELEASE-NOTES.md"
(cd "$out" && sha256sum -- * >SHA256SUMS && sha256sum --check --quiet SHA256SUMS)
echo "$out: $(ls "$out" | tr '\n' ' ')"
