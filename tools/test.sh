#!/bin/sh
# Runs all tests: formatting, lints, and every test, those judged by foreign programs included (installed where missing).
set -eu
cd "$(dirname "$0")/.."
# One build for all: the program that the tests drive is linked as the one for the stick is, and goes onto it.
CARGO_BUILD_TARGET=$(uname -m)-unknown-linux-gnu
RUSTFLAGS="-C target-feature=+crt-static"
export CARGO_BUILD_TARGET RUSTFLAGS
tools/install-test-tools.sh
# The tests write and flush many disks. A file system of their own, without write barriers, spares them the waiting. It lies on
# the disk, since a job folder in memory is refused, and gives back what files that are gone held there.
scratch=$(mktemp -d)
# shellcheck disable=SC2329 # called by the trap
leave() {
    [ -z "${pc:-}" ] || kill "$pc" 2>/dev/null || true
    umount -l "$scratch/files"
    rm -rf "$scratch"
}
trap leave EXIT
truncate -s 24G "$scratch/disk"
mkfs.ext4 -q -O ^has_journal "$scratch/disk"
mkdir "$scratch/files"
mount -o loop,noatime,nobarrier,discard "$scratch/disk" "$scratch/files"
# Deeper than job folders are looked for on a medium: the tests' disks have the same names, and one would find the other's.
export TMPDIR=$scratch/files/deeper/than/any/job
mkdir -p "$TMPDIR"
cargo fmt --all --check
cargo clippy --workspace --all-targets --locked -- -D warnings
# The command line and the fuzz targets have no public face.
RUSTDOCFLAGS="-D warnings" cargo doc --workspace --exclude schwelle --exclude schwelle-fuzz --no-deps --locked --quiet
cargo test --workspace --locked --no-run
built=${CARGO_TARGET_DIR:-$PWD/target}/$CARGO_BUILD_TARGET/debug
# A virtual PC: the rescue stick on real firmware and buses, with faults and power cuts. More cuts are in the longer forms. It
# waits as often as it works, as many of the tests do: all of them go on at once.
SCHWELLE=$built/schwelle PC_DISKS=$built/examples/pc_disks tools/pc-test.sh >"$scratch/pc-test" 2>&1 &
pc=$!
RUST_TEST_THREADS=$(($(nproc) * 2)) cargo test --workspace --locked
tools/alone.sh "$built/schwelle"
status=0
wait "$pc" || status=$?
pc=
cat "$scratch/pc-test"
exit "$status"
