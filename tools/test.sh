#!/bin/sh
# Runs all tests: formatting, lints, and every test, those judged by foreign programs included (installed where missing).
set -eu
cd "$(dirname "$0")/.."
# One build for all: the program that the tests drive is linked as the one for the stick is, and goes onto it.
CARGO_BUILD_TARGET=$(uname -m)-unknown-linux-gnu
. tools/flags.sh
RUSTFLAGS=$(flags "$PWD" "${CARGO_TARGET_DIR:-$PWD/target}")
# A test that fails says where without line tables, and they take time to build.
CARGO_PROFILE_DEV_DEBUG=none
export CARGO_BUILD_TARGET RUSTFLAGS CARGO_PROFILE_DEV_DEBUG
built=${CARGO_TARGET_DIR:-$PWD/target}/$CARGO_BUILD_TARGET/debug
scratch=$(mktemp -d)
# The emulator of the tests, a user without rights, goes through it.
chmod 711 "$scratch"
install=
pc=
fleet=
# shellcheck disable=SC2329 # called by the trap
leave() {
    # shellcheck disable=SC2086 # none, one or more
    kill $install $pc $fleet 2>/dev/null || true
    umount -l "$scratch/files" 2>/dev/null || true
    rm -rf "$scratch"
}
trap leave EXIT
# What runs beside the rest: its output is shown when it has ended.
beside() { "$@" >"$scratch/$(basename "$1")" 2>&1 & }
ended() {
    status=0
    wait "$1" || status=$?
    cat "$scratch/$2"
    return "$status"
}
# The network works while the compiler does.
beside sh -ec "tools/install-test-tools.sh; tools/windows.sh packages"
install=$!
cargo fmt --all --check
cargo clippy --workspace --all-targets --locked -- -D warnings
# The command line and the fuzz targets have no public face.
RUSTDOCFLAGS="-D warnings" cargo doc --workspace --exclude schwelle --exclude schwelle-fuzz --no-deps --locked --quiet
cargo test --workspace --locked --no-run
ended "$install" sh
install=
# The tests write and flush many disks. A file system of their own, without write barriers, spares them the waiting. It lies on
# the disk, since a job folder in memory is refused, and gives back what files that are gone held there.
truncate -s 24G "$scratch/disk"
mkfs.ext4 -q -O ^has_journal "$scratch/disk"
mkdir "$scratch/files"
mount -o loop,noatime,nobarrier,discard "$scratch/disk" "$scratch/files"
# Deeper than job folders are looked for on a medium: the tests' disks have the same names, and one would find the other's.
export TMPDIR=$scratch/files/deeper/than/any/job
mkdir -p "$TMPDIR"
# A virtual PC: the rescue stick on real firmware and buses, with faults and power cuts. More cuts are in the longer forms. It
# waits as often as it works, as many of the tests do: all of them go on at once.
export SCHWELLE="$built/schwelle" PC_DISKS="$built/examples/pc_disks"
beside tools/pc-test.sh
pc=$!
RUST_TEST_THREADS=$(($(nproc) * 2)) cargo test --workspace --locked
tools/alone.sh "$built/schwelle"
# The one that the tests drive has features that only they ask for.
tools/reproducible.sh
ended "$pc" pc-test.sh
pc=
# The plays for many PCs, by the real engine, and PCs started from the network; meanwhile a whole Linux, on real firmware in both
# modes.
export FIRST_START="$built/examples/first_start"
beside sh -ec "tools/fleet-test.sh; tools/network-test.sh"
fleet=$!
BESIDE_LINUX="$built/examples/beside_linux" tools/linux-test.sh
ended "$fleet" sh
fleet=
# The program for Windows, under Wine, beside the one for Linux.
tools/windows.sh test
